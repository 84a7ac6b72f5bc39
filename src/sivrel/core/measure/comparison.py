"""Two pictures held against each other: in numbers, in their settings, and in what the eye sees."""

from dataclasses import dataclass
from typing import Any

from ..pictures.exr import Picture
from .difference import Difference, compare
from .noise import noise_level
from .verdict import Verdict, judge


@dataclass(frozen=True)
class Comparison:
    """Picture B against picture A. difference: numbers and changed settings; verdict: what the eye sees, and where; noise: what each picture
    states of itself, None where it is not known; exposure: in stops, that both are looked at with."""

    difference: Difference
    verdict: Verdict
    noise: tuple[float | None, float | None]
    exposure: float

    @property
    def sentence(self) -> str:
        """What the eye sees of the difference, in one sentence."""
        return self.verdict.sentence

    def as_dict(self) -> dict[str, Any]:
        return {
            "exposure": self.exposure, **self.difference.as_dict(), "noise": list(self.noise), "verdict": self.verdict.sentence,
            "share_seen": self.verdict.share, "places": [place.as_dict() for place in self.verdict.places],
        }  # fmt: skip


def compare_pictures(a: Picture, b: Picture, exposure: float | None = None) -> Comparison:
    """What differs from A to B; without an `exposure` at that of A's camera. Raises InputError where they share no pixels of one frame."""
    exposure = a.exposure if exposure is None else exposure
    verdict = judge(a, b, exposure)
    return Comparison(compare(a, b, exposure, verdict.visible), verdict, (noise_level(a), noise_level(b)), exposure)
