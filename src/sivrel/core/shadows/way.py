"""What a way of casting shadows declares about itself."""

from typing import NamedTuple


class ShadowWay(NamedTuple):
    """key: its value in a recipe; code: its number in the kernels; title: as the pages write it; does and costs: what it
    does, and what it costs or how it fails, one sentence each."""

    key: str
    code: int
    title: str
    does: str
    costs: str
