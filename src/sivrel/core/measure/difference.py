"""Differences between two pictures: in numbers, visibly, and in their recipes."""

from dataclasses import asdict, dataclass, replace
from typing import Any

import flip_evaluator
import numpy as np

from ..edits.edits import difference as edits_difference
from ..errors import InputError
from ..finish.view import to_display
from ..pictures.coarser import coarser, same_shape
from ..pictures.exr import Picture
from ..render.recipe import difference as recipe_difference
from .noise import relative_weights

PIXELS_PER_DEGREE = 67.0
"""Viewing distance of the visible difference: 0.7 m from a screen 0.7 m wide with 3840 pixels (Andersson et al. 2020)."""


@dataclass(frozen=True)
class Difference:
    """Picture B against picture A.

    mean_light: ratio of the mean luminances B / A, None when A is black
    rmse: root mean square difference of the linear values; largest: the greatest
    visible: mean of the FLIP map, 0 (invisible) to 1
    changed: recipe settings as [key, in A, in B]; also empty if a picture has no recipe
    noise_between: for two renders of one recipe that differ only by their seeds: the noise of each, from their difference; otherwise None
    """

    mean_light: float | None
    rmse: float
    largest: float
    visible: float
    changed: list[tuple[str, Any, Any]]
    noise_between: float | None = None

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def visible_difference(a: np.ndarray, b: np.ndarray, exposure: float = 0.0, per_degree: float = PIXELS_PER_DEGREE) -> np.ndarray:
    """FLIP map float32 [rows, columns] of two linear pictures in the soft view at `exposure` stops, `per_degree` pixels a degree
    (Andersson et al. 2020, "FLIP: A Difference Evaluator for Alternating Images"; the authors' own evaluator)."""
    shown = [np.ascontiguousarray(to_display(p, exposure), np.float32) for p in (a, b)]
    error, _, _ = flip_evaluator.evaluate(shown[0], shown[1], "LDR", applyMagma=False, computeMeanError=False, parameters={"ppd": per_degree})
    return np.asarray(error, np.float32).reshape(error.shape[:2])


def changed_settings(a: Picture, b: Picture) -> list[tuple[str, Any, Any]]:
    """(key, in A, in B) of the settings and edits that differ; empty if a picture has none."""
    changed = recipe_difference(a.recipe, b.recipe) if a.recipe and b.recipe else []
    return changed + (edits_difference(a.edits, b.edits) if a.edits and b.edits else [])


def shared_part(a: Picture, b: Picture) -> tuple[Picture, Picture]:
    """The common parts of two pictures of one frame: the pictures themselves if they cover the same pixels. Of two frames of one aspect the finer
    gets the pixels of the coarser, so that a region and its enlargement compare. Raises InputError if their frames differ in shape, or
    they share no pixels."""
    if a.frame.window == b.frame.window and a.beauty.shape == b.beauty.shape and a.frame.width == b.frame.width:
        return a, b
    if a.frame.width != b.frame.width and same_shape(a.frame, b.frame):
        first, second = (coarser(a, b.frame), b) if a.frame.width > b.frame.width else (a, coarser(b, a.frame))
        if first is not None and second is not None:
            return shared_part(first, second)
    one, other = a.frame.window, b.frame.window
    box = (max(one[0], other[0]), max(one[1], other[1]), min(one[2], other[2]), min(one[3], other[3]))
    if (a.frame.width, a.frame.height) != (b.frame.width, b.frame.height) or box[0] >= box[2] or box[1] >= box[3]:
        sizes = [f"{p.beauty.shape[1]}x{p.beauty.shape[0]} at {p.frame.window[0]},{p.frame.window[1]}" for p in (a, b)]
        raise InputError(f"The pictures cover different pixels ({sizes[0]} and {sizes[1]}); render both in frames of one shape, with a common part.")
    return _cut(a, box), _cut(b, box)


def _cut(picture: Picture, box: tuple[int, int, int, int]) -> Picture:
    left, top = picture.frame.window[:2]
    part = np.s_[box[1] - top : box[3] - top, box[0] - left : box[2] - left]
    return replace(picture, passes={name: image[part] for name, image in picture.passes.items()}, frame=replace(picture.frame, region=box))


def noise_of_pair(one: np.ndarray, other: np.ndarray) -> float:
    """The noise of two renders, luminance [rows, columns], that differ only by their seeds: their difference over the root of two, weighted as
    in `measure_noise`. It is valid even where the samples' own variance is not, once light has been found at all."""
    squares = relative_weights((one + other) / 2.0) * (one - other).reshape(-1) ** 2
    return float(np.sqrt(squares.mean() / 2.0))


def compare(a: Picture, b: Picture, exposure: float = 0.0, visible: float | None = None) -> Difference:
    """Compare two pictures where they share pixels of one frame; `visible` is their mean FLIP value at that exposure, if known.
    Raises InputError if they share none."""
    a, b = shared_part(a, b)
    left, right = a.beauty[..., :3].astype(np.float64), b.beauty[..., :3].astype(np.float64)
    weights = np.array([0.2126, 0.7152, 0.0722])
    before, after = float((left @ weights).mean()), float((right @ weights).mean())
    alike = a.recipe is not None and (a.recipe, a.edits, a.camera, a.shot) == (b.recipe, b.edits, b.camera, b.shot)
    return Difference(
        mean_light=after / before if before > 0.0 else None,
        rmse=float(np.sqrt(np.mean((right - left) ** 2))),
        largest=float(np.abs(right - left).max()),
        visible=float(visible_difference(a.beauty, b.beauty, exposure).mean()) if visible is None else visible,
        changed=changed_settings(a, b),
        noise_between=noise_of_pair(left @ weights, right @ weights) if alike and a.frame.seed != b.frame.seed else None,
    )
