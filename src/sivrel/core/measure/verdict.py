"""Where the eye sees a difference between two pictures, and of what kind, in words."""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from scipy import ndimage

from ..formats.exr import Picture
from .difference import PIXELS_PER_DEGREE, shared_part, visible_difference
from .noise import LUMINANCE

POOL = 8
"""Pixels a side over which the difference is pooled: an eighth of a degree. What is smaller is seen as grain, if at all."""
SEEN = 0.08
"""Pooled FLIP value from which a difference counts as seen: our choice. A patch that is two levels of 255 off its surround stays
below it (0.056), one that is four off lies above (0.093)."""
LEAST_SHARE = 0.0005
"""Share of the picture below which a place is not worth a word."""
MOST_PLACES = 4
CHANCE = 3.0
"""Standard errors that the mean of a place must differ by to be more than grain."""


@dataclass(frozen=True)
class Place:
    """A part of the picture where a difference is seen. box: left, top, right, bottom in pixels of the frame; share of the picture; visible:
    mean FLIP value; light: ratio of its luminance, None where it was black; grain: whether noise alone explains it; name: of the object
    that it mostly lies on, empty where nothing is known; where: in the picture, in words."""

    box: tuple[int, int, int, int]
    share: float
    visible: float
    light: float | None
    grain: bool
    name: str
    where: str

    @property
    def said(self) -> str:
        """The place in a few words."""
        what = f"{self.name}, {self.where}" if self.name else self.where
        if self.grain:
            return f"{what} (grain)"
        if self.light is None or abs(self.light - 1.0) < 0.02:
            return what
        return f"{what} ({(self.light - 1.0) * 100.0:+.0f} % light)".replace("-", "−")

    def as_dict(self) -> dict[str, Any]:
        return {**asdict(self), "said": self.said}


@dataclass(frozen=True)
class Verdict:
    """sentence: what the eye sees; places: where, the most visible first; share: of the picture that is seen to differ; visible: mean FLIP
    value; shown: the FLIP map float32 [rows, columns] of `window`, in pixels of the frame."""

    sentence: str
    places: list[Place]
    share: float
    visible: float
    shown: np.ndarray
    window: tuple[int, int, int, int]


def judge(a: Picture, b: Picture, exposure: float = 0.0) -> Verdict:
    """What a viewer sees of the change from A to B at PIXELS_PER_DEGREE, where they share pixels of one frame. Raises InputError where they
    share none."""
    a, b = shared_part(a, b)
    shown = visible_difference(a.beauty[..., :3], b.beauty[..., :3], exposure)
    labels, count = ndimage.label(where_seen(shown))
    share = float((labels > 0).mean())
    places = [_place(a, b, shown, labels == k) for k in _worst(shown, labels, count)]
    return Verdict(_sentence(places, share, float(shown.mean())), places, share, float(shown.mean()), shown, a.frame.window)


def where_seen(shown: np.ndarray, per_degree: float = PIXELS_PER_DEGREE) -> np.ndarray:
    """bool [rows, columns]: where the eye sees a difference, of a FLIP map at a viewing distance."""
    return ndimage.uniform_filter(shown, max(1, round(POOL * per_degree / PIXELS_PER_DEGREE)), mode="nearest") > SEEN


def _worst(shown: np.ndarray, labels: np.ndarray, count: int) -> list[int]:
    """The numbers of the places that hold most of the difference, worst first."""
    if count == 0:
        return []
    numbers = np.arange(1, count + 1)
    sums, sizes = ndimage.sum(shown, labels, numbers), ndimage.sum(np.ones_like(shown), labels, numbers)
    order = np.argsort(-np.asarray(sums))
    return [int(numbers[k]) for k in order if sizes[k] >= max(POOL * POOL, LEAST_SHARE * shown.size)][:MOST_PLACES]


def _place(a: Picture, b: Picture, shown: np.ndarray, inside: np.ndarray) -> Place:
    rows, columns = np.nonzero(inside)
    x0, y0 = a.frame.window[:2]
    box = (int(columns.min()) + x0, int(rows.min()) + y0, int(columns.max()) + 1 + x0, int(rows.max()) + 1 + y0)
    before, after = (float((p.beauty[inside][:, :3] @ LUMINANCE).mean()) for p in (a, b))
    numbers = b.passes["object"][inside][:, 0].astype(int) if "object" in b.passes else np.array([-1])
    numbers = numbers[(numbers >= 0) & (numbers < len(b.objects))]
    name = b.objects[int(np.bincount(numbers).argmax())].rstrip("/").rsplit("/", 1)[-1] if len(numbers) else ""
    return Place(
        box, float(inside.mean()), float(shown[inside].mean()), after / before if before > 0.0 else None, _is_grain(a, b, inside, after - before),
        name, where_in((rows.mean() + y0) / a.frame.height, (columns.mean() + x0) / a.frame.width, float(inside.mean())),
    )  # fmt: skip


def _is_grain(a: Picture, b: Picture, inside: np.ndarray, change: float) -> bool:
    """Whether the noise of both pictures explains the change of the mean over a place."""
    variance = 0.0
    for picture in (a, b):
        plane = picture.passes.get("variance")
        if plane is None or not np.isfinite(plane[inside]).all():
            return False
        variance += float(((np.sqrt(np.maximum(plane[inside], 0.0)) @ LUMINANCE) ** 2).sum()) / float(inside.sum()) ** 2
    return abs(change) < CHANCE * variance**0.5


def where_in(down: float, across: float, share: float) -> str:
    """A place in the picture in words, from the shares of its height and width."""
    if share > 0.4:
        return "over most of the picture"
    rows = "upper" if down < 1 / 3 else "lower" if down > 2 / 3 else ""
    columns = "left" if across < 1 / 3 else "right" if across > 2 / 3 else ""
    return " ".join(part for part in (rows, columns) if part) or "in the middle"


def _sentence(places: list[Place], share: float, visible: float) -> str:
    size = f"at {PIXELS_PER_DEGREE:.0f} pixels a degree"
    if not places:
        return f"Nobody sees a difference {size}."
    listed = "; ".join(place.said for place in places)
    if all(place.grain for place in places):
        return f"They differ by grain alone, seen over {share * 100.0:.0f} % of the picture {size}."
    if share < 0.05:
        return f"Nobody sees a difference {size} except here: {listed}."
    return f"The difference shows over {share * 100.0:.0f} % of the picture {size}, most of it here: {listed}."
