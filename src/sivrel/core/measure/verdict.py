"""Visible differences between two pictures: where and of what kind, in words."""

from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np
from scipy import ndimage

from ..pictures.exr import Picture
from .changes import changes_between
from .difference import PIXELS_PER_DEGREE, shared_part, visible_difference
from .noise import LUMINANCE

POOL = 8
"""Side in pixels over which the difference is pooled: an eighth of a degree. Smaller differences look like grain, if visible."""
SEEN = 0.08
"""Pooled FLIP value from which a difference counts as visible: our choice. A patch two levels of 255 from its surround is
below it (0.056), one four levels off is above (0.093)."""
LEAST_SHARE = 0.0005
"""Share of the picture below which a place is ignored."""
MOST_PLACES = 4
REACH = 24
"""Margin in pixels around a change that covers the reach of FLIP's filters."""
OTHER_GRAIN = "its grain has changed: its surface or its light may be different"
SHIFTED = 0.04
"""Least change of a channel relative to the light for a place to be called warmer, cooler, greener or more magenta."""


@dataclass(frozen=True)
class Place:
    """A part of the picture with a visible difference. box: left, top, right, bottom in pixels of the frame; share of the picture; visible:
    mean FLIP value; light: ratio of its luminance, None if it was black or noise hides it; grain: whether noise alone explains it;
    name: of its object, empty if unknown; where: its place in words; kind: what changed besides the amount of light,
    in a few words."""

    box: tuple[int, int, int, int]
    share: float
    visible: float
    light: float | None
    grain: bool
    name: str
    where: str
    kind: str = ""

    @property
    def said(self) -> str:
        """The place in a few words."""
        what = f"{self.name}, {self.where}" if self.name else self.where
        if self.grain:
            return f"{what} (grain)"
        changes = [] if self.light is None or abs(self.light - 1.0) < 0.02 else [f"{(self.light - 1.0) * 100.0:+.0f} % light".replace("-", "−")]
        changes += [self.kind] if self.kind else []
        return f"{what} ({', '.join(changes)})" if changes else what

    def as_dict(self) -> dict[str, Any]:
        return {**asdict(self), "said": self.said}


@dataclass(frozen=True)
class Verdict:
    """sentence: the visible difference; places: where, the most visible first; share: of the picture that visibly differs; visible: mean FLIP
    value; shown: the FLIP map float32 [rows, columns] of `window`, in pixels of the frame."""

    sentence: str
    places: list[Place]
    share: float
    visible: float
    shown: np.ndarray
    window: tuple[int, int, int, int]


def judge(a: Picture, b: Picture, exposure: float | None = None) -> Verdict:
    """The visible change from A to B at PIXELS_PER_DEGREE, where they share pixels of one frame; without an `exposure`, at that of
    A's camera. Raises InputError if they share none.

    Visibility is judged twice: for the pictures as they are, and for the significant change only (see changes.py). Where the first
    shows a difference and the second none, it is grain.
    """
    a, b = shared_part(a, b)
    exposure = a.exposure if exposure is None else exposure
    shown = visible_difference(a.beauty[..., :3], b.beauty[..., :3], exposure)
    changes = changes_between(a, b)
    if changes is None:  # without a variance every visible difference counts
        # … and whether it is redistributed light or only grain is unknown.
        places = [replace(place, kind="") for place in _places(a, b, shown, where_seen(shown), grain=False)]
        share = float(where_seen(shown).mean())
        return Verdict(_sentence(places, share, 0.0), places, share, float(shown.mean()), shown, a.frame.window)
    real = _seen_of_change(a, b, changes.change, exposure)
    seen = where_seen(real) | changes.replaced
    marked = changes.patterned | changes.replaced
    places = _places(a, b, np.where(marked, np.maximum(real, SEEN), real), seen | changes.patterned, grain=False)
    grained = changes.grained & ~(seen | changes.patterned)
    places += [replace(place, kind=OTHER_GRAIN, light=None) for place in _places(a, b, shown, grained, grain=False)]
    places = places[:MOST_PLACES]
    if not places:
        seen = where_seen(shown)
        places = _places(a, b, shown, seen, grain=True)
    share = float((seen | changes.patterned | changes.grained).mean())
    return Verdict(_sentence(places, share, changes.hidden), places, share, float(shown.mean()), shown, a.frame.window)


def _seen_of_change(a: Picture, b: Picture, change: np.ndarray, exposure: float) -> np.ndarray:
    """FLIP map of a change [rows, columns, 3] only, added to the mean of both pictures; computed only where there is any."""
    real = np.zeros(change.shape[:2], np.float32)
    rows, columns = (np.flatnonzero((change != 0.0).any(axis=(axis, 2))) for axis in (1, 0))
    if not len(rows):
        return real
    part = np.s_[max(0, rows[0] - REACH) : rows[-1] + REACH + 1, max(0, columns[0] - REACH) : columns[-1] + REACH + 1]
    middle = (a.beauty[part][..., :3] + b.beauty[part][..., :3]) / 2.0
    before, after = (np.maximum(middle + sign * change[part] / 2.0, 0.0) for sign in (-1.0, 1.0))
    real[part] = visible_difference(before, after, exposure)
    return real


def where_seen(shown: np.ndarray, per_degree: float = PIXELS_PER_DEGREE) -> np.ndarray:
    """bool [rows, columns]: where a FLIP map shows a visible difference at a viewing distance."""
    return ndimage.uniform_filter(shown, max(1, round(POOL * per_degree / PIXELS_PER_DEGREE)), mode="nearest") > SEEN


def _places(a: Picture, b: Picture, shown: np.ndarray, seen: np.ndarray, *, grain: bool) -> list[Place]:
    """The places with most of the visible difference, worst first: connected parts, split by object if the pieces are large enough."""
    labels, _ = ndimage.label(seen)
    least = max(POOL * POOL, LEAST_SHARE * shown.size)
    objects = b.passes["object"][..., 0].astype(np.int64) + 1 if "object" in b.passes and not grain else np.zeros(labels.shape, np.int64)
    many = int(objects.max()) + 1
    pieces = labels * many + objects
    at, numbers = np.flatnonzero(seen), pieces[seen]
    names, which, counts = np.unique(numbers, return_inverse=True, return_counts=True)
    sums, parts = np.bincount(which, shown.reshape(-1)[at], len(names)), names // many
    # A part whose pieces are all too small stays whole.
    whole = np.bincount(parts, counts)
    cut = np.bincount(parts, counts >= least, len(whole)) > 0
    found = [(float(sums[k]), pieces, int(names[k])) for k in np.flatnonzero(counts >= least)]
    of_parts = np.bincount(parts, sums)
    found += [(float(of_parts[k]), labels, int(k)) for k in np.flatnonzero((whole >= least) & ~cut)]
    found.sort(key=lambda one: -one[0])
    return [_place(a, b, shown, numbered == number, grain) for _, numbered, number in found[:MOST_PLACES]]


def _place(a: Picture, b: Picture, shown: np.ndarray, inside: np.ndarray, grain: bool) -> Place:
    rows, columns = np.nonzero(inside)
    x0, y0 = a.frame.window[:2]
    box = (int(columns.min()) + x0, int(rows.min()) + y0, int(columns.max()) + 1 + x0, int(rows.max()) + 1 + y0)
    before, after = (p.beauty[inside][:, :3].astype(np.float64).mean(axis=0) for p in (a, b))
    numbers = b.passes["object"][inside][:, 0].astype(int) if "object" in b.passes else np.array([-1])
    numbers = numbers[(numbers >= 0) & (numbers < len(b.objects))]
    name = b.objects[int(np.bincount(numbers).argmax())].rstrip("/").rsplit("/", 1)[-1] if len(numbers) else ""
    light = float(after @ LUMINANCE / (before @ LUMINANCE)) if before @ LUMINANCE > 0.0 else None
    return Place(
        box, float(inside.mean()), float(shown[inside].mean()), light, grain, name,
        where_in((rows.mean() + y0) / a.frame.height, (columns.mean() + x0) / a.frame.width, float(inside.mean())),
        "" if grain else _kind(before, after, light),
    )  # fmt: skip


def _kind(before: np.ndarray, after: np.ndarray, light: float | None) -> str:
    """What changed besides the amount of light: its colour, or its distribution."""
    if light is None or light <= 0.0 or before.min() <= 0.0:
        return ""
    red, green, blue = np.log(np.maximum(after, 1e-12) / before / light)
    warmth, greenness = red - blue, green - (red + blue) / 2.0
    if max(abs(warmth), abs(greenness)) >= SHIFTED:
        if abs(warmth) >= abs(greenness):
            return "warmer" if warmth > 0.0 else "cooler"
        return "greener" if greenness > 0.0 else "more magenta"
    return "the same light, distributed differently" if abs(light - 1.0) < 0.02 else ""


def where_in(down: float, across: float, share: float) -> str:
    """A place in the picture in words, from shares of its height and width."""
    if share > 0.4:
        return "over most of the picture"
    rows = "upper" if down < 1 / 3 else "lower" if down > 2 / 3 else ""
    columns = "left" if across < 1 / 3 else "right" if across > 2 / 3 else ""
    return " ".join(part for part in (rows, columns) if part) or "in the middle"


def _sentence(places: list[Place], share: float, hidden: float) -> str:
    size = f"at {PIXELS_PER_DEGREE:.0f} pixels a degree"
    if not places:
        return f"No visible difference {size}."
    listed = "; ".join(place.said for place in places)
    if all(place.grain for place in places):
        sentence = f"They differ only by grain, visible over {share * 100.0:.0f} % of the picture {size}."
        return sentence + (f" It could hide a change of light below about {hidden * 100.0:.0f} %." if hidden >= 0.005 else "")
    if share < 0.05:
        return f"No visible difference {size} except here: {listed}."
    return f"The difference is visible over {share * 100.0:.0f} % of the picture {size}, most of it here: {listed}."
