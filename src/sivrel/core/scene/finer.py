"""Subdivides the cages of a scene as finely as its picture needs, or as finely as asked for in metres."""

import math
from dataclasses import dataclass, replace

import numpy as np

from .displace import displaced, is_displaced
from .indexed import IndexedTriangles, indexed
from .model import Camera, Mesh, Scene, Surface
from .placed_mesh import PlacedMesh
from .subdivide import Cage, around_faces, corner_normals, limit_points, refine

MOST_TRIANGLES = 8_000_000
"""Most triangles of all subdivided meshes together: above, those with most are made coarser."""
SHARE = 0.98
"""Share of a cage's edges that are no longer than asked for after subdividing; the longest are few."""


@dataclass
class _Group:
    """Meshes that share a cage, and are subdivided alike: their names, the size of the cage, and the steps of subdivision."""

    names: set[str]
    corners: int
    level: int = 0

    def triangles(self) -> int:
        return 2 * self.corners * int(4 ** (self.level - 1)) if self.level else 0


def levels_of(scene: Scene, camera: Camera, columns: int, longest: float, in_pixels: bool, most: int) -> dict[str, int]:
    """Steps of subdivision of each mesh with a cage, by its name: until edges are `longest` metres or, `in_pixels`, pixels of a picture that is
    `columns` wide; at most `most`."""
    groups: dict[int, _Group] = {}
    for mesh in scene.meshes if longest > 0.0 else []:
        cage, to_world = _cage_of(mesh)
        if cage is not None:
            lengths, middles = _edges(cage, to_world)
            long = float(np.quantile(_in_pixels(lengths, middles, camera, columns) if in_pixels else lengths, SHARE))
            group = groups.setdefault(id(cage), _Group(set(), len(cage.corners)))
            group.names.add(mesh.name)
            least = int(any(is_displaced(scene.surfaces[k]) for k in np.unique(mesh.surfaces).tolist()))
            group.level = max(group.level, min(math.ceil(math.log2(long / longest)), most) if long > longest else least)
    while sum(group.triangles() for group in groups.values()) > MOST_TRIANGLES:
        max(groups.values(), key=_Group.triangles).level -= 1
    levels: dict[str, int] = {}
    for group in groups.values():
        for name in group.names:
            levels[name] = max(group.level, levels.get(name, 0))
    return levels


def edge_in_pixels(mesh: Mesh, camera: Camera, columns: int) -> float | None:
    """The edge of a mesh's cage, in pixels of a picture that is `columns` wide, than which few are longer; None without a cage. The mesh may have
    been subdivided already."""
    cage, to_world = (mesh.shape.cage, mesh.to_world) if isinstance(mesh, PlacedMesh) else (mesh.cage, None)
    return None if cage is None else float(np.quantile(_in_pixels(*_edges(cage, to_world), camera, columns), SHARE))


def _cage_of(mesh: Mesh) -> tuple[Cage | None, np.ndarray | None]:
    """A mesh's cage, and the 3 x 4 matrix that places it if its points are not the scene's own."""
    return (mesh.shape.own_cage, mesh.to_world) if isinstance(mesh, PlacedMesh) else (mesh.own_cage, None)


def _edges(cage: Cage, to_world: np.ndarray | None) -> tuple[np.ndarray, np.ndarray]:
    """Lengths of the edges around all faces in metres, and their middles."""
    points = cage.points if to_world is None else cage.points @ to_world[:, :3].T + to_world[:, 3]
    a, b = points[cage.corners], points[cage.corners[around_faces(cage.counts)[1]]]
    return np.linalg.norm(b - a, axis=1), 0.5 * (a + b)


def _in_pixels(lengths: np.ndarray, middles: np.ndarray, camera: Camera, columns: int) -> np.ndarray:
    """The lengths in pixels, as long as edges can look from where they are, whichever way they and the camera turn: so a mesh does not change as it
    leaves the picture."""
    if camera.orthographic:
        return lengths * columns / (2.0 * camera.half_width)
    away = np.linalg.norm(middles - camera.to_world[:, 3], axis=1)
    return lengths * columns / (2.0 * camera.half_width) / np.maximum(away, lengths)


def with_subdivided(scene: Scene, levels: dict[str, int]) -> Scene:
    """`scene` with its cages subdivided by so many steps."""
    if not levels:
        return scene
    shapes: dict[tuple[int, int], Mesh] = {}
    meshes: list[Mesh] = []
    for mesh in scene.meshes:
        level = levels.get(mesh.name, 0)
        if isinstance(mesh, PlacedMesh):
            if (id(mesh.shape), level) not in shapes:
                shapes[id(mesh.shape), level] = subdivided(mesh.shape, level, scene.surfaces)
            mesh = mesh.with_shape(shapes[id(mesh.shape), level])
        else:
            mesh = subdivided(mesh, level, scene.surfaces)
        meshes.append(mesh)
    return replace(scene, meshes=meshes)


def subdivided(mesh: Mesh, level: int, surfaces: list[Surface] | None = None) -> Mesh:
    """A mesh with its cage, if it has one, subdivided by so many steps, its points on the limit surface where the scheme is Catmull and Clark's, and
    displaced as its `surfaces` say, as triangles. The last result of each cage is kept, since a picture is often prepared again from the same
    place."""
    cage = mesh.own_cage
    if cage is None or level == 0:
        return mesh
    if cage.kept is None or cage.kept[0] != level:
        fine = cage
        for _ in range(level):
            fine = refine(fine)
        cage.kept = level, *_triangles(fine)
        cage.kept_displaced = None
    _, geometry, faces, points = cage.kept
    # Its surfaces may have been changed since it was read: each face takes that of its first triangle.
    of_face = np.zeros(int(cage.triangle_face.max(initial=0)) + 1, np.uint32)
    of_face[cage.triangle_face[::-1]] = mesh.surfaces[::-1]
    worn = of_face[faces]
    own = {k: surfaces[k] for k in np.unique(worn).tolist()} if surfaces else {}
    if any(is_displaced(surface) for surface in own.values()):
        key = worn.tobytes(), *((k, s.displacement, id(s.displacement_map and s.displacement_map.texture)) for k, s in own.items())
        if cage.kept_displaced is None or cage.kept_displaced[0] != key:
            cage.kept_displaced = key, displaced(geometry, points, worn, surfaces or [], cage.unit)
        _, geometry = cage.kept_displaced
    return mesh.changed(geometry=geometry, surfaces=worn)


def _triangles(fine: Cage) -> tuple[IndexedTriangles, np.ndarray, np.ndarray]:
    """(triangles, the face of the first cage that each came from, the point of each corner)."""
    points = limit_points(fine) if fine.scheme == "catmull_clark" else fine.points
    normals, sides = corner_normals(fine), int(fine.counts[0])
    at = np.arange(len(fine.corners)).reshape(-1, sides)[~fine.hole]
    faces = fine.face_of[~fine.hole]
    if sides == 4:
        at, faces = np.stack([at[:, [0, 1, 2]], at[:, [0, 2, 3]]], axis=1).reshape(-1, 3), np.repeat(faces, 2)
    if fine.turned:
        at, normals = at[:, ::-1], -normals
    return indexed(points[fine.corners[at]], normals[at], fine.uvs[at]), faces, fine.corners[at]
