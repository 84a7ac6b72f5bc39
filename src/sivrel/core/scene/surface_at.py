"""The surface at a hit: position, normals and textured values, interpolated from the triangle."""

import math
from typing import NamedTuple

import numpy as np

from ..kernel import called_kernel, kernel
from ..vector import cross, dot, normalize, row3, scale, subtract
from .arrays import (
    BASE,
    BASE_MAP,
    BOTH_SIDES,
    EMISSION,
    EMISSION_MAP,
    IOR,
    METALLIC,
    METALLIC_MAP,
    OPACITY,
    OPACITY_MAP,
    ROUGHNESS,
    ROUGHNESS_MAP,
    THRESHOLD,
)  # fmt: skip
from .textures import look_up, look_up_colour


class SurfacePoint(NamedTuple):
    """position in metres; geometric and shading normal towards the viewer; then the surface's values there."""

    position: tuple
    geometric_normal: tuple
    normal: tuple
    base: tuple
    roughness: float
    metallic: float
    ior: float
    emission: tuple


@kernel
def _mix(array, triangle, first, b1, b2):
    """Barycentric mix of one coordinate of the three corners (`first`, and every third or second after it)."""
    step = 3 if array.shape[1] == 9 else 2
    b0 = 1.0 - np.float64(b1) - np.float64(b2)
    return (
        b0 * np.float64(array[triangle, first])
        + np.float64(b1) * np.float64(array[triangle, first + step])
        + np.float64(b2) * np.float64(array[triangle, first + 2 * step])
    )


@kernel
def _number(scene, row, value, use, u, v):
    texture = int(scene.surfaces[row, use])
    if texture < 0:
        return scene.surfaces[row, value]
    return look_up(scene.textures, scene.texels, texture, int(scene.surfaces[row, use + 1]), u, v)


@kernel
def _colour(scene, row, value, use, u, v):
    texture = int(scene.surfaces[row, use])
    if texture < 0:
        return row3(scene.surfaces, row, value)
    return look_up_colour(scene.textures, scene.texels, texture, u, v)


@kernel
def opacity_at(scene, triangle, b1, b2):
    """Opacity 0 to 1 at a hit; with a threshold the surface is there or not (UsdPreviewSurface, opacityThreshold)."""
    row = scene.surface_of[triangle]
    u, v = _mix(scene.uvs, triangle, 0, b1, b2), _mix(scene.uvs, triangle, 1, b1, b2)
    opacity = _number(scene, row, OPACITY, OPACITY_MAP, u, v)
    threshold = scene.surfaces[row, THRESHOLD]
    if threshold > 0.0:
        return 1.0 if opacity >= threshold else 0.0
    return min(max(opacity, 0.0), 1.0)


@called_kernel
def emission_at(scene, triangle, b1, b2):
    """What a triangle emits at a point, seen from where it does."""
    row = scene.surface_of[triangle]
    u, v = _mix(scene.uvs, triangle, 0, b1, b2), _mix(scene.uvs, triangle, 1, b1, b2)
    return _colour(scene, row, EMISSION, EMISSION_MAP, u, v)


@kernel
def surface_at(scene, triangle, b1, b2, d):
    """The `SurfacePoint` that a ray along unit `d` meets at the weights b1, b2 of `triangle`."""
    x = _mix(scene.vertices, triangle, 0, b1, b2)
    y = _mix(scene.vertices, triangle, 1, b1, b2)
    z = _mix(scene.vertices, triangle, 2, b1, b2)
    v = scene.vertices
    v0 = (np.float64(v[triangle, 0]), np.float64(v[triangle, 1]), np.float64(v[triangle, 2]))
    v1 = (np.float64(v[triangle, 3]), np.float64(v[triangle, 4]), np.float64(v[triangle, 5]))
    v2 = (np.float64(v[triangle, 6]), np.float64(v[triangle, 7]), np.float64(v[triangle, 8]))
    geometric = normalize(cross(subtract(v1, v0), subtract(v2, v0)))
    front = dot(geometric, d) < 0.0
    if not front:
        geometric = scale(geometric, -1.0)
    normal = normalize(
        (
            _mix(scene.normals, triangle, 0, b1, b2),
            _mix(scene.normals, triangle, 1, b1, b2),
            _mix(scene.normals, triangle, 2, b1, b2),
        )
    )
    if dot(normal, geometric) < 0.0:
        normal = scale(normal, -1.0)
    if dot(normal, d) > -1e-4:
        # An interpolated normal that looks away from the viewer can't be shaded: use the true one.
        normal = geometric
    row = scene.surface_of[triangle]
    s, t = _mix(scene.uvs, triangle, 0, b1, b2), _mix(scene.uvs, triangle, 1, b1, b2)
    emission = (0.0, 0.0, 0.0)
    if front or scene.surfaces[row, BOTH_SIDES] > 0.0:
        emission = _colour(scene, row, EMISSION, EMISSION_MAP, s, t)
    base = _colour(scene, row, BASE, BASE_MAP, s, t)
    roughness = min(max(_number(scene, row, ROUGHNESS, ROUGHNESS_MAP, s, t), 0.0), 1.0)
    metallic = min(max(_number(scene, row, METALLIC, METALLIC_MAP, s, t), 0.0), 1.0)
    return SurfacePoint((x, y, z), geometric, normal, base, roughness, metallic, scene.surfaces[row, IOR], emission)


@kernel
def offset_point(point, direction, minimum):
    """Start of a ray that leaves `point` along `direction`: lifted off the surface on the side where the ray goes."""
    side = 1.0 if dot(point.geometric_normal, direction) >= 0.0 else -1.0
    n = scale(point.geometric_normal, side * minimum)
    p = point.position
    return p[0] + n[0], p[1] + n[1], p[2] + n[2]


@kernel
def is_finite(c):
    return math.isfinite(c[0]) and math.isfinite(c[1]) and math.isfinite(c[2])
