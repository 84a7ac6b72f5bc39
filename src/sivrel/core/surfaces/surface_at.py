"""The surface at a hit: position, normals and textured values, interpolated from the triangle."""

import math
from typing import NamedTuple

import numpy as np

from ..kernel import called_kernel, kernel
from ..scene.arrays import (
    BASE,
    BASE_MAP,
    BOTH_SIDES,
    BY_SPECULAR,
    COAT,
    COAT_MAP,
    COAT_ROUGHNESS,
    COAT_ROUGHNESS_MAP,
    CUT_OUT,
    EMISSION,
    EMISSION_MAP,
    FINENESS,
    IOR,
    METALLIC,
    METALLIC_MAP,
    NORMAL_MAP,
    OPACITY,
    OPACITY_MAP,
    PANE,
    ROUGHNESS,
    ROUGHNESS_MAP,
    SEE_THROUGH,
    SPECULAR_COLOUR,
    SPECULAR_MAP,
    TEXTURED,
    THRESHOLD,
)
from ..scene.textures import FINEST, look_up, look_up_colour
from ..scene.triangles import corners_in, corners_of, mix, part_of, row_of, smooth_normal_at, surface_row_at, surface_row_in, uv_at, uv_edges
from ..vector import add, cross, dot, normalize, row3, scale, subtract
from .glass import pane_reflects
from .preview import Look

WIDE = 0.1
"""Width in radians of the ray that leaves a matte surface, one of many."""
FROM_LIGHT = 0.01
"""The same of a photon on its way from the light."""
AS_CODED = 0.01
"""Variance of slopes up to which a normal may be short only because of its 8 bits."""


class SurfacePoint(NamedTuple):
    """position in metres; geometric and shading normal towards the viewer; whether its front is seen; its number in
    SceneArrays.surfaces; its `Look`; what it emits towards the viewer."""

    position: tuple
    geometric_normal: tuple
    normal: tuple
    front: bool
    surface: int
    look: Look
    emission: tuple


@kernel
def _number(scene, row, value, use, u, v, size):
    texture = int(scene.surfaces[row, use])
    if texture < 0:
        return scene.surfaces[row, value]
    return look_up(scene, texture, int(scene.surfaces[row, use + 1]), u, v, size)


@kernel
def _colour(scene, row, value, use, u, v, size):
    texture = int(scene.surfaces[row, use])
    if texture < 0:
        return row3(scene.surfaces, row, value)
    return look_up_colour(scene, texture, u, v, size)


@kernel
def _size_at(scene, part, stored, twice_area, width):
    """Binary logarithm of the width, in texture coordinates, of what is `width` metres wide on a triangle of half of `twice_area` square metres."""
    _, _, s1, t1, s2, t2 = uv_edges(scene, part, stored)
    share = abs(s1 * t2 - s2 * t1) / twice_area * width * width
    return 0.5 * math.log2(share) if share > 0.0 else FINEST


@kernel
def opacity_at(scene, triangle, b1, b2):
    """Opacity 0 to 1 at a hit; with a threshold the surface is there or not (UsdPreviewSurface, opacityThreshold)."""
    _, stored = row_of(scene, triangle)
    part = part_of(scene, stored)
    row = surface_row_in(scene, part, stored)
    if scene.surfaces[row, OPACITY_MAP] < 0.0 and scene.surfaces[row, OPACITY] >= 1.0:
        return 1.0
    u, v = uv_at(scene, part, stored, b1, b2)
    opacity = _number(scene, row, OPACITY, OPACITY_MAP, u, v, FINEST)
    threshold = scene.surfaces[row, THRESHOLD]
    if threshold > 0.0:
        return 1.0 if opacity >= threshold else 0.0
    return min(max(opacity, 0.0), 1.0)


@called_kernel
def passing_at(scene, triangle, b1, b2, d):
    """(share of light along unit `d` that passes a hit straight, share that hits the surface as glass or pane). The rest
    hits it as opaque. Light through a pane is tinted by the surface's TINT."""
    opacity = opacity_at(scene, triangle, b1, b2)
    if opacity >= 1.0:
        return 0.0, 0.0
    row = surface_row_at(scene, triangle)
    kind = scene.surfaces[row, SEE_THROUGH]
    if kind == CUT_OUT:
        return 1.0 - opacity, 0.0
    if kind == PANE:
        v0, v1, v2 = corners_of(scene, triangle)
        cos = abs(dot(normalize(cross(subtract(v1, v0), subtract(v2, v0))), d))
        reflected = pane_reflects(cos, scene.surfaces[row, IOR])
        return (1.0 - opacity) * (1.0 - reflected), (1.0 - opacity) * reflected
    return 0.0, 1.0 - opacity


@called_kernel
def emission_at(scene, triangle, b1, b2):
    """Emission of a triangle at a point, on its emitting side."""
    _, stored = row_of(scene, triangle)
    part = part_of(scene, stored)
    row = surface_row_in(scene, part, stored)
    u, v = uv_at(scene, part, stored, b1, b2)
    return _colour(scene, row, EMISSION, EMISSION_MAP, u, v, FINEST)


@kernel
def surface_at(scene, triangle, b1, b2, d, width):
    """The `SurfacePoint` that a ray along unit `d` hits at the weights b1, b2 of `triangle`. width: of the ray there, in metres, over which textures
    are averaged (0: not at all); what is emitted is not, so that lights are found alike in all ways."""
    placement, stored = row_of(scene, triangle)
    part = part_of(scene, stored)
    v0, v1, v2 = corners_in(scene, placement, stored)
    position = mix(v0, v1, v2, b1, b2)
    across = cross(subtract(v1, v0), subtract(v2, v0))
    geometric = normalize(across)
    front = dot(geometric, d) < 0.0
    if not front:
        geometric = scale(geometric, -1.0)
    normal = smooth_normal_at(scene, placement, stored, b1, b2, geometric)
    if dot(normal, geometric) < 0.0:
        normal = scale(normal, -1.0)
    row = surface_row_in(scene, part, stored)
    s, t = uv_at(scene, part, stored, b1, b2)
    size, spread = FINEST, 0.0
    if width > 0.0 and scene.surfaces[row, TEXTURED] > 0.0:
        size = _size_at(scene, part, stored, math.sqrt(dot(across, across)), width)
    if scene.surfaces[row, NORMAL_MAP] >= 0.0:
        normal, spread = _mapped_normal(scene, row, (v0, v1, v2), uv_edges(scene, part, stored), normal, front, s, t, size)
    if dot(normal, d) > -1e-4:
        # A normal that faces away from the viewer can't be shaded: use the geometric one.
        normal = geometric
    emission = (0.0, 0.0, 0.0)
    if front or scene.surfaces[row, BOTH_SIDES] > 0.0:
        emission = _colour(scene, row, EMISSION, EMISSION_MAP, s, t, FINEST)
    coat = _number(scene, row, COAT, COAT_MAP, s, t, size)
    by_specular = scene.surfaces[row, BY_SPECULAR] > 0.0
    look = Look(
        _colour(scene, row, BASE, BASE_MAP, s, t, size),
        _widened(min(max(_number(scene, row, ROUGHNESS, ROUGHNESS_MAP, s, t, size), 0.0), 1.0), spread),
        min(max(_number(scene, row, METALLIC, METALLIC_MAP, s, t, size), 0.0), 1.0),
        scene.surfaces[row, IOR],
        by_specular,
        _colour(scene, row, SPECULAR_COLOUR, SPECULAR_MAP, s, t, size) if by_specular else (0.0, 0.0, 0.0),
        coat,
        _widened(_number(scene, row, COAT_ROUGHNESS, COAT_ROUGHNESS_MAP, s, t, size), spread) if coat > 0.0 else 0.0,
    )
    return SurfacePoint(position, geometric, normal, front, np.int64(row), look, emission)


@called_kernel
def _mapped_normal(scene, row, corners, edges, normal, front, s, t, size):
    """`normal` modified by the surface's normal map, whose colours are x, y, z along the texture's two axes and the normal
    (UsdPreviewSurface, normal; the texture's own scale and bias make -1 to 1 of its texels). And the variance of the slopes that were averaged,
    by how much shorter their mean is than 1 (Toksvig 2005, "Mipmapping Normal Maps")."""
    texture = int(scene.surfaces[row, NORMAL_MAP])
    x = look_up(scene, texture, 0, s, t, size)
    y = look_up(scene, texture, 1, s, t, size)
    z = look_up(scene, texture, 2, s, t, size)
    length, spread = math.sqrt(x * x + y * y + z * z), 0.0
    if size + scene.pictures.rows[texture, FINENESS] > 0.0 and length > 0.0:
        spread = max(0.0, (1.0 - length) / length - AS_CODED)
    v0, v1, v2 = corners
    _, _, s1, t1, s2, t2 = edges
    turn = s1 * t2 - s2 * t1
    if turn == 0.0:
        return normal, 0.0
    e1, e2 = subtract(v1, v0), subtract(v2, v0)
    along = scale(subtract(scale(e1, t2), scale(e2, t1)), 1.0 / turn)
    along = normalize(subtract(along, scale(normal, dot(along, normal))))
    # The second axis is the direction of growing t; the normal is flipped to the viewer, the map is not.
    across = cross(normal, along) if front else cross(along, normal)
    across = across if turn > 0.0 else scale(across, -1.0)
    return normalize(add(add(scale(along, x), scale(across, y)), scale(normal, z))), spread


@kernel
def _widened(roughness, spread):
    """Roughness with that of averaged bumps: a lobe of width alpha = roughness² has slopes of variance alpha² / 2."""
    return roughness if spread <= 0.0 else min(1.0, math.sqrt(math.sqrt(roughness**4 + 2.0 * spread)))


@kernel
def offset_point(point, direction, minimum):
    """Start of a ray that leaves `point` along `direction`: offset from the surface on the side of the ray."""
    side = 1.0 if dot(point.geometric_normal, direction) >= 0.0 else -1.0
    n = scale(point.geometric_normal, side * minimum)
    p = point.position
    return p[0] + n[0], p[1] + n[1], p[2] + n[2]


@kernel
def is_finite(c):
    return math.isfinite(c[0]) and math.isfinite(c[1]) and math.isfinite(c[2])
