"""Meshes that share a shape: each says only where it is placed."""

import copy
from typing import Any

import numpy as np

from ..trace.placements import box_by
from .indexed import IndexedTriangles
from .model import BY_CORNERS, Mesh

OF_SHAPE = BY_CORNERS | {"geometry", "surfaces", "cage"}
"""Fields of a mesh that belong to its shape. The others, such as which rays can hit it, are a placement's own."""


class PlacedMesh(Mesh):
    """A placement of a shape that other meshes share. Its triangles are computed whenever they are asked for, and not kept.

    shape: a mesh in its own space; the surfaces of all placements are its surfaces
    to_world: float64 [3, 4], with an inverse. Where it mirrors, the shape's triangles must run clockwise, so that they run counter-clockwise in the
    scene; normals of shapes always point outwards
    """

    def __init__(self, name: str, shape: Mesh, to_world: np.ndarray) -> None:
        self.name, self.shape, self.to_world = name, shape, to_world
        self.double_sided, self.aimed, self.stand_in, self.refine, self.cage = shape.double_sided, False, False, None, None
        self.seen_by_camera = self.casts_shadows = self.seen_by_bounced = True

    @property
    def geometry(self) -> IndexedTriangles:  # type: ignore[override]
        return self.shape.geometry.moved(self.to_world)

    @property
    def surfaces(self) -> np.ndarray:  # type: ignore[override]
        return self.shape.surfaces

    def box(self) -> tuple[np.ndarray, np.ndarray]:
        """A box around the transformed box of its shape."""
        return box_by(self.to_world, *self.shape.box())

    def changed(self, **changes: Any) -> Mesh:
        if changes.keys() == {"surfaces"}:
            return self.with_shape(_in_surfaces(self.shape, changes["surfaces"]))
        if OF_SHAPE & changes.keys():
            return self.standing().changed(**changes)
        other = copy.copy(self)
        for name, value in changes.items():
            setattr(other, name, value)
        return other

    def standing(self) -> Mesh:
        """The same as a mesh of its own, where it stands."""
        return Mesh(
            self.name, self.geometry, self.surfaces, self.double_sided, self.seen_by_camera, self.casts_shadows, self.seen_by_bounced, self.aimed,
            self.stand_in, self.refine,
        )  # fmt: skip

    def moved(self, matrix: np.ndarray) -> "PlacedMesh":
        """The same placement, moved by a 3 x 4 matrix."""
        other = copy.copy(self)
        other.to_world = np.column_stack([matrix[:, :3] @ self.to_world[:, :3], matrix[:, :3] @ self.to_world[:, 3] + matrix[:, 3]])
        return other

    def with_shape(self, shape: Mesh) -> "PlacedMesh":
        """The same placement of another shape."""
        other = copy.copy(self)
        other.shape = shape
        return other

    @property
    def mirrors(self) -> bool:
        """Whether the shape is mirrored here, and its triangles run clockwise."""
        return bool(np.linalg.det(self.to_world[:, :3]) < 0.0)


def run_round(mesh: Mesh) -> Mesh:
    """The mesh with the corners of its triangles in the other order, and the same normals."""
    return mesh.changed(geometry=mesh.geometry.run_round())


def _in_surfaces(shape: Mesh, surfaces: np.ndarray) -> Mesh:
    """A shape in other surfaces: the same one for all placements that change alike, so that they still share it."""
    for known in (shape, *shape.variants):
        if np.array_equal(known.surfaces, surfaces):
            return known
    made = shape.changed(surfaces=surfaces)
    made.variants = shape.variants
    shape.variants.append(made)
    return made


def moves(before: Mesh, after: Mesh, within: float = 0.0) -> bool:
    """Whether a mesh has other triangles, or triangles elsewhere, at another time; by more than `within` metres."""
    if isinstance(before, PlacedMesh) and isinstance(after, PlacedMesh):
        if before.count == after.count and np.allclose(before.to_world, after.to_world, rtol=0.0, atol=within):
            return moves(before.shape, after.shape, within)
    if before.count != after.count:
        return True
    a, b = before.geometry, after.geometry
    return a is not b and not np.allclose(a.each_vertices, b.each_vertices, rtol=0.0, atol=within)
