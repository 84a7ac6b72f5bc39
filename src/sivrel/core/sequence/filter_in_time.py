"""The noise filter for moving shots: each frame is filtered, then joined with its neighbours, which were filtered alike and brought onto it.

Frames are brought over by their motion passes. A neighbour counts less where it differs by more than the error of the filter explains, since there
the light has changed and the mean of both would be a trail of it. The two halves of the samples are joined
with the same weights, so that the error of what is shown is estimated as for a still (`core.render.filter`). Where nothing moves no pixel is
resampled, and the picture stays as sharp as it was.
"""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from scipy.ndimage import uniform_filter

from ..measure.registration import Onto, onto
from ..render.filter import Filtered, error_of
from ..vector import LUMINANCE

REACH = 2
"""Frames before and after that are joined."""
UP_TO_EDGES = 3
"""Side in pixels of the neighbourhood that must be of one object: pixels by an edge are joined, too, as far as they agree."""
PATCH = 5
"""Side in pixels of the window in which frames are compared."""
LEAST_WEIGHT, LEAST_ERROR = 0.02, 0.01
"""Weights below which a pixel is left out; error of the filter, relative to the light, that is always granted."""


def join_filtered(frames: Sequence[dict[str, np.ndarray]], filtered: Sequence[Filtered], k: int) -> Filtered:
    """Frame number `k` of neighbouring frames, by their passes and as each was filtered, joined with up to REACH of them on both sides."""
    now, own = frames[k], filtered[k]
    if "motion" not in now:
        return own
    emission = now["emission"].astype(np.float64)
    light, total = own.image - emission, np.ones(now["depth"].shape[:2])
    halves = [half.astype(np.float64).copy() for half in own.halves] if own.halves is not None else None
    for later in (False, True):
        way: Onto | None = None
        for step in range(1, REACH + 1):
            at, nearer = (k + step, k + step - 1) if later else (k - step, k - step + 1)
            if not 0 <= at < len(frames) or "motion" not in frames[at]:
                break
            further = onto(frames[nearer], frames[at], later=later, mixed=UP_TO_EDGES)
            way = further if way is None else chained(way, further)
            weight = _weight(own, filtered[at], way)
            light = light + weight[..., None] * way.bring(filtered[at].image - frames[at]["emission"])
            total += weight
            theirs = filtered[at].halves
            if halves is not None:
                halves = [a + weight * way.bring(b) for a, b in zip(halves, theirs, strict=True)] if theirs is not None else None
    image = (light / total[..., None] + emission).astype(np.float32)
    if halves is None:
        return replace(own, image=image, halves=None, error=None, level=None)
    joined = halves[0] / total, halves[1] / total
    error, level = error_of(joined, now, image)
    return replace(own, image=image, halves=joined, error=error, level=level)


def chained(first: Onto, then: Onto) -> Onto:
    """The way over one frame to the next."""
    height, width = first.known.shape
    i = np.clip(np.rint(first.rows), 0, height - 1).astype(int)
    j = np.clip(np.rint(first.columns), 0, width - 1).astype(int)
    rows, columns = first.rows + then.rows[i, j] - i, first.columns + then.columns[i, j] - j
    return Onto(rows, columns, first.known & then.known[i, j])


def _weight(now: Filtered, other: Filtered, way: Onto) -> np.ndarray:
    """How much each pixel of another frame counts, 0 to 1."""
    mine, theirs = now.image @ LUMINANCE, way.bring(other.image @ LUMINANCE)
    known = way.known.astype(np.float64)
    near = np.maximum(uniform_filter(known, PATCH, mode="constant"), 1e-9)
    apart = uniform_filter((mine - theirs) * known, PATCH, mode="constant") / near
    granted = (LEAST_ERROR * np.maximum(mine, 0.0)) ** 2 + _square(now.error) + (way.bring(_square(other.error)) if other.error is not None else 0.0)
    weight = known * np.exp(-0.5 * np.maximum(apart**2 / np.maximum(granted, 1e-20) - 1.0, 0.0))
    return np.where(weight > LEAST_WEIGHT, weight, 0.0)


def _square(error: np.ndarray | None) -> np.ndarray:
    return np.zeros(1) if error is None else error.astype(np.float64) ** 2
