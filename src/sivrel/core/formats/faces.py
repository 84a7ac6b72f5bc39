"""Triangulates polygons, tests whether triangles bound a volume, and transforms normals."""

import mapbox_earcut
import numpy as np


def triangulate(points: np.ndarray, counts: np.ndarray, indices: np.ndarray, holes: set[int] | None = None) -> tuple[np.ndarray, np.ndarray]:
    """Corners int64 [n, 3] (positions in `indices`) and faces int64 [n] of the triangles that fill the polygons.

    Triangles are kept, quads are split along the diagonal that keeps both halves valid, larger polygons by
    ears (mapbox_earcut, in the plane of Newell's normal).
    """
    starts = np.concatenate([[0], np.cumsum(counts)[:-1]])
    usable = counts >= 3
    if holes:
        usable[[h for h in holes if 0 <= h < len(counts)]] = False
    corners, faces = [], []
    three = np.flatnonzero(usable & (counts == 3))
    corners.append(starts[three, None] + np.arange(3))
    faces.append(three)
    four = np.flatnonzero(usable & (counts == 4))
    if len(four):
        at = starts[four, None] + np.arange(4)
        p = points[indices[at]]
        halves = [np.cross(p[:, i] - p[:, 0], p[:, j] - p[:, 0]) for i, j in ((1, 2), (2, 3))]
        upright = np.einsum("ij,ij->i", halves[0], halves[1]) >= 0.0
        cut = np.where(upright[:, None], np.array([0, 1, 2, 0, 2, 3]), np.array([1, 2, 3, 1, 3, 0]))
        corners.append(np.take_along_axis(at, cut, axis=1).reshape(-1, 3))
        faces.append(np.repeat(four, 2))
    for face in np.flatnonzero(usable & (counts > 4)):
        span = np.arange(starts[face], starts[face] + counts[face])
        cut = _cut(points[indices[span]])
        corners.append(span[cut])
        faces.append(np.full(len(cut), face))
    return np.concatenate(corners).astype(np.int64), np.concatenate(faces).astype(np.int64)


def _cut(p: np.ndarray) -> np.ndarray:
    """Triangles int [k, 3] of the simple polygon p [n, 3], in its orientation."""
    normal = np.cross(p, np.roll(p, -1, axis=0)).sum(axis=0)  # Newell's normal
    drop = int(np.argmax(np.abs(normal)))
    flat = np.delete(p, drop, axis=1)
    # Seen along its normal, so that the triangles have the same orientation.
    if (normal[drop] < 0.0) != (drop == 1):
        flat = flat * [-1.0, 1.0]
    cut = mapbox_earcut.triangulate_float64(np.ascontiguousarray(flat), np.array([len(p)], np.uint32)).reshape(-1, 3).astype(np.int64)
    a, b, c = (flat[cut[:, k]] for k in range(3))
    backwards = (b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0] < 0.0
    return np.where(backwards[:, None], cut[:, ::-1], cut)


def is_closed(vertices: np.ndarray) -> bool:
    """Whether triangles float32 [n, 3, 3] bound a volume: every edge belongs to two of them, once in each direction."""
    _, corner = np.unique(vertices.reshape(-1, 3), axis=0, return_inverse=True)
    corner = corner.reshape(-1, 3).astype(np.int64)
    edges = np.concatenate([corner[:, [k, (k + 1) % 3]] for k in range(3)])
    edges = edges[edges[:, 0] != edges[:, 1]]
    count = int(corner.max()) + 1
    there, back = edges[:, 0] * count + edges[:, 1], edges[:, 1] * count + edges[:, 0]
    return bool(np.array_equal(np.sort(there), np.sort(back)))


def normal_matrix(matrix: np.ndarray) -> np.ndarray:
    """3 x 3 matrix that transforms normals, up to their length, where `matrix` [4, 4], for columns, transforms points. Normals need the inverse
    transpose; the cofactor matrix equals that up to scale, and stays finite for degenerate scales."""
    m = matrix[:3, :3]
    cofactor = np.array([np.cross(m[1], m[2]), np.cross(m[2], m[0]), np.cross(m[0], m[1])])
    return cofactor if np.linalg.det(m) >= 0.0 else -cofactor
