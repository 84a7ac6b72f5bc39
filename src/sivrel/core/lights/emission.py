"""Where light sets out: a ray from a light, for photons that are shot into the scene.

Jensen 1996, "Global Illumination using Photon Maps", section 3. Every light of the list is emitted from its own surface, dense as the
cosine; suns and skies from a disc across the scene (Pharr, Jakob & Humphreys 2016, section 16.1.2), skies with portals from those.
"""

import math

import numpy as np

from ..kernel import called_kernel, kernel
from ..scene.arrays import (
    AREA,
    AXIS_Y,
    AXIS_Z,
    BOTH_SIDES,
    CONE,
    COS_ANGLE,
    CYLINDER,
    DISK,
    DOME,
    HALF_U,
    HALF_V,
    KIND,
    POINT,
    POSITION,
    RADIANCE,
    RADIUS,
    RECT,
    SKY,
    SPHERE,
    SUN,
)
from ..scene.surface_at import emission_at
from ..vector import add, cross, dot, frame, normalize, row3, scale, subtract, to_world
from .emitters import BLACK, sent
from .panorama import sample_sky, sky_radiance

NOTHING = (BLACK, (0.0, 0.0, 1.0), BLACK)


@kernel
def _about(axis, cos_low, u, v):
    """Direction about `axis`, dense as the cosine (cos_low 0) or, for cos_low > 0 or -1, even over the cone from there to 1."""
    x, y = frame(axis)
    z = math.sqrt(max(0.0, 1.0 - u)) if cos_low == 0.0 else 1.0 - u * (1.0 - cos_low)
    r, phi = math.sqrt(max(0.0, 1.0 - z * z)), 2.0 * math.pi * v
    return to_world(x, y, axis, (r * math.cos(phi), r * math.sin(phi), z))


@kernel
def _disc(u, v):
    r, phi = math.sqrt(u), 2.0 * math.pi * v
    return r * math.cos(phi), r * math.sin(phi)


@called_kernel
def emit(scene, i, centre, radius, u1, v1, u2, v2):
    """A ray from light `i`, not a mesh: (origin, unit direction, flux that it carries if it were the only one, as a colour). The scene
    lies within `radius` metres of `centre`. Four random numbers: two for the place, two for the direction."""
    lights = scene.lights
    kind = lights[i, KIND]
    axis = row3(lights, i, AXIS_Z)
    if kind == POINT:
        cone = min(lights[i, CONE], math.pi)
        cos_low = -1.0 if cone >= math.pi / 2.0 - 1e-9 else math.cos(cone)
        d = _about(scale(axis, -1.0), cos_low, u2, v2)
        return row3(lights, i, POSITION), d, scale(sent(scene, i, d), 2.0 * math.pi * (1.0 - cos_low))
    if kind in (SUN, DOME):
        flux = math.pi * radius * radius
        if kind == SUN:
            gap = 1.0 - lights[i, COS_ANGLE]
            towards = axis if gap <= 0.0 else _about(axis, lights[i, COS_ANGLE], u2, v2)
            colour = scale(row3(lights, i, RADIANCE), flux * (1.0 if gap <= 0.0 else 2.0 * math.pi * gap))
        elif len(scene.portals) > 0:
            return _through_portal(scene, i, u1, v1, u2, v2)
        elif lights[i, SKY] < 0.0:
            towards = _about((0.0, 0.0, 1.0), -1.0, u2, v2)
            colour = scale(sky_radiance(scene, i, towards), flux * 4.0 * math.pi)
        else:
            towards, density = sample_sky(scene, i, (0.0, 0.0, 1.0), u2, v2)
            if density <= 0.0:
                return NOTHING
            colour = scale(sky_radiance(scene, i, towards), flux / density)
        x, y = frame(towards)
        a, b = _disc(u1, v1)
        across = add(scale(x, a * radius), scale(y, b * radius))
        return add(centre, add(across, scale(towards, radius))), scale(towards, -1.0), colour
    if kind in (RECT, DISK):
        a, b = (2.0 * u1 - 1.0, 2.0 * v1 - 1.0) if kind == RECT else _disc(u1, v1)
        place = add(row3(lights, i, POSITION), add(scale(row3(lights, i, HALF_U), a), scale(row3(lights, i, HALF_V), b)))
        normal, area = scale(axis, -1.0), lights[i, AREA]
    elif kind == SPHERE:
        normal = _about((0.0, 0.0, 1.0), -1.0, u1, v1)
        place = add(row3(lights, i, POSITION), scale(normal, lights[i, RADIUS]))
        area = 4.0 * math.pi * lights[i, RADIUS] ** 2
    elif kind == CYLINDER:
        phi = 2.0 * math.pi * v1
        normal = add(scale(row3(lights, i, AXIS_Y), math.cos(phi)), scale(row3(lights, i, AXIS_Z), math.sin(phi)))
        place = add(row3(lights, i, POSITION), add(scale(row3(lights, i, HALF_U), 2.0 * u1 - 1.0), scale(normal, lights[i, RADIUS])))
        area = lights[i, AREA]
    else:
        return NOTHING
    d = _about(normal, 0.0, u2, v2)
    return place, d, scale(sent(scene, i, d), math.pi * area)


@kernel
def _through_portal(scene, i, u1, v1, u2, v2):
    """A ray of dome `i` through one of the portals, chosen evenly."""
    count = len(scene.portals)
    at = min(int(u1 * count), count - 1)
    u1 = u1 * count - at
    portal = scene.portals
    place = add(row3(portal, at, POSITION), add(scale(row3(portal, at, HALF_U), 2.0 * u1 - 1.0), scale(row3(portal, at, HALF_V), 2.0 * v1 - 1.0)))
    # A portal shines along its -z, like a rect.
    d = _about(scale(row3(portal, at, AXIS_Z), -1.0), 0.0, u2, v2)
    return place, d, scale(sky_radiance(scene, i, scale(d, -1.0)), math.pi * portal[at, AREA] * count)


@called_kernel
def emit_from_triangle(scene, triangle, density, u1, v1, u2, v2):
    """A ray from a triangle that glows, which is chosen with `density` per square metre: as `emit`."""
    w = scene.vertices
    a = (np.float64(w[triangle, 0]), np.float64(w[triangle, 1]), np.float64(w[triangle, 2]))
    e1 = subtract((np.float64(w[triangle, 3]), np.float64(w[triangle, 4]), np.float64(w[triangle, 5])), a)
    e2 = subtract((np.float64(w[triangle, 6]), np.float64(w[triangle, 7]), np.float64(w[triangle, 8])), a)
    root = math.sqrt(u1)
    b1, b2 = root * (1.0 - v1), root * v1
    place = add(a, add(scale(e1, b1), scale(e2, b2)))
    normal = normalize(cross(e1, e2))
    sides = 1.0
    if scene.surfaces[scene.surface_of[triangle], BOTH_SIDES] > 0.0:
        sides = 2.0
        if u2 < 0.5:
            u2, normal = 2.0 * u2, scale(normal, -1.0)
        else:
            u2 = 2.0 * u2 - 1.0
    if dot(normal, normal) <= 0.0 or density <= 0.0:
        return NOTHING
    return place, _about(normal, 0.0, u2, v2), scale(emission_at(scene, triangle, b1, b2), sides * math.pi / density)
