"""What is known of a triangle by its number, whether it is stored where it stands or belongs to a placement (see trace.placements)."""

import numpy as np

from ..kernel import kernel
from ..trace.placements import Placements, normal_by, placement_of, point_by
from ..trace.two_levels import placed_boxes
from ..vector import normalize
from .arrays import NO_LIGHT, SceneArrays

MOST_COPIED = 20_000_000
"""Most triangles up to which placements can be copied (the setting `surfaces.copied`)."""
STANDS = -1
"""Instead of the number of a placement: the triangle is stored where it stands."""


@kernel
def row_of(scene, triangle):
    """(placement of a triangle or STANDS, its row in the arrays)."""
    number = np.int64(triangle)
    if number < len(scene.object_of):
        return STANDS, number
    placements = scene.bvh.placements
    placement = placement_of(placements.first, number)
    return placement, number - np.int64(placements.first[placement]) + np.int64(placements.stored[placement])


@kernel
def object_at(scene, triangle):
    """Number of a triangle's object."""
    number = np.int64(triangle)
    if number < len(scene.object_of):
        return np.int64(scene.object_of[number])
    placements = scene.bvh.placements
    return np.int64(placements.objects[placement_of(placements.first, number)])


@kernel
def surface_row_at(scene, triangle):
    """Number of a triangle's surface, its row in SceneArrays.surfaces."""
    _, row = row_of(scene, triangle)
    return np.int64(scene.surface_of[row])


@kernel
def mesh_light_at(scene, triangle):
    """The mesh light that a triangle belongs to, or NO_LIGHT. Mesh lights are never placed shapes."""
    number = np.int64(triangle)
    return scene.light_of[number] if number < len(scene.light_of) else NO_LIGHT


@kernel
def corners_of(scene, triangle):
    """The three corners of a triangle in the scene, float64."""
    placement, row = row_of(scene, triangle)
    v = scene.vertices
    a = (np.float64(v[row, 0]), np.float64(v[row, 1]), np.float64(v[row, 2]))
    b = (np.float64(v[row, 3]), np.float64(v[row, 4]), np.float64(v[row, 5]))
    c = (np.float64(v[row, 6]), np.float64(v[row, 7]), np.float64(v[row, 8]))
    if placement != STANDS:
        matrices = scene.bvh.placements.to_world
        a = point_by(matrices, placement, a[0], a[1], a[2])
        b = point_by(matrices, placement, b[0], b[1], b[2])
        c = point_by(matrices, placement, c[0], c[1], c[2])
    return a, b, c


@kernel
def mix(array, row, first, b1, b2):
    """Barycentric mix of one coordinate of the three corners (`first`, and every third or second after it)."""
    step = 3 if array.shape[1] == 9 else 2
    b0 = 1.0 - np.float64(b1) - np.float64(b2)
    return (
        b0 * np.float64(array[row, first])
        + np.float64(b1) * np.float64(array[row, first + step])
        + np.float64(b2) * np.float64(array[row, first + 2 * step])
    )


@kernel
def position_at(scene, placement, row, b1, b2):
    """The point with the weights b1, b2 on a triangle."""
    p = (mix(scene.vertices, row, 0, b1, b2), mix(scene.vertices, row, 1, b1, b2), mix(scene.vertices, row, 2, b1, b2))
    return p if placement == STANDS else point_by(scene.bvh.placements.to_world, placement, p[0], p[1], p[2])


@kernel
def smooth_normal_at(scene, placement, row, b1, b2):
    """The unit shading normal at that point, on the side that the mesh gives it."""
    n = (mix(scene.normals, row, 0, b1, b2), mix(scene.normals, row, 1, b1, b2), mix(scene.normals, row, 2, b1, b2))
    return normalize(n if placement == STANDS else normal_by(scene.bvh.placements.from_world, placement, n[0], n[1], n[2]))


@kernel
def uv_at(scene, row, b1, b2):
    """Texture coordinates at that point."""
    return mix(scene.uvs, row, 0, b1, b2), mix(scene.uvs, row, 1, b1, b2)


# The same for many triangles at once, outside kernels.


def triangle_count(arrays: SceneArrays) -> int:
    """Number of triangles that a ray can hit, those of every placement counted."""
    placements = arrays.bvh.placements
    return int(placements.first[-1]) + int(placements.counts[-1]) if len(placements.first) else len(arrays.object_of)


def rows_of(arrays: SceneArrays, triangles: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(placements int64, STANDS for none; rows int64 in the arrays) of triangles by number, of any shape."""
    return _rows(len(arrays.object_of), arrays.bvh.placements, triangles)


def _rows(standing: int, placements: Placements, triangles: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    numbers = np.asarray(triangles).astype(np.int64)
    if not len(placements.first):
        return np.full(numbers.shape, STANDS), numbers
    of = np.where(numbers < standing, STANDS, np.searchsorted(placements.first, numbers, side="right") - 1)
    return of, np.where(of == STANDS, numbers, numbers - placements.first[of].astype(np.int64) + placements.stored[of].astype(np.int64))


def objects_at(arrays: SceneArrays, triangles: np.ndarray) -> np.ndarray:
    """int64 [...]: numbers of the objects of triangles."""
    of, rows = rows_of(arrays, triangles)
    if not len(arrays.bvh.placements.first):
        return arrays.object_of[rows].astype(np.int64)
    found = arrays.bvh.placements.objects[of].astype(np.int64)
    standing = of == STANDS
    found[standing] = arrays.object_of[rows[standing]]
    return found


def surface_rows_at(arrays: SceneArrays, triangles: np.ndarray) -> np.ndarray:
    """int64 [...]: rows of SceneArrays.surfaces of triangles."""
    return arrays.surface_of[rows_of(arrays, triangles)[1]].astype(np.int64)


def corners_at(arrays: SceneArrays, triangles: np.ndarray) -> np.ndarray:
    """float64 [..., 3, 3]: corners of triangles in the scene, in metres."""
    return placed_corners(arrays.vertices, len(arrays.object_of), arrays.bvh.placements, triangles)


def placed_corners(vertices: np.ndarray, standing: int, placements: Placements, triangles: np.ndarray) -> np.ndarray:
    """The same from the parts of the arrays; standing: number of triangles that are stored where they stand."""
    of, rows = _rows(standing, placements, triangles)
    corners = vertices[rows].reshape(*rows.shape, 3, 3).astype(float)
    placed = of != STANDS
    if placed.any():
        matrices = placements.to_world[of[placed]].reshape(-1, 3, 4)
        corners[placed] = np.einsum("nij,nkj->nki", matrices[:, :, :3], corners[placed]) + matrices[:, None, :, 3]
    return corners


def normals_at(arrays: SceneArrays, triangles: np.ndarray) -> np.ndarray:
    """float64 [..., 3, 3]: shading normals at the corners of triangles, of unit length for those that stand."""
    of, rows = rows_of(arrays, triangles)
    normals = arrays.normals[rows].reshape(*rows.shape, 3, 3).astype(float)
    placed = of != STANDS
    if placed.any():
        inverses = arrays.bvh.placements.from_world[of[placed]].reshape(-1, 3, 4)[:, :, :3]
        normals[placed] = np.einsum("nji,nkj->nki", inverses, normals[placed])
    return normals


def bounds(arrays: SceneArrays) -> tuple[np.ndarray, np.ndarray]:
    """Lowest and highest corner of a box around everything, float64 [3] in metres; of nothing, the origin."""
    standing, placements = arrays.vertices[: len(arrays.object_of)].reshape(-1, 3), arrays.bvh.placements
    boxes = [np.concatenate([standing.min(axis=0), standing.max(axis=0)])[None]] if len(standing) else []
    if len(placements.first):
        boxes.append(placed_boxes(arrays.vertices.reshape(-1, 3, 3), placements))
    every = np.concatenate(boxes or [np.zeros((1, 6))]).astype(float)
    return every[:, :3].min(axis=0), every[:, 3:].max(axis=0)


def around(arrays: SceneArrays, chosen: np.ndarray) -> np.ndarray:
    """float64 [n, 3, 3]: the triangles of the rows that are `chosen`, bool by row, where they stand; for each placement the corners of a box around
    those of its shape, each as a triangle of one point."""
    standing, placements = len(arrays.object_of), arrays.bvh.placements
    found = [arrays.vertices[:standing][chosen[:standing]].reshape(-1, 3, 3).astype(float)]
    boxes: dict[int, np.ndarray] = {}
    for k, (row, count) in enumerate(zip(placements.stored.tolist(), placements.counts.tolist(), strict=True)):
        if row not in boxes:
            points = arrays.vertices[row : row + count][chosen[row : row + count]].reshape(-1, 3).astype(float)
            sides = np.stack([points.min(axis=0), points.max(axis=0)]) if len(points) else np.zeros((0, 3))
            boxes[row] = np.stack(np.meshgrid(*sides.T), axis=-1).reshape(-1, 3) if len(points) else sides
        matrix = placements.to_world[k].reshape(3, 4)
        corners = boxes[row] @ matrix[:, :3].T + matrix[:, 3]
        found.append(np.repeat(corners[:, None], 3, axis=1))
    return np.concatenate(found)
