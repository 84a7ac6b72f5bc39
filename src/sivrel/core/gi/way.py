"""What a way of finding bounced light declares about itself."""

from typing import NamedTuple


class Way(NamedTuple):
    """One way of finding bounced light.

    key: its value in a recipe; code: its number in the kernels; title: as the pages write it
    seen, beyond: where it can be chosen
    does: what it does, one sentence; costs: what it costs or how it fails, one sentence
    bounces: whether paths go on, so that `beyond` and the bounce limits matter
    """

    key: str
    code: int
    title: str
    seen: bool
    beyond: bool
    does: str
    costs: str
    bounces: bool = True
