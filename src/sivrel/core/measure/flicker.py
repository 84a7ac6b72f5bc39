"""Flicker of a moving shot: what changes from frame to frame beyond what moves, weighed by what the eye sees.

A frame is held against the mean of the frame before and the one after, both brought onto it (see registration.py). What grows or fades evenly, as
light that moves does, cancels in that; what jumps to and fro stays. Of noise that is new in each frame it leaves three halves of the variance, which
is divided out, so that `contrast` is the standard deviation of one frame. The change, as a contrast on the screen, is split into bands of an octave,
and each is weighed by the eye's sensitivity to noise of that size at that frame rate (temporal_contrast.py): at 1 it is just seen.
"""

import functools
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.ndimage import gaussian_filter, label, maximum_filter

from ..errors import InputError
from ..finish.view import to_display
from ..vector import LUMINANCE
from .difference import PIXELS_PER_DEGREE
from .registration import NEEDED, onto
from .temporal_contrast import weight_of_noise

OF_NEIGHBOURS = 1.5
"""Variance of a frame less the mean of its neighbours, for noise of variance 1."""
WHITE, VEIL = 100.0, 0.5
"""Luminance of the screen's white, and of what the room and the screen add, in cd/m²."""
ADAPTED = 0.5
"""Degrees over which the eye adapts, and over which change is averaged."""
SLOWEST_BAND = 0.7
"""Lowest band, in cycles a degree."""
SHARP = 3
"""Order of the splines by which frames are resampled: a blurred neighbour would look like flicker along the edges of shadows."""
LEAST_KNOWN = 0.05
"""Share of a window that must be judged for its place to count."""
MOST_PLACES = 6


@dataclass
class Place:
    """A part of a frame that flickers: its box in pixels, the strongest flicker there, its share of the picture, and the object most of it is on."""

    box: tuple[int, int, int, int]
    seen: float
    share: float
    object: str = ""

    def as_dict(self) -> dict[str, Any]:
        return {"box": list(self.box), "seen": round(self.seen, 2), "share": self.share, "object": self.object}


@dataclass
class Flicker:
    """seen: float32 [rows, columns], 1 where flicker is just seen, 0 where nothing was judged; known: where it was, and judged: share of the picture;
    level: root mean square of `seen` there, and share: how much of it is over 1; contrast: standard deviation of one frame against the mean of its
    surroundings, root mean square; places: worst first."""

    seen: np.ndarray
    known: np.ndarray
    judged: float
    level: float
    share: float
    contrast: float
    places: list[Place]

    def energy(self, box: tuple[int, int, int, int]) -> float:
        """Mean square of `seen` over what was judged in a box of pixels; 0 where nothing was."""
        part = np.s_[box[1] : box[3], box[0] : box[2]]
        there = self.seen[part][self.known[part]].astype(np.float64)
        return float((there**2).mean()) if len(there) else 0.0

    def as_dict(self) -> dict[str, Any]:
        return {
            "judged": self.judged, "level": self.level, "share": self.share, "contrast": self.contrast,
            "places": [place.as_dict() for place in self.places],
        }  # fmt: skip


def screen_luminance(linear: np.ndarray, exposure: float) -> np.ndarray:
    """Luminance in cd/m² [rows, columns] of linear colour as the screen shows it in the soft view at `exposure` stops."""
    shown = np.clip(to_display(linear, exposure), 0.0, 1.0)
    light = np.where(shown <= 0.04045, shown / 12.92, ((shown + 0.055) / 1.055) ** 2.4)
    return WHITE * (light[..., :3] @ np.asarray(LUMINANCE)) + VEIL


def measure_flicker(
    before: dict[str, np.ndarray], now: dict[str, np.ndarray], after: dict[str, np.ndarray], *, exposure: float = 0.0, rate: float = 24.0,
    per_degree: float = PIXELS_PER_DEGREE, shown: tuple[np.ndarray, np.ndarray, np.ndarray] | None = None, objects: list[str] | None = None,
    rendered: np.ndarray | None = None,
) -> Flicker:  # fmt: skip
    """The flicker of a frame between its neighbours, by the passes of the three; shown: what is seen of them, linear colour, if not their beauty;
    rate: frames a second; per_degree: viewing distance; rendered: which pixels there are, if not all. Raises InputError if passes are missing."""
    for passes in (before, now, after):
        missing = [name for name in NEEDED if name not in passes]
        if missing:
            raise InputError(f"The frames lack the pass {missing[0]}; render them as a sequence, with all passes.")
    pictures = shown or tuple(passes["beauty"][..., :3] for passes in (before, now, after))
    screens = [screen_luminance(picture, exposure) for picture in pictures]
    back, forth = onto(now, before, later=False), onto(now, after, later=True)
    known = back.known & forth.known
    mean = 0.5 * (back.bring(screens[0], SHARP) + forth.bring(screens[2], SHARP))
    there = np.ones(known.shape) if rendered is None else rendered.astype(np.float64)
    adapted = _smooth(screens[1], there, ADAPTED * per_degree)
    return flicker_of(screens[1] - mean, adapted, known, rate, per_degree, now["object"][..., 0], objects or [])


def flicker_of(
    change: np.ndarray, adapted: np.ndarray, known: np.ndarray, rate: float, per_degree: float, numbers: np.ndarray, objects: list[str]
) -> Flicker:  # fmt: skip
    """Flicker from the change [rows, columns] of a screen's luminance against its neighbouring frames, where that is known; adapted: the luminance
    that the eye is used to there."""
    weights = known.astype(np.float64)
    wide = ADAPTED * per_degree
    contrast = np.where(known, change, 0.0) / np.where(adapted > 0.0, adapted, 1.0) / np.sqrt(OF_NEIGHBOURS)
    energy, finer, width = np.zeros_like(contrast), contrast, 0.5
    frequency = per_degree / 3.0
    while True:
        last = frequency / 2.0 < SLOWEST_BAND or width > max(contrast.shape)
        coarser = np.zeros_like(contrast) if last else np.where(known, _smooth(contrast, weights, width), 0.0)
        energy += weight_of_noise(frequency, rate) ** 2 * (finer - coarser) ** 2
        if last:
            break
        finer, width, frequency = coarser, 2.0 * width, frequency / 2.0
    dense = gaussian_filter(weights, wide, mode="constant") / gaussian_filter(np.ones_like(weights), wide, mode="constant")
    seen = np.where(dense > LEAST_KNOWN, np.sqrt(_smooth(energy, weights, wide)), 0.0)
    judged = float(weights.mean())
    there = seen[known] if known.any() else np.zeros(1)
    return Flicker(
        seen.astype(np.float32), known, judged, float(np.sqrt((there**2).mean())), float((there > 1.0).mean()),
        float(np.sqrt((contrast[known] ** 2).mean())) if known.any() else 0.0, _places(seen, known, numbers, objects),
    )  # fmt: skip


def _smooth(plane: np.ndarray, weights: np.ndarray, width: float) -> np.ndarray:
    """A plane blurred by a Gaussian of that width in pixels, over what is known."""
    blur = functools.partial(gaussian_filter, sigma=width, mode="constant", truncate=3.0)
    return blur(plane * weights) / np.maximum(blur(weights), 1e-9)


def _places(seen: np.ndarray, known: np.ndarray, numbers: np.ndarray, objects: list[str]) -> list[Place]:
    """Connected parts in which flicker is seen, worst first; where all of it is one part, only its worse half."""
    over = (seen > 1.0) & known
    if over.mean() > 0.25:
        over &= seen >= np.median(seen[over])
    marked, count = label(maximum_filter(over, 3))
    found = []
    for k in range(1, count + 1):
        part = (marked == k) & over
        if part.sum() < 4:
            continue
        rows, columns = np.nonzero(part)
        worst = float(seen[part].max())
        own = numbers[part & (numbers >= 0)].astype(int)
        number = int(np.bincount(own).argmax()) if len(own) else -1
        name = objects[number] if 0 <= number < len(objects) else ""
        box = (int(columns.min()), int(rows.min()), int(columns.max()) + 1, int(rows.max()) + 1)
        found.append(Place(box, worst, float(part.mean()), name))
    return sorted(found, key=lambda place: -place.seen * place.share**0.25)[:MOST_PLACES]
