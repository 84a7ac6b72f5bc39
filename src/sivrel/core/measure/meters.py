"""Effects of a render's limits: light removed by the clamp, light beyond the bounce limits, self-intersecting rays."""

from collections.abc import Callable
from typing import Any

import numpy as np

from ..render.film import (
    BRIGHTEST,
    BRIGHTEST_KIND,
    CLAMPED,
    ENDED_IN_GLASS,
    GLOSS_LOOKED_UP,
    GLOSS_TRACED,
    LEFT,
    SAMPLES,
    SELF_HITS,
    film_beauty,
    triangles_in,
)
from ..render.passes import kind_in_words
from .noise import DARK, LUMINANCE

KINDS = ("diffuse", "mirror", "glass", "total")
FIREFLY = 2.0
"""A pixel is a firefly if a single contribution exceeds this many times all its other light plus the eye's floor."""


def measure_meters(film: np.ndarray, objects: list[str], object_of: Callable[[np.ndarray], np.ndarray]) -> dict[str, Any]:
    """Shares of the light that the picture would have without each limit, from 0 to 1.

    object_of: numbers of objects from those of triangles
    clamped: share; `clamped_most`: the object that lost most of it, with its share of that, if any
    beyond: by limit, an unbiased estimate from the few paths that continue; `beyond_error` is the standard
    error of their sum, from the spread of the pixels
    ended_in_glass: paths per sample ended by the glass limit
    gloss_lookup: light that looking wide gloss up adds (below 0: takes), from the few paths that trace it, also beyond the limits of bounces;
    `gloss_error` is the standard error, from the spread of the pixels
    self_hits: rays per sample that hit the triangle they left
    fireflies: share of fireflies among the pixels; firefly_kind: the kind of path of most of them, in words, and its share of them
    """
    flat = film.reshape(-1, film.shape[-1]).astype(np.float64)
    luminance = film_beauty(flat) @ LUMINANCE
    light = float(luminance.mean())
    clamped, left = float(flat[:, CLAMPED].mean()), flat[:, LEFT : LEFT + 4]

    def share(part: float) -> float:
        return part / (light + part) if light + part > 0.0 else 0.0

    most = None
    if clamped > 0.0:
        triangles = triangles_in(flat)
        rows = np.where(triangles >= 0, object_of(np.maximum(triangles, 0)), -1)
        taken = np.bincount(rows[rows >= 0], weights=flat[rows >= 0, CLAMPED], minlength=len(objects))
        if taken.sum() > 0.0:
            most = [objects[int(taken.argmax())], float(taken.max() / flat[:, CLAMPED].sum())]
    brought = flat[:, BRIGHTEST] / np.maximum(flat[:, SAMPLES], 1.0)
    sparkling = brought > FIREFLY * (np.maximum(luminance - brought, 0.0) + DARK * light)
    kinds, counts = np.unique(flat[sparkling, BRIGHTEST_KIND], return_counts=True)
    kind = [kind_in_words(kinds[counts.argmax()]), float(counts.max() / counts.sum())] if len(kinds) else None
    added = flat[:, GLOSS_LOOKED_UP] - flat[:, GLOSS_TRACED]

    def error(pixels: np.ndarray) -> float:
        return float(pixels.std(ddof=1) / np.sqrt(len(pixels))) / light if len(pixels) > 1 and light > 0.0 else 0.0

    return {
        "clamped": share(clamped),
        "clamped_most": most,
        "beyond": {kind: share(float(left[:, k].mean())) for k, kind in enumerate(KINDS)},
        "beyond_error": error(left.sum(axis=1)),
        "gloss_lookup": float(added.mean()) / light if light > 0.0 else 0.0,
        "gloss_error": error(added),
        "ended_in_glass": float(flat[:, ENDED_IN_GLASS].mean()),
        "fireflies": float(sparkling.mean()),
        "firefly_kind": kind,
        "self_hits": float(flat[:, SELF_HITS].mean()),
    }
