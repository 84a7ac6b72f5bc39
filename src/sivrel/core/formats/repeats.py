"""Finds meshes that are one shape placed several times, in files that write every copy out."""

import hashlib

import numpy as np

from ..scene.model import Mesh, Scene
from ..scene.placed_mesh import PlacedMesh
from .shapes import can_place

LEAST = 200
"""Triangles from which a mesh is compared: smaller ones cost little."""
SAME, SAME_NORMALS = 2e-5, 5e-3
"""How far a point may lie from where its shape is placed, in sizes of the mesh, and a normal from its own: files round to some six digits."""
PROBES = 32
"""Points by which a transform is fitted before all of them are compared."""
MOST_SHAPES = 16
"""Shapes of the same triangles and coordinates that a mesh is compared with."""


def share_repeated(scene: Scene) -> None:
    """Replace meshes that are a copy of an earlier one, moved, turned, scaled or sheared, by placements of it. Copies have their triangles,
    coordinates and surfaces in the same order; mirrored and flat ones stay as they are."""
    shapes: dict[tuple[int, str], list[Mesh]] = {}
    placed: dict[int, list[tuple[int, np.ndarray]]] = {}
    for k, mesh in enumerate(scene.meshes):
        if mesh.count < LEAST or isinstance(mesh, PlacedMesh):
            continue
        digest = hashlib.sha256(mesh.uvs.tobytes() + mesh.surfaces.tobytes() + bytes([mesh.double_sided])).hexdigest()
        known = shapes.setdefault((mesh.count, digest), [])
        for shape in known:
            matrix = transform_between(shape, mesh)
            if matrix is not None:
                placed[id(shape)].append((k, matrix))
                break
        else:
            if len(known) < MOST_SHAPES:
                known.append(mesh)
                placed[id(mesh)] = [(k, np.eye(4)[:3])]
    for copies in placed.values():
        if len(copies) > 1:
            shape = scene.meshes[copies[0][0]]
            for k, matrix in copies:
                scene.meshes[k] = PlacedMesh(scene.meshes[k].name, shape, matrix)


def transform_between(shape: Mesh, mesh: Mesh) -> np.ndarray | None:
    """float64 [3, 4] that takes the points of `shape` to those of `mesh`, by least squares; None where none does."""
    a, b = shape.vertices.reshape(-1, 3), mesh.vertices.reshape(-1, 3)
    probes = np.unique(np.linspace(0, len(a) - 1, PROBES).astype(int))
    for rows in (probes, slice(None)):  # most that differ, differ in a few points
        p, q = a[rows].astype(float), b[rows].astype(float)
        middle = p.mean(axis=0)
        fitted, _, rank, _ = np.linalg.lstsq(np.column_stack([p - middle, np.ones(len(p))]), q, rcond=1e-6)
        if rank < 4:
            return None
        matrix = np.column_stack([fitted[:3].T, fitted[3] - fitted[:3].T @ middle])
        size = float(np.linalg.norm(q.max(axis=0) - q.min(axis=0)))
        if np.abs(p @ matrix[:, :3].T + matrix[:, 3] - q).max() > SAME * size:
            return None
    whole = np.vstack([matrix, [0.0, 0.0, 0.0, 1.0]])
    if not can_place(whole) or np.linalg.det(matrix[:, :3]) < 0.0:
        return None
    normals = PlacedMesh("copy", shape, matrix).normals
    return matrix if np.abs(normals - mesh.normals).max() <= SAME_NORMALS else None
