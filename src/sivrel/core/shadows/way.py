"""What a way of casting shadows declares about itself."""

from collections.abc import Callable
from typing import Any, NamedTuple

from ..suspect import Suspect

FindSuspects = Callable[[Any, str, str, str, bool], list[Suspect]]


class ShadowWay(NamedTuple):
    """key: its value in a recipe; code: its number in the kernels; title: as shown on the pages; does and costs: what it
    does, and what it costs or how it fails, one sentence each.

    share: kernel (scene, stack, i, p, d, distance, target) -> share of light `i` that reaches `p`, see `ways.light_share`
    approximates: whether it approximates traced shadows: brute force traces them instead, and a diagnosis suspects it
    suspects: of the way with its settings, a `Shadow`: (shadow, flaw, what it is in words, key of its settings, whether it is of one light alone)
    not_for: kinds of lights it can't handle; their shadows are traced
    """

    key: str
    code: int
    title: str
    does: str
    costs: str
    share: Any
    approximates: bool = False
    suspects: FindSuspects | None = None
    not_for: tuple[str, ...] = ()
