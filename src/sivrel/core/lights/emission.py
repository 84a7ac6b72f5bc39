"""Emission: a random ray from a light, for photons that are shot into the scene.

Jensen 1996, "Global Illumination using Photon Maps", section 3. Lights emit from their own surface, distributed as the
cosine; suns and skies from a disc across the scene (Pharr, Jakob & Humphreys 2016, section 16.1.2), skies with portals through those.
"""

import math

from ..kernel import called_kernel, kernel
from ..scene.arrays import (
    AIM,
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
    SPHERE,
    STRETCHED,
    SUN,
)
from ..scene.triangles import corners_of, surface_row_at
from ..vector import add, cross, dot, frame, multiply, normalize, row3, scale, subtract, to_world
from .emitters import BLACK, from_round, pictured, place_on_flat, sent, stretched_area
from .mesh_emitter import shining_at
from .panorama import sample_sky, sky_radiance
from .targets import cover_much, cover_much_across, direction_at, place_across

NOTHING = (BLACK, (0.0, 0.0, 1.0), BLACK)


@kernel
def _by_cosine(axis, u, v):
    """Cosine-distributed direction about `axis`."""
    return _at_height(axis, math.sqrt(max(0.0, 1.0 - u)), v)


@kernel
def _evenly(axis, cos_low, u, v):
    """Direction about `axis`, uniform over the cone in which the cosine is at least `cos_low`."""
    return _at_height(axis, 1.0 - u * (1.0 - cos_low), v)


@kernel
def _at_height(axis, z, v):
    x, y = frame(axis)
    r, phi = math.sqrt(max(0.0, 1.0 - z * z)), 2.0 * math.pi * v
    return to_world(x, y, axis, (r * math.cos(phi), r * math.sin(phi), z))


@kernel
def _disc(u, v):
    r, phi = math.sqrt(u), 2.0 * math.pi * v
    return r * math.cos(phi), r * math.sin(phi)


@called_kernel
def emit(scene, i, targets, centre, radius, u1, v1, u2, v2):
    """A ray from light `i`, not a mesh: (origin, unit direction, its flux if it were the only ray, as a colour). The scene
    lies within `radius` metres of `centre`. With `targets`, all rays go to them. Four random numbers: two for the position, two for the
    direction."""
    lights = scene.lights
    kind = lights[i, KIND]
    axis, shown = row3(lights, i, AXIS_Z), (1.0, 1.0, 1.0)
    if kind == POINT:
        cos_low = math.cos(min(lights[i, CONE], math.pi))
        place, d, share = row3(lights, i, POSITION), _evenly(scale(axis, -1.0), cos_low, u2, v2), 2.0 * math.pi * (1.0 - cos_low)
        if len(targets) > 0 and not cover_much(targets, place):
            d, density = direction_at(targets, place, u2, v2)
            share = 1.0 / density
        return place, d, scale(sent(scene, i, d), share)
    if kind in (SUN, DOME):
        if kind == SUN:
            gap = 1.0 - lights[i, COS_ANGLE]
            towards = axis if gap <= 0.0 else _evenly(axis, lights[i, COS_ANGLE], u2, v2)
            colour = scale(row3(lights, i, RADIANCE), 1.0 if gap <= 0.0 else 2.0 * math.pi * gap)
        elif len(scene.portals) > 0:
            return _through_portal(scene, i, targets, u1, v1, u2, v2)
        elif lights[i, AIM] < 0.0:
            towards = _evenly((0.0, 0.0, 1.0), -1.0, u2, v2)
            colour = scale(sky_radiance(scene, i, towards), 4.0 * math.pi)
        else:
            towards, density = sample_sky(scene, i, (0.0, 0.0, 1.0), u2, v2)
            if density <= 0.0:
                return NOTHING
            colour = scale(sky_radiance(scene, i, towards), 1.0 / density)
        if len(targets) > 0 and not cover_much_across(targets, radius):
            place, density = place_across(targets, towards, u1, v1)
            # Move the start back in front of the whole scene.
            place = add(place, scale(towards, radius - dot(subtract(place, centre), towards)))
        else:
            x, y = frame(towards)
            a, b = _disc(u1, v1)
            place = add(centre, add(add(scale(x, a * radius), scale(y, b * radius)), scale(towards, radius)))
            density = 1.0 / (math.pi * radius * radius)
        return place, scale(towards, -1.0), scale(colour, 1.0 / density)
    place = row3(lights, i, POSITION)
    if kind in (RECT, DISK):
        a, b, denser = place_on_flat(scene, i, u1, v1)
        shown = pictured(scene, i, a, b)
        place = add(place, add(scale(row3(lights, i, HALF_U), a), scale(row3(lights, i, HALF_V), b)))
        normal, area = scale(axis, -1.0), lights[i, AREA] / denser
    elif kind == SPHERE:
        normal = _evenly((0.0, 0.0, 1.0), -1.0, u1, v1)
        off = scale(normal, lights[i, RADIUS])
        area = 4.0 * math.pi * lights[i, RADIUS] ** 2
    elif kind == CYLINDER:
        phi = 2.0 * math.pi * v1
        normal = add(scale(row3(lights, i, AXIS_Y), math.cos(phi)), scale(row3(lights, i, AXIS_Z), math.sin(phi)))
        off = add(scale(row3(lights, i, HALF_U), 2.0 * u1 - 1.0), scale(normal, lights[i, RADIUS]))
        half = row3(lights, i, HALF_U)
        area = 4.0 * math.pi * lights[i, RADIUS] * math.sqrt(dot(half, half))
    else:
        return NOTHING
    if kind in (SPHERE, CYLINDER):
        if lights[i, STRETCHED] > 0.0:
            normal, wider = stretched_area(lights, i, normal)
            off, area = from_round(lights, i, off), area * wider
        place = add(place, off)
    d, share = _leaving(targets, place, normal, u2, v2)
    return place, d, scale(multiply(sent(scene, i, d), shown), share * area)


@kernel
def _leaving(targets, place, normal, u, v):
    """A ray that leaves a surface: (unit direction, its cosine over its density): cosine-distributed, or only at the targets."""
    if len(targets) == 0 or cover_much(targets, place):
        return _by_cosine(normal, u, v), math.pi
    d, density = direction_at(targets, place, u, v)
    return d, max(0.0, dot(d, normal)) / density


@kernel
def _through_portal(scene, i, targets, u1, v1, u2, v2):
    """A ray of dome `i` through one of the portals, chosen uniformly."""
    count = len(scene.portals)
    at = min(int(u1 * count), count - 1)
    u1 = u1 * count - at
    portal = scene.portals
    place = add(row3(portal, at, POSITION), add(scale(row3(portal, at, HALF_U), 2.0 * u1 - 1.0), scale(row3(portal, at, HALF_V), 2.0 * v1 - 1.0)))
    # A portal shines along its -z, like a rect.
    d, share = _leaving(targets, place, scale(row3(portal, at, AXIS_Z), -1.0), u2, v2)
    return place, d, scale(sky_radiance(scene, i, scale(d, -1.0)), share * portal[at, AREA] * count)


@called_kernel
def emit_from_triangle(scene, triangle, density, targets, u1, v1, u2, v2):
    """A ray from a glowing triangle that was chosen with `density` per square metre: as `emit`."""
    a, b, c = corners_of(scene, triangle)
    e1, e2 = subtract(b, a), subtract(c, a)
    root = math.sqrt(u1)
    b1, b2 = root * (1.0 - v1), root * v1
    place = add(a, add(scale(e1, b1), scale(e2, b2)))
    normal = normalize(cross(e1, e2))
    sides = 1.0
    if scene.surfaces[surface_row_at(scene, triangle), BOTH_SIDES] > 0.0:
        sides = 2.0
        if u2 < 0.5:
            u2, normal = 2.0 * u2, scale(normal, -1.0)
        else:
            u2 = 2.0 * u2 - 1.0
    if dot(normal, normal) <= 0.0 or density <= 0.0:
        return NOTHING
    d, share = _leaving(targets, place, normal, u2, v2)
    return place, d, scale(shining_at(scene, triangle, b1, b2, d), sides * share / density)
