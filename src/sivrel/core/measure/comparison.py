"""Compares two pictures: in numbers, in settings, and by visible differences."""

from dataclasses import dataclass
from typing import Any

from ..pictures.exr import Picture
from .difference import Difference, compare
from .noise import noise_level
from .verdict import Verdict, judge


@dataclass(frozen=True)
class Comparison:
    """Picture B against picture A. difference: numbers and changed settings; verdict: the visible difference, and where; noise: the level each
    picture states, None if unknown; exposure: in stops, with which both are viewed."""

    difference: Difference
    verdict: Verdict
    noise: tuple[float | None, float | None]
    exposure: float

    @property
    def sentence(self) -> str:
        """The visible difference, in one sentence."""
        return self.verdict.sentence

    def as_dict(self) -> dict[str, Any]:
        return {
            "exposure": self.exposure, **self.difference.as_dict(), "noise": list(self.noise), "verdict": self.verdict.sentence,
            "share_seen": self.verdict.share, "places": [place.as_dict() for place in self.verdict.places],
        }  # fmt: skip


def compare_pictures(a: Picture, b: Picture, exposure: float | None = None) -> Comparison:
    """The differences from A to B; without an `exposure`, at that of A's camera. Raises InputError if they share no pixels of one frame."""
    exposure = a.exposure if exposure is None else exposure
    verdict = judge(a, b, exposure)
    return Comparison(compare(a, b, exposure, verdict.visible), verdict, (noise_level(a), noise_level(b)), exposure)
