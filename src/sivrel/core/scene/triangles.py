"""What is known of a triangle by its number, whether it is stored where it stands or belongs to a placement (see trace.placements)."""

import numpy as np

from ..kernel import kernel
from ..trace.placements import Placements, normal_by, placement_of, point_by
from ..trace.two_levels import placed_boxes
from ..vector import normalize
from .arrays import (
    NO_COORDINATES,
    NO_LIGHT,
    PART_BLOCK,
    PART_COORDINATES,
    PART_FIRST,
    PART_LEAVES,
    PART_LIGHT,
    PART_OBJECT,
    PART_STEP,
    PART_SURFACE,
    SceneArrays,
)
from .packed_normals import FLAT, corner_normals, unpacked_normal

MOST_COPIED = 20_000_000
"""Most triangles up to which placements can be copied (the setting `surfaces.copied`)."""
STANDS = -1
"""Instead of the number of a placement: the triangle is stored where it stands."""


@kernel
def part_of(scene, row):
    """The row of SceneArrays.parts that a stored triangle belongs to."""
    parts, part = scene.parts, np.int64(scene.part_at[row >> PART_BLOCK])
    while part + 1 < len(parts) and parts[part + 1, PART_FIRST] <= row:
        part += 1
    return part


@kernel
def row_of(scene, triangle):
    """(placement of a triangle or STANDS, its row in the arrays)."""
    number = np.int64(triangle)
    if number < scene.standing:
        return STANDS, number
    placements = scene.bvh.placements
    placement = placement_of(placements.first, number)
    return placement, number - np.int64(placements.first[placement]) + np.int64(placements.stored[placement])


@kernel
def object_at(scene, triangle):
    """Number of a triangle's object."""
    number = np.int64(triangle)
    if number < scene.standing:
        return scene.parts[part_of(scene, number), PART_OBJECT]
    placements = scene.bvh.placements
    return np.int64(placements.objects[placement_of(placements.first, number)])


@kernel
def surface_row_in(scene, part, row):
    """Number of the surface of a stored triangle, its row in SceneArrays.surfaces."""
    parts = scene.parts
    return np.int64(scene.surface_of[parts[part, PART_SURFACE] + parts[part, PART_STEP] * (row - parts[part, PART_FIRST])])


@kernel
def surface_row_at(scene, triangle):
    """The same of a triangle by its number."""
    _, row = row_of(scene, triangle)
    return surface_row_in(scene, part_of(scene, row), row)


@kernel
def mesh_light_at(scene, triangle):
    """The mesh light that a triangle belongs to, or -1. Mesh lights are never placed shapes."""
    number = np.int64(triangle)
    return scene.parts[part_of(scene, number), PART_LIGHT] if number < scene.standing else np.int64(-1)


@kernel
def mesh_leaf_at(scene, triangle):
    """The node of a triangle in the tree of its mesh light, or NO_LIGHT if it is not aimed at."""
    number = np.int64(triangle)
    part = part_of(scene, number)
    leaves = scene.parts[part, PART_LEAVES]
    return scene.mesh_leaf[leaves + number - scene.parts[part, PART_FIRST]] if leaves >= 0 else NO_LIGHT


@kernel
def _point(points, number):
    return np.float64(points[number, 0]), np.float64(points[number, 1]), np.float64(points[number, 2])


@kernel
def corners_in(scene, placement, row):
    """The three corners of a stored triangle in the scene, float64."""
    numbers = scene.corners
    a, b, c = _point(scene.points, numbers[row, 0]), _point(scene.points, numbers[row, 1]), _point(scene.points, numbers[row, 2])
    if placement != STANDS:
        matrices = scene.bvh.placements.to_world
        a = point_by(matrices, placement, a[0], a[1], a[2])
        b = point_by(matrices, placement, b[0], b[1], b[2])
        c = point_by(matrices, placement, c[0], c[1], c[2])
    return a, b, c


@kernel
def corners_of(scene, triangle):
    """The same of a triangle by its number."""
    placement, row = row_of(scene, triangle)
    return corners_in(scene, placement, row)


@kernel
def mix(a, b, c, b1, b2):
    """The vectors of three corners, mixed by the barycentric weights b1, b2 of the last two."""
    b0 = 1.0 - np.float64(b1) - np.float64(b2)
    u, v = np.float64(b1), np.float64(b2)
    return b0 * a[0] + u * b[0] + v * c[0], b0 * a[1] + u * b[1] + v * c[1], b0 * a[2] + u * b[2] + v * c[2]


@kernel
def smooth_normal_at(scene, placement, row, b1, b2, flat):
    """The unit shading normal at that point; `flat` where that is the triangle's own, on whatever side."""
    numbers, codes = scene.corners, scene.normals
    i, j, k = codes[numbers[row, 0]], codes[numbers[row, 1]], codes[numbers[row, 2]]
    if i & 0xFFFF == FLAT:
        return flat
    n = unpacked_normal(i)
    if i != j or j != k:
        n = mix(n, unpacked_normal(j), unpacked_normal(k), b1, b2)
    return normalize(n if placement == STANDS else normal_by(scene.bvh.placements.from_world, placement, n[0], n[1], n[2]))


@kernel
def uv_edges(scene, part, row):
    """Texture coordinates of a triangle's first corner, and how those of the second and third differ from them."""
    shift = scene.parts[part, PART_COORDINATES]
    if shift == NO_COORDINATES:
        return 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    uv, i = scene.uvs, np.int64(scene.corners[row, 0]) + shift
    j, k = np.int64(scene.corners[row, 1]) + shift, np.int64(scene.corners[row, 2]) + shift
    s, t = np.float64(uv[i, 0]), np.float64(uv[i, 1])
    return s, t, np.float64(uv[j, 0]) - s, np.float64(uv[j, 1]) - t, np.float64(uv[k, 0]) - s, np.float64(uv[k, 1]) - t


@kernel
def uv_at(scene, part, row, b1, b2):
    """Texture coordinates at the weights b1, b2."""
    s, t, s1, t1, s2, t2 = uv_edges(scene, part, row)
    u, v = np.float64(b1), np.float64(b2)
    return s + u * s1 + v * s2, t + u * t1 + v * t2


# The same for many triangles at once, outside kernels.


def triangle_count(arrays: SceneArrays) -> int:
    """Number of triangles that a ray can hit, those of every placement counted."""
    placements = arrays.bvh.placements
    return int(placements.first[-1]) + int(placements.counts[-1]) if len(placements.first) else arrays.standing


def _ends(arrays: SceneArrays) -> np.ndarray:
    """int64 [parts]: number of the triangle after the last of each part."""
    return np.append(arrays.parts[1:, PART_FIRST], len(arrays.corners))


def of_parts(arrays: SceneArrays, column: int, standing: bool = True) -> np.ndarray:
    """int64 [triangles]: a column of the part of each standing or stored triangle."""
    counts = _ends(arrays) - arrays.parts[:, PART_FIRST]
    every = np.repeat(arrays.parts[:, column], counts)
    return every[: arrays.standing] if standing else every


def standing_objects(arrays: SceneArrays) -> np.ndarray:
    """int64 [standing triangles]: the object of each."""
    return of_parts(arrays, PART_OBJECT)


def stored_surfaces(arrays: SceneArrays) -> np.ndarray:
    """int64 [stored triangles]: the row of its surface of each."""
    return surface_rows_in(arrays, np.arange(len(arrays.corners)))


def stored_corners(arrays: SceneArrays) -> np.ndarray:
    """float32 [stored triangles, 3, 3]: the corners of each, in its own space."""
    return arrays.points[arrays.corners]


def triangles_of_light(arrays: SceneArrays, light: int) -> np.ndarray:
    """int64 [n]: the triangles of the mesh light with that row, also those that emit nothing."""
    own = arrays.parts[:, PART_LIGHT] == light
    ranges = zip(arrays.parts[own, PART_FIRST].tolist(), _ends(arrays)[own].tolist(), strict=True)
    return np.concatenate([np.zeros(0, np.int64), *(np.arange(first, end) for first, end in ranges)])


def rows_of(arrays: SceneArrays, triangles: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(placements int64, STANDS for none; rows int64 in the arrays) of triangles by number, of any shape."""
    return _rows(arrays.standing, arrays.bvh.placements, triangles)


def _rows(standing: int, placements: Placements, triangles: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    numbers = np.asarray(triangles).astype(np.int64)
    if not len(placements.first):
        return np.full(numbers.shape, STANDS), numbers
    of = np.where(numbers < standing, STANDS, np.searchsorted(placements.first, numbers, side="right") - 1)
    return of, np.where(of == STANDS, numbers, numbers - placements.first[of].astype(np.int64) + placements.stored[of].astype(np.int64))


def objects_at(arrays: SceneArrays, triangles: np.ndarray) -> np.ndarray:
    """int64 [...]: numbers of the objects of triangles."""
    of, rows = rows_of(arrays, triangles)
    found: np.ndarray = arrays.parts[_parts_of(arrays, rows), PART_OBJECT]
    if not len(arrays.bvh.placements.first):
        return found
    return np.where(of == STANDS, found, arrays.bvh.placements.objects[np.maximum(of, 0)].astype(np.int64))


def _parts_of(arrays: SceneArrays, rows: np.ndarray) -> np.ndarray:
    return np.searchsorted(arrays.parts[:, PART_FIRST], rows, side="right") - 1


def surface_rows_in(arrays: SceneArrays, rows: np.ndarray) -> np.ndarray:
    """int64 [...]: rows of SceneArrays.surfaces of stored triangles."""
    part = arrays.parts[_parts_of(arrays, rows)]
    found = arrays.surface_of[part[..., PART_SURFACE] + part[..., PART_STEP] * (rows - part[..., PART_FIRST])]
    return np.asarray(found).astype(np.int64)


def surface_rows_at(arrays: SceneArrays, triangles: np.ndarray) -> np.ndarray:
    """int64 [...]: rows of SceneArrays.surfaces of triangles."""
    return surface_rows_in(arrays, rows_of(arrays, triangles)[1])


def corners_at(arrays: SceneArrays, triangles: np.ndarray) -> np.ndarray:
    """float64 [..., 3, 3]: corners of triangles in the scene, in metres."""
    return placed_corners(arrays.points, arrays.corners, arrays.standing, arrays.bvh.placements, triangles)


def placed_corners(points: np.ndarray, numbers: np.ndarray, standing: int, placements: Placements, triangles: np.ndarray) -> np.ndarray:
    """The same from some of the arrays; numbers: SceneArrays.corners."""
    of, rows = _rows(standing, placements, triangles)
    corners = points[numbers[rows]].astype(float)
    placed = of != STANDS
    if placed.any():
        matrices = placements.to_world[of[placed]].reshape(-1, 3, 4)
        corners[placed] = np.einsum("nij,nkj->nki", matrices[:, :, :3], corners[placed]) + matrices[:, None, :, 3]
    return corners


def normals_at(arrays: SceneArrays, triangles: np.ndarray) -> np.ndarray:
    """float64 [..., 3, 3]: shading normals at the corners of triangles, of unit length for those that stand."""
    of, rows = rows_of(arrays, triangles)
    corners = arrays.corners[rows]
    normals = corner_normals(arrays.normals[corners], arrays.points[corners]).astype(float)
    placed = of != STANDS
    if placed.any():
        inverses = arrays.bvh.placements.from_world[of[placed]].reshape(-1, 3, 4)[:, :, :3]
        normals[placed] = np.einsum("nji,nkj->nki", inverses, normals[placed])
    return normals


def bounds(arrays: SceneArrays) -> tuple[np.ndarray, np.ndarray]:
    """Lowest and highest corner of a box around everything, float64 [3] in metres; of nothing, the origin."""
    standing, placements = arrays.points[arrays.corners[: arrays.standing]].reshape(-1, 3), arrays.bvh.placements
    boxes = [np.concatenate([standing.min(axis=0), standing.max(axis=0)])[None]] if len(standing) else []
    if len(placements.first):
        boxes.append(placed_boxes(arrays.points, arrays.corners, placements))
    every = np.concatenate(boxes or [np.zeros((1, 6))]).astype(float)
    return every[:, :3].min(axis=0), every[:, 3:].max(axis=0)


def around(arrays: SceneArrays, chosen: np.ndarray) -> np.ndarray:
    """float64 [n, 3, 3]: the triangles of the rows that are `chosen`, bool by row, where they stand; for each placement the corners of a box around
    those of its shape, each as a triangle of one point."""
    standing, placements = arrays.standing, arrays.bvh.placements
    found = [arrays.points[arrays.corners[:standing][chosen[:standing]]].astype(float)]
    boxes: dict[int, np.ndarray] = {}
    for k, (row, count) in enumerate(zip(placements.stored.tolist(), placements.counts.tolist(), strict=True)):
        if row not in boxes:
            points = arrays.points[arrays.corners[row : row + count][chosen[row : row + count]]].reshape(-1, 3).astype(float)
            sides = np.stack([points.min(axis=0), points.max(axis=0)]) if len(points) else np.zeros((0, 3))
            boxes[row] = np.stack(np.meshgrid(*sides.T), axis=-1).reshape(-1, 3) if len(points) else sides
        matrix = placements.to_world[k].reshape(3, 4)
        corners = boxes[row] @ matrix[:, :3].T + matrix[:, 3]
        found.append(np.repeat(corners[:, None], 3, axis=1))
    return np.concatenate(found)
