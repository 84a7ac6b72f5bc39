"""Which triangles of a scene are stored where they stand, and which shapes are stored once for all their placements."""

from typing import NamedTuple

import numpy as np

from ..errors import InputError
from ..scene.model import Mesh, Scene
from ..scene.placed_mesh import PlacedMesh
from ..trace.placements import MOST_NUMBERED, Placements, placements_of

COPIED = 500_000
"""Triangles up to which placements are copied, see the setting `surfaces.copied`."""


class Stored(NamedTuple):
    """meshes: in the order in which their triangles are stored: those of `standing`, numbers of the objects, then one for each shape;
    both_sides: whether each emits from both faces; placements: of the shapes, without their hierarchy."""

    meshes: list[Mesh]
    both_sides: list[bool]
    standing: list[int]
    placements: Placements


def stored_meshes(scene: Scene, meshes: list[Mesh], most_copied: int = COPIED) -> Stored:
    """How the packed `meshes` of `scene` are stored. Meshes that share a shape are stored once, but for those that emit light, and for the smallest
    ones, as long as their copies have no more than `most_copied` triangles. Raises InputError if there are too many."""
    glowing = {k for k, surface in enumerate(scene.surfaces) if max(surface.emission) > 0.0 or surface.emission_map is not None}
    lights = {light.mesh for light in scene.lights if light.kind == "mesh"}
    emits: dict[int, bool] = {}
    sharing: dict[tuple[int, bool], list[int]] = {}
    for k, mesh in enumerate(meshes):
        if isinstance(mesh, PlacedMesh) and not mesh.aimed and mesh.name not in lights:
            if id(mesh.shape) not in emits:
                emits[id(mesh.shape)] = bool(glowing) and not glowing.isdisjoint(np.unique(mesh.surfaces).tolist())
            if not emits[id(mesh.shape)]:
                sharing.setdefault((id(mesh.shape), mesh.double_sided), []).append(k)
    copied, shapes = 0, []
    for members in sorted(sharing.values(), key=lambda members: meshes[members[0]].count * len(members)):
        total = meshes[members[0]].count * len(members)
        if len(members) > 1 and copied + total > most_copied:
            shapes.append(members)
        else:
            copied += total
    shapes.sort()
    placed = {k for members in shapes for k in members}
    standing = [k for k in range(len(meshes)) if k not in placed]
    first = sum(meshes[k].count for k in standing)
    counts, rows, objects, matrices, row = [], [], [], [], first
    for members in shapes:
        count = meshes[members[0]].count
        for k in members:
            mesh = meshes[k]
            assert isinstance(mesh, PlacedMesh)
            counts.append(count)
            rows.append(row)
            objects.append(k)
            matrices.append(mesh.to_world)
        row += count
    if first + sum(counts) > MOST_NUMBERED:
        raise InputError(
            f"{scene.name} has {first + sum(counts):,} triangles with all its placements; more than {MOST_NUMBERED:,} can't be rendered."
        )
    placements = placements_of(counts, rows, objects, np.array(matrices).reshape(-1, 3, 4), first)
    alone, firsts = [meshes[k] for k in standing], [meshes[members[0]] for members in shapes]
    shared = [mesh.shape for mesh in firsts if isinstance(mesh, PlacedMesh)]
    return Stored([*alone, *shared], [mesh.double_sided for mesh in alone + firsts], standing, placements)
