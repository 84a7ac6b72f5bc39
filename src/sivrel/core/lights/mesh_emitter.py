"""Aiming at meshes: a triangle chosen by its contribution here (see mesh_tree), then a direction within it.

Directions are uniform over the solid angle of the triangle (Arvo 1995, "Stratified Sampling of Spherical Triangles"); of a triangle too
small for that, points are uniform over its area (Turk 1990, "Generating Random Points in Triangles").
"""

import math

import numpy as np

from ..kernel import allocating_kernel, called_kernel, kernel
from ..scene.arrays import BRIGHTEST, EMISSION, EMISSION_MAP, EMITTER_SIDES, EMITTERS, NO_LIGHT, OPACITY, OPACITY_MAP, RADIANCE, TINTS, SceneArrays
from ..scene.triangles import corners_at, corners_of, mesh_leaf_at, mesh_light_at, surface_rows_in
from ..surfaces.surface_at import emission_at, opacity_at, passing_at
from ..trace.traverse import NO_HIT
from ..vector import LUMINANCE, add, cross, dot, luminance, multiply, normalize, row3, scale, subtract
from .mesh_tree import choose_triangle, solid_angle, triangle_chance

PROBES = np.array([[1 / 3, 1 / 3], [0.1, 0.1], [0.8, 0.1], [0.1, 0.8], [0.45, 0.1], [0.1, 0.45], [0.45, 0.45]])
"""Barycentric weights at which the emission of a textured triangle is probed."""
LEAST_OF_BRIGHTEST = 0.02
"""Least weight of a textured triangle, relative to the brightest texel, so that a corner missed by the probes is still sampled."""
BY_AREA = 1e-5
"""Steradians: a triangle that covers less is sampled by area."""


@allocating_kernel
def _probed(scene, triangles, tints):
    """Mean emitted luminance float64 [n] of triangles at the probes; without `tints`, their mean opacity."""
    found = np.zeros(len(triangles))
    for k in range(len(triangles)):
        for j in range(len(PROBES)):
            b1, b2 = PROBES[j, 0], PROBES[j, 1]
            shines = luminance(emission_at(scene, triangles[k], b1, b2)) if tints else 1.0
            found[k] += shines * opacity_at(scene, triangles[k], b1, b2) / len(PROBES)
    return found


def glow_of(geometry: SceneArrays, triangles: np.ndarray, light: np.ndarray | None = None) -> np.ndarray:
    """Mean luminance float [n] emitted by `triangles`, numbers [n]: by themselves, or as the row of a mesh light states."""
    surfaces = geometry.surfaces[surface_rows_in(geometry, triangles)]
    tints = light is None or light[TINTS] > 0.0
    glow = (surfaces[:, EMISSION : EMISSION + 3] @ LUMINANCE if tints else np.ones(len(triangles))) * np.clip(surfaces[:, OPACITY], 0.0, 1.0)
    probed = (surfaces[:, OPACITY_MAP] >= 0.0) | (surfaces[:, OPACITY] < 1.0)
    if tints:
        probed |= surfaces[:, EMISSION_MAP] >= 0.0
    textured = np.flatnonzero(probed)
    if len(textured):
        brightest = max(float(glow.max()), float(geometry.pictures.rows[:, BRIGHTEST].max(initial=0.0)) if tints else 1.0)
        glow[textured] = np.maximum(_probed(geometry, triangles[textured], tints), LEAST_OF_BRIGHTEST * brightest)
    factor = 1.0 if light is None else float(light[RADIANCE : RADIANCE + 3] @ LUMINANCE)
    return np.asarray(glow * factor, float)


def areas_of(geometry: SceneArrays, triangles: np.ndarray) -> np.ndarray:
    """Areas float [n] in square metres."""
    corners = corners_at(geometry, triangles)
    return np.asarray(0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1))


@kernel
def mesh_radiance(scene, i, emission):
    """Radiance of mesh light `i` where its surface emits `emission`: that times the light's own colour, or the light's colour alone (UsdLux
    LightAPI, light:materialSyncMode)."""
    colour = row3(scene.lights, i, RADIANCE)
    return multiply(colour, emission) if scene.lights[i, TINTS] > 0.0 else colour


@kernel
def shining_at(scene, triangle, b1, b2, d):
    """Radiance of a triangle at the weights b1, b2, as its mesh light states if it has one, without the part that passes straight along `d`: what
    is cut out does not shine."""
    light = emission_at(scene, triangle, b1, b2)
    number = mesh_light_at(scene, triangle)
    if number >= 0:
        light = mesh_radiance(scene, number, light)
    passing, _ = passing_at(scene, triangle, b1, b2, d)
    return scale(light, 1.0 - passing)


@kernel
def _within(a, b, c, covers, u, v):
    """A direction uniform over the spherical triangle of unit vectors a, b, c, of `covers` steradians (Arvo 1995, section 2)."""
    ab, ca = normalize(cross(a, b)), normalize(cross(c, a))
    cos_alpha = min(1.0, max(-1.0, -dot(ab, ca)))
    alpha = math.acos(cos_alpha)
    sin_alpha = math.sin(alpha)
    part = u * covers
    s, t = math.sin(part - alpha), math.cos(part - alpha)
    from_u, from_v = t - cos_alpha, s + sin_alpha * dot(a, b)
    below = (from_v * s + from_u * t) * sin_alpha
    q = ((from_v * t - from_u * s) * cos_alpha - from_v) / below if below != 0.0 else 1.0
    q = min(1.0, max(-1.0, q))
    top = add(scale(a, q), scale(normalize(subtract(c, scale(a, dot(c, a)))), math.sqrt(1.0 - q * q)))
    z = 1.0 - v * (1.0 - dot(top, b))
    return add(scale(b, z), scale(normalize(subtract(top, scale(b, dot(top, b)))), math.sqrt(max(0.0, 1.0 - z * z))))


@called_kernel
def sample_mesh(scene, i, p, n, u, v):
    """A point of mesh light `i` as seen from `p` with normal `n`: (direction, distance, radiance, density per steradian, triangle)."""
    nothing = (0.0, 0.0, 1.0), 0.0, (0.0, 0.0, 0.0), 0.0, NO_HIT
    both = scene.lights[i, EMITTER_SIDES] == 2.0
    if scene.lights[i, EMITTER_SIDES] == 0.0:
        return nothing
    triangle, chance, u = choose_triangle(scene, np.int64(scene.lights[i, EMITTERS]), p, n, both, u)
    if chance <= 0.0:
        return nothing
    corners = corners_of(scene, triangle)
    to_a, to_b, to_c = subtract(corners[0], p), subtract(corners[1], p), subtract(corners[2], p)
    a, b, c = normalize(to_a), normalize(to_b), normalize(to_c)
    covers = abs(solid_angle(a, b, c))
    e1, e2 = subtract(to_b, to_a), subtract(to_c, to_a)
    crossed = cross(e1, e2)
    twice = math.sqrt(dot(crossed, crossed))
    if covers >= BY_AREA:
        d = _within(a, b, c, covers, u, v)
        facing = dot(crossed, d)
        distance = dot(crossed, to_a) / facing if facing != 0.0 else 0.0
        q = subtract(scale(d, distance), to_a)
        b1, b2 = dot(cross(q, e2), crossed) / twice**2, dot(cross(e1, q), crossed) / twice**2
        b1 = min(1.0, max(0.0, b1))
        b2 = min(1.0 - b1, max(0.0, b2))
        density = 1.0 / covers
    else:
        root_u = math.sqrt(u)
        b1, b2 = root_u * (1.0 - v), root_u * v
        to = add(to_a, add(scale(e1, b1), scale(e2, b2)))
        distance = math.sqrt(dot(to, to))
        d = scale(to, 1.0 / max(distance, 1e-300))
        density = 2.0 * distance * distance / max(abs(dot(d, crossed)), 1e-300)
    if not (distance > 0.0 and math.isfinite(dot(d, d))) or (not both and dot(d, crossed) >= 0.0):
        return nothing
    return d, distance, shining_at(scene, triangle, b1, b2, d), chance * density, triangle


@called_kernel
def mesh_density(scene, i, triangle, p, n, distance, cos):
    """Density per steradian with which `sample_mesh` would have aimed from `p` with normal `n` at a point of `triangle` of mesh light `i`, hit
    at `distance` under the cosine `cos` of its normal."""
    if scene.lights[i, EMITTER_SIDES] == 0.0:
        return 0.0
    leaf = mesh_leaf_at(scene, triangle)
    chance = triangle_chance(scene, leaf, p, n, scene.lights[i, EMITTER_SIDES] == 2.0) if leaf != NO_LIGHT else 0.0
    if chance <= 0.0:
        return 0.0
    corners = corners_of(scene, triangle)
    covers = abs(solid_angle(normalize(subtract(corners[0], p)), normalize(subtract(corners[1], p)), normalize(subtract(corners[2], p))))
    if covers >= BY_AREA:
        return chance / covers
    crossed = cross(subtract(corners[1], corners[0]), subtract(corners[2], corners[0]))
    return chance * 2.0 * distance * distance / max(abs(cos) * math.sqrt(dot(crossed, crossed)), 1e-300)
