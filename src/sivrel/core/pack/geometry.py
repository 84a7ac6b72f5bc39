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
    NO_COORDINATES,
    NORMAL_MAP,
    OPACITY,
    OPACITY_MAP,
    PART_BLOCK,
    PART_COLUMNS,
    PART_COORDINATES,
    PART_FIRST,
    PART_OBJECT,
    PART_STEP,
    PART_SURFACE,
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
from .stored import COPIED, Stored, stored_meshes
from .textures import TexturePool

LEAST_GLASS_INDEX = 1.0005
OFFSET_ROUNDINGS = 48.0
"""The automatic ray offset in rounding errors (2**-24) of the largest coordinate: a hit point is off by a few of them."""


def pack_geometry(scene: Scene, like: SceneArrays | None = None, most_copied: int = COPIED) -> SceneArrays:
    """Flatten meshes, surfaces and textures of `scene` and build its hierarchy; lights are packed onto it
    (`pack.lights`). `like`: another frame of it, whose hierarchy is taken where no vertex has moved. most_copied: see `pack.stored`."""
    meshes = packed_meshes(scene)
    stored = stored_meshes(scene, meshes, most_copied)

    pool = TexturePool()
    surfaces = [_surface_row(surface, both, pool) for surface in scene.surfaces for both in (False, True)]
    geometry = packed_triangles(stored)
    points, corners = geometry["points"], geometry["corners"]
    standing = sum(meshes[k].count for k in stored.standing)
    return without_lights(
        **geometry,
        bvh=_hierarchy(points, corners, standing, stored.placements, like),
        standing=standing,
        surfaces=np.array(surfaces, np.float64).reshape(-1, SURFACE_COLUMNS),
        pictures=pool.pictures(),
        see_through=any(s.lets_light_pass() for s in scene.surfaces),
        offset=max(_largest(points, corners, standing, stored.placements), 1e-6) * OFFSET_ROUNDINGS * 2.0**-24,
    )


def packed_triangles(stored: Stored) -> dict[str, np.ndarray]:
    """The triangles of all stored meshes behind each other: corners, points, normals, uvs, parts, part_at and surface_of of `SceneArrays`. Each
    surface is stored twice there: emitting from its front, and from both faces."""
    corners, points, normals, uvs, surface_of = (list[np.ndarray]() for _ in range(5))
    parts = np.full((len(stored.meshes), PART_COLUMNS), -1, np.int64)
    first = used = textured = worn = 0
    for k, (mesh, both) in enumerate(zip(stored.meshes, stored.both_sides, strict=True)):
        geometry = mesh.geometry
        own = mesh.surfaces.astype(np.uint32) * 2 + np.uint32(both)
        alike = bool((own == own[0]).all())
        surface_of.append(own[:1] if alike else own)
        parts[k, [PART_FIRST, PART_SURFACE, PART_STEP]] = first, worn, not alike
        parts[k, PART_COORDINATES] = textured - used if len(geometry.uvs) else NO_COORDINATES
        corners.append(geometry.corners + np.uint32(used))
        points.append(geometry.points)
        normals.append(geometry.normals)
        uvs.append(geometry.uvs)
        first, used, textured, worn = first + mesh.count, used + len(geometry.points), textured + len(geometry.uvs), worn + len(surface_of[-1])
    parts[: len(stored.standing), PART_OBJECT] = stored.standing
    blocks = np.arange(0, first, 1 << PART_BLOCK)
    return {
        "part_at": (np.searchsorted(parts[:, PART_FIRST], blocks, side="right") - 1).astype(np.uint32),
        "corners": np.concatenate(corners or [np.zeros((0, 3), np.uint32)]),
        "points": np.concatenate(points or [np.zeros((0, 3), np.float32)]),
        "normals": np.concatenate(normals or [np.zeros(0, np.uint32)]),
        "uvs": np.concatenate(uvs or [np.zeros((0, 2), np.float32)]),
        "parts": parts,
        "surface_of": np.concatenate(surface_of or [np.zeros(0, np.uint32)]),
    }


def _hierarchy(points: np.ndarray, corners: np.ndarray, standing: int, placements: Placements, like: SceneArrays | None) -> Bvh:
    if (
        like is not None
        and np.array_equal(like.points, points)
        and np.array_equal(like.corners, corners)
        and are_same(like.bvh.placements, placements)
    ):
        return like.bvh
    return build_two_levels(points, corners, standing, placements)


def _largest(points: np.ndarray, corners: np.ndarray, standing: int, placements: Placements) -> float:
    """The largest coordinate in metres, in the scene and in the space of shapes as it is stretched by their placements: rays are rounded in both."""
    if not len(corners):
        return 1.0
    own_points = int(corners[:standing].max()) + 1 if standing else 0
    largest = float(np.abs(points[:own_points]).max(initial=0.0))
    if len(placements.first):
        largest = max(largest, float(np.abs(placed_boxes(points, corners, placements)).max()))
        shapes = zip(placements.stored.tolist(), placements.counts.tolist(), strict=True)
        own = {row: float(np.abs(points[corners[row : row + count]]).max()) for row, count in set(shapes)}
        stretch = np.linalg.norm(placements.to_world.reshape(-1, 3, 4)[:, :, :3], axis=1).max(axis=1)
        largest = max(largest, float((stretch * np.array([own[row] for row in placements.stored.tolist()])).max()))
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
