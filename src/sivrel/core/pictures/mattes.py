"""Mattes for compositing: how much of each pixel every object, or every surface, covers."""

import math
from collections import defaultdict
from collections.abc import Callable
from typing import Literal

import numpy as np

from ..errors import InputError
from ..pack.objects import packed_meshes
from ..render.frame import Frame
from ..render.passes import MATTE, layer_of
from ..render.preparation import camera_rays
from ..render.prepare import Prepared
from ..scene.arrays import BY_CAMERA, FLAGS, OPACITY, SceneArrays
from ..scene.triangles import objects_at, surface_rows_at
from ..task import Task
from ..trace.traverse import closest_hits
from .exr import Picture

By = Literal["object", "surface"]
FAR = np.float32(1e30)
STRIP = 400_000
"""Rays that are traced at once."""
MOST_PASSED = 8
"""Things that the camera does not see, through which a ray goes on."""
MOST_RAYS, MOST = 1024, 128


def mattes(prepared: Prepared, frame: Frame, by: By = "object", rays: int = 16, task: Task | None = None) -> Picture:
    """A picture with a pass “matte.NAME” for each object or surface in sight, the largest first, MOST of them.

    Each is float32 [rows, columns, 1]: the share of the pixel that it covers, from `rays` points spread evenly over the pixel (a square
    number; along edges errors are up to 1 / sqrt(rays)). What is left of 1 is open sky. Glass covers like anything else; cut-outs by texture,
    depth of field and motion blur are not followed. Objects that the camera does not see are left out. Raises InputError."""
    side = math.isqrt(rays)
    if side * side != rays or not 1 <= rays <= MOST_RAYS:
        raise InputError(f"{rays} rays a pixel do not make a square; give 4, 9, 16, 25, 36, 49 or 64, at most {MOST_RAYS}.")
    task = task or Task()
    names, number_of = _things(prepared, by)
    x0, y0, x1, y1 = frame.window
    # Of what is in sight only: a scene may have thousands of things.
    counts: dict[int, np.ndarray] = defaultdict(lambda: np.zeros((y1 - y0, x1 - x0), np.uint16))
    inside = (np.arange(side) + 0.5) / side
    rows = max(1, STRIP // ((x1 - x0) * rays))
    for top in range(y0, y1, rows):
        bottom = min(y1, top + rows)
        py = (np.arange(top, bottom)[:, None] + inside).reshape(-1)
        px = (np.arange(x0, x1)[:, None] + inside).reshape(-1)
        down, across = (plane.reshape(-1) for plane in np.meshgrid(py, px, indexing="ij"))
        seen = _seen(prepared, *camera_rays(prepared.camera, frame.width, frame.height, across, down))
        seen = np.where(seen >= 0, number_of(prepared.arrays, np.maximum(seen, 0)), -1)
        seen = seen.reshape(bottom - top, side, x1 - x0, side).transpose(0, 2, 1, 3).reshape(bottom - top, x1 - x0, rays)
        for number in map(int, np.unique(seen[seen >= 0])):
            counts[number][top - y0 : bottom - y0] = (seen == number).sum(axis=2)
        task.report("tracing mattes", (bottom - y0) / (y1 - y0))
    passes: dict[str, np.ndarray] = {}
    for k in sorted(counts, key=lambda number: (-int(counts[number].sum()), number))[:MOST]:
        name = f"{MATTE}{layer_of(names[k])}"
        # Two that differ only by what a layer's name can't hold are kept apart.
        passes[name if name not in passes else f"{name}_{k}"] = (counts[k] / np.float32(rays))[..., None]
    return Picture(passes, frame, camera=prepared.camera.name)


def _things(prepared: Prepared, by: By) -> tuple[list[str], Callable[[SceneArrays, np.ndarray], np.ndarray]]:
    """Names, and the function that finds the number of each triangle's object or surface."""
    if by == "object":
        return [mesh.name for mesh in packed_meshes(prepared.scene)], objects_at
    return [surface.name for surface in prepared.scene.surfaces], lambda arrays, hits: surface_rows_at(arrays, hits) // 2  # each is packed twice


def _seen(prepared: Prepared, origins: np.ndarray, d: np.ndarray) -> np.ndarray:
    """int64 [n]: the first triangle that each ray meets and the camera sees, -1 for none."""
    arrays = prepared.arrays
    found, going, o = np.full(len(d), -1), np.arange(len(d)), origins.copy()
    for _ in range(MOST_PASSED):
        if not len(going):
            break
        hits, distances = closest_hits(arrays.bvh, o[going].astype(np.float32), d[going].astype(np.float32), np.float32(0.0), FAR)
        met = distances < 0.999 * FAR
        going, hits, distances = going[met], hits[met].astype(np.int64), distances[met].astype(float)
        hidden = arrays.objects[objects_at(arrays, hits), FLAGS].astype(np.int64) & BY_CAMERA == 0
        stays = ~hidden & (arrays.surfaces[surface_rows_at(arrays, hits), OPACITY] > 0.0)
        found[going[stays]] = hits[stays]
        going, distances = going[~stays], distances[~stays]
        o[going] += d[going] * (distances + 4.0 * arrays.offset)[:, None]
    return found
