"""Triangles by the numbers of their corners: a point that several triangles share is stored once."""

from dataclasses import dataclass, replace

import numpy as np

from ..kernel import allocating_kernel
from .packed_normals import corner_normals, flattened, is_flat, packed_normals, turned_flat, unpacked_normals


@dataclass(frozen=True, eq=False)
class IndexedTriangles:
    """n triangles over p points. A dense smooth mesh has half as many points as triangles, and takes 20 bytes a triangle, 24 with coordinates.

    corners: uint32 [n, 3], counter-clockwise seen from the front; points: float32 [p, 3]; normals: uint32 [p], see `packed_normals`
    uvs: float32 [p, 2], or [0, 2] where all are zero
    """

    corners: np.ndarray
    points: np.ndarray
    normals: np.ndarray
    uvs: np.ndarray

    @property
    def each_vertices(self) -> np.ndarray:
        """float32 [n, 3, 3]: the corners of each triangle."""
        return self.points[self.corners]

    @property
    def each_normals(self) -> np.ndarray:
        """float32 [n, 3, 3]: the unit normals at these corners."""
        return corner_normals(self.normals[self.corners], self.each_vertices)

    @property
    def each_uvs(self) -> np.ndarray:
        """float32 [n, 3, 2]: their texture coordinates."""
        return self.uvs[self.corners] if len(self.uvs) else np.zeros((*self.corners.shape, 2), np.float32)

    def moved(self, matrix: np.ndarray) -> "IndexedTriangles":
        """The same, transformed by a 3 x 4 matrix with an inverse."""
        points = (self.points.astype(float) @ matrix[:, :3].T + matrix[:, 3]).astype(np.float32)
        codes = self.normals.copy()
        smooth = ~is_flat(codes)
        codes[smooth] = _codes(unpacked_normals(codes[smooth]).astype(float) @ np.linalg.inv(matrix[:, :3]), None)
        return replace(self, points=points, normals=codes if np.linalg.det(matrix[:, :3]) > 0.0 else turned_flat(codes))

    def run_round(self) -> "IndexedTriangles":
        """The same with the corners of each triangle in the other order, and the same normals."""
        return replace(self, corners=self.corners[:, ::-1], normals=turned_flat(self.normals))


def indexed(vertices: np.ndarray, normals: np.ndarray, uvs: np.ndarray) -> IndexedTriangles:
    """Triangles by their corners: vertices, normals [n, 3, 3], uvs [n, 3, 2]. Corners that agree in all three share a point. A normal that is not
    finite, or zero, becomes that of its triangle; coordinates that are not finite become 0."""
    points = np.ascontiguousarray(np.reshape(vertices, (-1, 3)), np.float32) + np.float32(0.0)  # -0 becomes 0
    places = np.ascontiguousarray(np.reshape(uvs, (-1, 2)), np.float32) + np.float32(0.0)
    if not np.isfinite(places).all():
        places = np.nan_to_num(places, nan=0.0, posinf=0.0, neginf=0.0)
    codes = flattened(_codes(np.reshape(normals, (-1, 3)), points).reshape(-1, 3), points.reshape(-1, 3, 3)).reshape(-1)
    numbers, first = _shared(points.view(np.uint32), codes, places.view(np.uint32))
    textured = bool(places.any())
    return IndexedTriangles(numbers.reshape(-1, 3), points[first], codes[first], places[first] if textured else np.zeros((0, 2), np.float32))


def _codes(normals: np.ndarray, points: np.ndarray | None) -> np.ndarray:
    """uint32 [m]: codes of normals [m, 3]; those that can't be coded become the normals of their triangles, of the `points` [m, 3], or +z."""
    sizes = np.abs(normals).sum(axis=1)
    unsound = ~(np.isfinite(sizes) & (sizes > 1e-20))
    if unsound.any():
        instead = np.zeros((len(normals), 3))
        if points is not None:
            v = points.reshape(-1, 3, 3).astype(float)
            with np.errstate(invalid="ignore"):
                instead = np.repeat(np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), 3, axis=0)
        instead[~(np.abs(instead).sum(axis=1) > 0.0)] = (0.0, 0.0, 1.0)
        normals = np.where(unsound[:, None], instead, normals)
    return packed_normals(normals)


@allocating_kernel
def _shared(points, codes, places):
    """Numbers uint32 [m] of the rows of three arrays [m, 3], [m], [m, 2] of 32 bits, equal for equal rows, by a hash table; and the first row of each
    number, int64."""
    rows = len(codes)
    size = 16
    while size < 2 * rows:
        size *= 2
    table = np.full(size, -1, np.int32)
    numbers = np.empty(rows, np.uint32)
    first = np.empty(rows, np.int64)
    used = 0
    for row in range(rows):
        key = np.uint64(codes[row])
        for k in range(3):
            key = (key ^ np.uint64(points[row, k])) * np.uint64(0x9E3779B97F4A7C15)
            key ^= key >> np.uint64(29)
        for k in range(2):
            key = (key ^ np.uint64(places[row, k])) * np.uint64(0x9E3779B97F4A7C15)
            key ^= key >> np.uint64(32)
        slot = np.int64(key & np.uint64(size - 1))
        while True:
            known = table[slot]
            if known < 0:
                table[slot] = used
                first[used] = row
                numbers[row] = used
                used += 1
                break
            r = first[known]
            if (
                points[r, 0] == points[row, 0] and points[r, 1] == points[row, 1] and points[r, 2] == points[row, 2]
                and codes[r] == codes[row] and places[r, 0] == places[row, 0] and places[r, 1] == places[row, 1]
            ):  # fmt: skip
                numbers[row] = known
                break
            slot = (slot + 1) & (size - 1)
    return numbers, first[:used].copy()
