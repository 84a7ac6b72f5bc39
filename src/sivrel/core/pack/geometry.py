"""Packs a scene's geometry and surfaces into the arrays that the kernels read."""

from dataclasses import fields

import numpy as np

from ..scene.arrays import (
    ABSORPTION,
    BASE,
    BASE_MAP,
    BOTH_SIDES,
    BY_SPECULAR,
    COAT,
    COAT_MAP,
    COAT_ROUGHNESS,
    COAT_ROUGHNESS_MAP,
    EMISSION,
    EMISSION_MAP,
    IOR,
    METALLIC,
    METALLIC_MAP,
    NORMAL_MAP,
    OPACITY,
    OPACITY_MAP,
    ROUGHNESS,
    ROUGHNESS_MAP,
    SEE_THROUGH,
    SEE_THROUGHS,
    SPECULAR_COLOUR,
    SPECULAR_MAP,
    SURFACE_COLUMNS,
    TEXTURED,
    THRESHOLD,
    TINT,
    SceneArrays,
)
from ..scene.model import Scene, Surface, TextureUse
from ..trace.bvh import Bvh
from ..trace.placements import Placements, are_same
from ..trace.two_levels import build_two_levels, placed_boxes
from .lights import pack_lights, without_lights
from .objects import packed_meshes
from .stored import COPIED, stored_meshes
from .textures import TexturePool

LEAST_GLASS_INDEX = 1.0005
OFFSET_ROUNDINGS = 48.0
"""The automatic ray offset in rounding errors (2**-24) of the largest coordinate: a hit point is off by a few of them."""


def pack_geometry(scene: Scene, like: SceneArrays | None = None, most_copied: int = COPIED) -> SceneArrays:
    """Flatten meshes, surfaces and textures of `scene` and build its hierarchy; lights are packed onto it
    (`pack.lights`). `like`: another frame of it, whose hierarchy is taken where no vertex has moved. most_copied: see `pack.stored`."""
    meshes = packed_meshes(scene)
    stored = stored_meshes(scene, meshes, most_copied)

    def gathered(attribute: str, columns: int) -> np.ndarray:
        whole = np.empty((sum(mesh.count for mesh in stored.meshes), columns), np.float32)
        row = 0
        for mesh in stored.meshes:
            whole[row : row + mesh.count] = getattr(mesh, attribute).reshape(-1, columns)
            row += mesh.count
        return whole

    vertices = gathered("vertices", 9)
    pool = TexturePool()
    surfaces = [_surface_row(surface, both, pool) for surface in scene.surfaces for both in (False, True)]
    # Each surface is stored twice: emitting from its front, and from both faces.
    surface_of = [mesh.surfaces.astype(np.uint32) * 2 + np.uint32(both) for mesh, both in zip(stored.meshes, stored.both_sides, strict=True)]
    counts = [meshes[k].count for k in stored.standing]
    return without_lights(
        bvh=_hierarchy(vertices, sum(counts), stored.placements, like),
        vertices=vertices,
        normals=gathered("normals", 9),
        uvs=gathered("uvs", 6),
        surface_of=np.concatenate(surface_of) if surface_of else np.zeros(0, np.uint32),
        object_of=np.repeat(np.array(stored.standing, np.uint32), counts),
        surfaces=np.array(surfaces, np.float64).reshape(-1, SURFACE_COLUMNS),
        pictures=pool.pictures(),
        see_through=any(s.lets_light_pass() for s in scene.surfaces),
        offset=max(_largest(vertices, sum(counts), stored.placements), 1e-6) * OFFSET_ROUNDINGS * 2.0**-24,
    )


def _hierarchy(vertices: np.ndarray, standing: int, placements: Placements, like: SceneArrays | None) -> Bvh:
    if like is not None and np.array_equal(like.vertices, vertices) and are_same(like.bvh.placements, placements):
        return like.bvh
    return build_two_levels(vertices.reshape(-1, 3, 3), standing, placements)


def _largest(vertices: np.ndarray, standing: int, placements: Placements) -> float:
    """The largest coordinate in metres, in the scene and in the space of shapes as it is stretched by their placements: rays are rounded in both."""
    if not len(vertices):
        return 1.0
    largest = float(np.abs(vertices[:standing]).max(initial=0.0))
    if len(placements.first):
        largest = max(largest, float(np.abs(placed_boxes(vertices.reshape(-1, 3, 3), placements)).max()))
        own = {row: float(np.abs(vertices[row : row + count]).max()) for row, count in zip(placements.stored, placements.counts, strict=True)}
        stretch = np.linalg.norm(placements.to_world.reshape(-1, 3, 4)[:, :, :3], axis=1).max(axis=1)
        largest = max(largest, float((stretch * np.array([own[row] for row in placements.stored])).max()))
    return largest


def pack_scene(scene: Scene) -> SceneArrays:
    """Geometry and lights of `scene`, shadows traced with one ray."""
    return pack_lights(pack_geometry(scene), scene)


def _surface_row(surface: Surface, both_sides: bool, pool: TexturePool) -> np.ndarray:
    row = np.zeros(SURFACE_COLUMNS)
    row[BASE : BASE + 3], row[EMISSION : EMISSION + 3] = surface.base_color, surface.emission
    row[[ROUGHNESS, METALLIC, IOR]] = surface.roughness, surface.metallic, surface.ior
    row[[OPACITY, THRESHOLD, BOTH_SIDES]] = surface.opacity, surface.opacity_threshold, both_sides
    row[BASE_MAP : BASE_MAP + 2] = pool.reference(surface.base_color_map)
    row[ROUGHNESS_MAP : ROUGHNESS_MAP + 2] = pool.reference(surface.roughness_map)
    row[METALLIC_MAP : METALLIC_MAP + 2] = pool.reference(surface.metallic_map)
    row[EMISSION_MAP : EMISSION_MAP + 2] = pool.reference(surface.emission_map)
    row[OPACITY_MAP : OPACITY_MAP + 2] = pool.reference(surface.opacity_map)
    row[SEE_THROUGH], row[TINT : TINT + 3] = SEE_THROUGHS[surface.see_through], surface.attenuation
    if surface.see_through == "solid":
        # An index of exactly 1 does not refract, and would divide by zero.
        row[IOR] = max(surface.ior, LEAST_GLASS_INDEX)
        if surface.attenuation_distance > 0.0:
            row[ABSORPTION : ABSORPTION + 3] = -np.log(np.maximum(surface.attenuation, 1e-6)) / surface.attenuation_distance
    row[[BY_SPECULAR, COAT, COAT_ROUGHNESS]] = surface.specular is not None, surface.coat, surface.coat_roughness
    row[SPECULAR_COLOUR : SPECULAR_COLOUR + 3] = surface.specular or (0.0, 0.0, 0.0)
    row[SPECULAR_MAP : SPECULAR_MAP + 2] = pool.reference(surface.specular_map)
    row[COAT_MAP : COAT_MAP + 2] = pool.reference(surface.coat_map)
    row[COAT_ROUGHNESS_MAP : COAT_ROUGHNESS_MAP + 2] = pool.reference(surface.coat_roughness_map)
    row[NORMAL_MAP : NORMAL_MAP + 2] = pool.reference(surface.normal_map)
    row[TEXTURED] = any(isinstance(getattr(surface, field.name), TextureUse) for field in fields(surface))
    return row
