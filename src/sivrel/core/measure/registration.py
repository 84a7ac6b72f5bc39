"""Brings one frame of a moving shot onto another, by the motion passes that each frame carries.

Every pixel knows where its surface is in the neighbouring frames. A place counts only if the way there and back ends where it began, on the same
object facing the same way, away from edges: what was hidden, or mixes two surfaces, is left out (as in temporal reprojection: Nehab et al. 2007,
"Accelerating Real-Time Shading with Reverse Reprojection Caching").
"""

from typing import NamedTuple

import numpy as np
from scipy.ndimage import map_coordinates, maximum_filter, minimum_filter, uniform_filter

from ..vector import LUMINANCE

BACK_AGAIN = 0.75
"""Most pixels between where a way began and where it ends."""
ALIKE_NORMALS = 0.9
"""Least cosine between the normals of one place in two frames."""
MIXED = 5
"""Side in pixels of the neighbourhood that must be of one object: the pixel filter reaches a pixel far, the sample that names the object another."""
STEP = 1.15
"""Ratio of depths within a pixel's neighbourhood from which it is an edge."""
GLOWING = 0.05
"""Share of emitted light in a pixel from which it counts as a lamp."""
GUIDED = 0.1
"""Difference of the normals of the first surface and of the first that is neither glass nor mirror, from which a pixel shows a reflection."""
GLOSSY = 0.5
"""Share of gloss in the light about a pixel from which it counts as a highlight, which moves over its surface."""
NEEDED = ("beauty", "object", "normal", "depth", "emission", "motion", "motion_back")


class Onto(NamedTuple):
    """Where the pixels of a frame are in another one: rows, columns float [rows, columns], in pixels; known: whether that can be trusted."""

    rows: np.ndarray
    columns: np.ndarray
    known: np.ndarray

    def bring(self, plane: np.ndarray, order: int = 1) -> np.ndarray:
        """A plane [rows, columns] or [rows, columns, channels] of the other frame, as seen from this one; order: of the splines between its pixels.
        Straight lines add no ringing; cubic ones keep edges and noise as sharp as they were. What did not move is not resampled."""
        if plane.ndim == 3:
            return np.stack([self.bring(plane[..., k], order) for k in range(plane.shape[2])], axis=2)
        at = np.stack([self.rows, self.columns])
        moved = map_coordinates(plane.astype(np.float64), at, order=order, mode="nearest")
        whole = np.clip(np.rint(at).astype(int), 0, np.array(plane.shape)[:, None, None] - 1)
        return np.where((at == whole).all(axis=0), plane[whole[0], whole[1]], moved)


def onto(now: dict[str, np.ndarray], other: dict[str, np.ndarray], *, later: bool, mixed: int = MIXED) -> Onto:
    """The way from the pixels of a frame with the passes `now` to those of a neighbouring one, the next if `later`, else the one before; mixed: how
    wide edges are taken to be."""
    there, back = ("motion", "motion_back") if later else ("motion_back", "motion")
    height, width = now["object"].shape[:2]
    y, x = np.mgrid[0:height, 0:width].astype(np.float64)
    columns, rows = x + now[there][..., 0], y + now[there][..., 1]
    inside = (columns >= 0.0) & (rows >= 0.0) & (columns <= width - 1.0) & (rows <= height - 1.0)
    i = np.clip(np.rint(rows), 0, height - 1).astype(int)
    j = np.clip(np.rint(columns), 0, width - 1).astype(int)
    # The way back is that of the nearest pixel, whose own place is up to half a pixel off.
    returned = np.hypot(*(now[there][..., k] + other[back][i, j, k] for k in range(2)))
    same = now["object"][..., 0] == other["object"][i, j, 0]
    facing = (now["normal"] * other["normal"][i, j]).sum(axis=2) > ALIKE_NORMALS
    known = inside & (returned < BACK_AGAIN) & same & facing & plain(now, mixed) & plain(other, mixed)[i, j]
    return Onto(rows, columns, known)


def plain(passes: dict[str, np.ndarray], mixed: int = MIXED) -> np.ndarray:
    """bool [rows, columns]: pixels of one surface that is neither an edge nor a lamp nor a highlight, nor seen in a mirror or through glass."""
    objects, depth = passes["object"][..., 0], passes["depth"][..., 0]
    alone = (objects >= 0) & (minimum_filter(objects, mixed) == maximum_filter(objects, mixed))
    finite = np.where(np.isfinite(depth), depth, 0.0)
    flat = maximum_filter(finite, 3) <= STEP * np.maximum(minimum_filter(finite, 3), 1e-9)
    dull = passes["emission"].sum(axis=2) <= GLOWING * passes["beauty"][..., :3].sum(axis=2)
    if "guide_normal" in passes:
        dull &= np.abs(passes["guide_normal"] - passes["normal"]).max(axis=2) < GUIDED
    if "gloss" in passes:
        gloss, whole = (uniform_filter(passes[name][..., :3] @ LUMINANCE, 3) for name in ("gloss", "beauty"))
        dull &= maximum_filter(gloss > GLOSSY * whole, 3) == 0
    return alone & flat & dull
