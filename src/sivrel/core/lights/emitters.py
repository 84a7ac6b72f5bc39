"""All emitters that rays are aimed at: sampling, its density, and what a ray that hits one sees.

A sample is (direction, distance, radiance, density per steradian, triangle of a mesh light or NO_HIT). Density 0 means that nothing arrives;
DELTA marks a light without size, which no scattered ray can hit; its radiance is then irradiance.
"""

import math

import numpy as np

from ..kernel import kernel
from ..scene.arrays import (
    AIM,
    AREA,
    AXIS_X,
    AXIS_Y,
    AXIS_Z,
    COS_ANGLE,
    CYLINDER,
    DISK,
    DOME,
    FAR,
    FROM_ROUND,
    HALF_U,
    HALF_V,
    KIND,
    MESH,
    PICTURE,
    POINT,
    POSITION,
    RADIANCE,
    RADIUS,
    RECT,
    SHAPED,
    SPHERE,
    STRETCHED,
    SUN,
    TO_ROUND,
)
from ..scene.textures import look_up_light
from ..trace.traverse import NO_HIT
from ..vector import add, cross, dot, frame, multiply, normalize, row3, scale, subtract, to_world
from .mesh_emitter import sample_mesh
from .panorama import sample_sky, sky_density, sky_radiance
from .picture import cell_chance, sample_cell
from .portals import portal_density, sample_portals
from .shaping import shaped

DELTA = -1.0
BLACK = (0.0, 0.0, 0.0)
NOTHING = ((0.0, 0.0, 1.0), 0.0, (0.0, 0.0, 0.0), 0.0, NO_HIT)


@kernel
def _cone(cos_max, u, v):
    """Direction about +z, uniform over the cone with `cos_max`."""
    z = 1.0 - u * (1.0 - cos_max)
    r, phi = math.sqrt(max(0.0, 1.0 - z * z)), 2.0 * math.pi * v
    return r * math.cos(phi), r * math.sin(phi), z


@kernel
def _one_minus_cos(sin2):
    """1 - cos of a cone from its sin² without cancellation."""
    return sin2 / (1.0 + math.sqrt(max(0.0, 1.0 - sin2)))


@kernel
def sent(scene, i, d):
    """Radiance (of a point: intensity) of light `i` along unit `d`, away from it."""
    if scene.lights[i, SHAPED] == 0.0:
        return row3(scene.lights, i, RADIANCE)
    return multiply(row3(scene.lights, i, RADIANCE), shaped(scene.lights, scene.tables, i, d))


@kernel
def place_on_flat(scene, i, u, v):
    """A point on a rect or disk: (share of half edge x, of half edge y, density relative to uniform). A rect's picture is sampled where it
    is bright; its left and its top are at +x and +y (UsdLux RectLight)."""
    lights = scene.lights
    if lights[i, KIND] != RECT:
        r, phi = math.sqrt(u), 2.0 * math.pi * v
        return r * math.cos(phi), r * math.sin(phi), 1.0
    start = int(lights[i, AIM])
    if start < 0:
        return 2.0 * u - 1.0, 2.0 * v - 1.0, 1.0
    rows, columns = np.float64(scene.tables[start]), np.float64(scene.tables[start + 1])
    row, down, column, across, chance = sample_cell(scene.tables, start, u, v)
    return 1.0 - 2.0 * (column + across) / columns, 1.0 - 2.0 * (row + down) / rows, chance * rows * columns


@kernel
def _flat_density(scene, i, a, b):
    """The density of `place_on_flat`."""
    start = int(scene.lights[i, AIM])
    if start < 0 or scene.lights[i, KIND] != RECT:
        return 1.0
    _, chance = cell_chance(scene.tables, start, 0.5 - 0.5 * a, 0.5 - 0.5 * b)
    return chance * np.float64(scene.tables[start]) * np.float64(scene.tables[start + 1])


@kernel
def pictured(scene, i, a, b):
    """Colour of a rect's picture at its point (a, b)."""
    picture = int(scene.lights[i, PICTURE])
    if picture < 0 or scene.lights[i, KIND] != RECT:
        return 1.0, 1.0, 1.0
    return look_up_light(scene, picture, 0.5 - 0.5 * a, 0.5 + 0.5 * b)


@kernel
def _sample_flat(scene, i, p, u, v):
    """Rect (a parallelogram) and disk (an ellipse), over the area: (direction, distance, density, place a, place b)."""
    lights = scene.lights
    a, b, denser = place_on_flat(scene, i, u, v)
    q = add(row3(lights, i, POSITION), add(scale(row3(lights, i, HALF_U), a), scale(row3(lights, i, HALF_V), b)))
    to_light = subtract(q, p)
    d2 = dot(to_light, to_light)
    if d2 <= 0.0 or lights[i, AREA] <= 0.0:
        return (0.0, 0.0, 1.0), 0.0, 0.0, a, b
    distance = math.sqrt(d2)
    wi = scale(to_light, 1.0 / distance)
    cos_light = dot(wi, row3(lights, i, AXIS_Z))
    if cos_light <= 0.0:
        return wi, distance, 0.0, a, b
    return wi, distance, denser * d2 / (cos_light * lights[i, AREA]), a, b


@kernel
def _turned(lights, i, matrix, v):
    """One of the two 3 x 3 matrices of a stretched light, applied to `v`."""
    return dot(row3(lights, i, matrix), v), dot(row3(lights, i, matrix + 3), v), dot(row3(lights, i, matrix + 6), v)


@kernel
def _determinant(lights, i, matrix):
    return abs(dot(row3(lights, i, matrix), cross(row3(lights, i, matrix + 3), row3(lights, i, matrix + 6))))


@kernel
def _to_round(lights, i, p):
    """A point in the space where the stretched light `i` is round."""
    centre = row3(lights, i, POSITION)
    return add(centre, _turned(lights, i, TO_ROUND, subtract(p, centre)))


@kernel
def stretched_area(lights, i, normal):
    """(unit normal of a stretched light at the point with unit `normal` on the round one, ratio of its area there to the round one's)."""
    m = TO_ROUND
    bent = (
        lights[i, m] * normal[0] + lights[i, m + 3] * normal[1] + lights[i, m + 6] * normal[2],
        lights[i, m + 1] * normal[0] + lights[i, m + 4] * normal[1] + lights[i, m + 7] * normal[2],
        lights[i, m + 2] * normal[0] + lights[i, m + 5] * normal[1] + lights[i, m + 8] * normal[2],
    )
    return normalize(bent), _determinant(lights, i, FROM_ROUND) * math.sqrt(dot(bent, bent))


@kernel
def from_round(lights, i, v):
    """A vector of the space where the stretched light `i` is round, in the scene."""
    return _turned(lights, i, FROM_ROUND, v)


@kernel
def _sphere_cone(lights, i, p):
    """(vector to the centre, its squared length, sin² of the sphere's half angle; 2 from inside)."""
    to_centre = subtract(row3(lights, i, POSITION), p)
    d2 = dot(to_centre, to_centre)
    r2 = lights[i, RADIUS] ** 2
    return to_centre, d2, (r2 / d2 if d2 > r2 else 2.0)


@kernel
def _sample_sphere(lights, i, p, u, v):
    """Uniform over the sphere's cone; nothing from inside (it emits outwards)."""
    to_centre, d2, sin2 = _sphere_cone(lights, i, p)
    if sin2 > 1.0:
        return (0.0, 0.0, 1.0), 0.0, 0.0
    axis = scale(to_centre, 1.0 / math.sqrt(d2))
    x, y = frame(axis)
    gap = _one_minus_cos(sin2)
    wi = to_world(x, y, axis, _cone(1.0 - gap, u, v))
    along = dot(wi, to_centre)
    distance = along - math.sqrt(max(0.0, lights[i, RADIUS] ** 2 - max(0.0, d2 - along * along)))
    return wi, distance, 1.0 / (2.0 * math.pi * gap)


@kernel
def _seen_arc(lights, i, p):
    """(angle of `p` round the cylinder's axis, half of the arc visible from there; 0 from inside)."""
    o = subtract(p, row3(lights, i, POSITION))
    y, z = dot(o, row3(lights, i, AXIS_Y)), dot(o, row3(lights, i, AXIS_Z))
    off, radius = math.sqrt(y * y + z * z), lights[i, RADIUS]
    return math.atan2(z, y), (math.acos(radius / off) if off > radius else 0.0)


@kernel
def _sample_cylinder(lights, i, p, u, v):
    """Uniform over the visible part of the round side (the ends emit nothing): (direction, distance, density)."""
    axis, radius = row3(lights, i, AXIS_X), lights[i, RADIUS]
    middle, arc = _seen_arc(lights, i, p)
    phi = middle + arc * (2.0 * v - 1.0)
    out = add(scale(row3(lights, i, AXIS_Y), math.cos(phi)), scale(row3(lights, i, AXIS_Z), math.sin(phi)))
    q = add(row3(lights, i, POSITION), add(scale(row3(lights, i, HALF_U), 2.0 * u - 1.0), scale(out, radius)))
    to_light = subtract(q, p)
    d2 = dot(to_light, to_light)
    if d2 <= 0.0 or arc <= 0.0:
        return axis, 0.0, 0.0
    distance = math.sqrt(d2)
    wi = scale(to_light, 1.0 / distance)
    cos_light = -dot(wi, out)
    if cos_light <= 0.0:
        return wi, distance, 0.0
    return wi, distance, d2 / (cos_light * lights[i, AREA] * arc / math.pi)


@kernel
def sample_light(scene, i, p, n, u, v):
    """Aim at light `i` from point `p` with normal `n`: (direction, distance, radiance, density, triangle)."""
    lights = scene.lights
    kind = lights[i, KIND]
    if kind == MESH:
        return sample_mesh(scene, i, p, n, u, v)
    if kind == SUN:
        axis = row3(lights, i, AXIS_Z)
        gap = 1.0 - lights[i, COS_ANGLE]
        if gap <= 0.0:
            return axis, FAR, row3(lights, i, RADIANCE), DELTA, NO_HIT
        wi = to_world(row3(lights, i, AXIS_X), row3(lights, i, AXIS_Y), axis, _cone(1.0 - gap, u, v))
        return wi, FAR, row3(lights, i, RADIANCE), 1.0 / (2.0 * math.pi * gap), NO_HIT
    if kind == DOME:
        if len(scene.portals) > 0:
            wi, density = sample_portals(scene.portals, p, u, v)
        else:
            wi, density = sample_sky(scene, i, n, u, v)
        return wi, FAR, sky_radiance(scene, i, wi), density, NO_HIT
    if kind == POINT:
        to_light = subtract(row3(lights, i, POSITION), p)
        d2 = dot(to_light, to_light)
        if d2 <= 0.0:
            return NOTHING
        wi = normalize(to_light)
        return wi, math.sqrt(d2), scale(sent(scene, i, scale(wi, -1.0)), 1.0 / d2), DELTA, NO_HIT
    if kind in (RECT, DISK):
        wi, distance, density, a, b = _sample_flat(scene, i, p, u, v)
        if density <= 0.0:
            return NOTHING
        return wi, distance, multiply(sent(scene, i, scale(wi, -1.0)), pictured(scene, i, a, b)), density, NO_HIT
    stretched = lights[i, STRETCHED] > 0.0
    start = _to_round(lights, i, p) if stretched else p
    if kind == SPHERE:
        wi, distance, density = _sample_sphere(lights, i, start, u, v)
    else:
        wi, distance, density = _sample_cylinder(lights, i, start, u, v)
    if density <= 0.0:
        return NOTHING
    if stretched:
        # Straight lines stay straight, and solid angles change by the determinant over the cube of the length.
        along = from_round(lights, i, wi)
        length = math.sqrt(dot(along, along))
        wi, distance = scale(along, 1.0 / length), distance * length
        density *= length**3 / _determinant(lights, i, FROM_ROUND)
    return wi, distance, sent(scene, i, scale(wi, -1.0)), density, NO_HIT


@kernel
def _meet_flat(scene, i, p, d, limit):
    """(distance, density, place a, place b) where a ray hits the emitting side of a rect or disk; distance < 0: it misses."""
    lights = scene.lights
    axis = row3(lights, i, AXIS_Z)
    cos_light = dot(d, axis)
    if cos_light <= 0.0 or lights[i, AREA] <= 0.0:
        return -1.0, 0.0, 0.0, 0.0
    centre = row3(lights, i, POSITION)
    distance = dot(subtract(centre, p), axis) / cos_light
    if not 0.0 < distance < limit:
        return -1.0, 0.0, 0.0, 0.0
    q = subtract(add(p, scale(d, distance)), centre)
    u, v = row3(lights, i, HALF_U), row3(lights, i, HALF_V)
    # Coordinates in the frame of the half edges, which need not be at right angles.
    w = cross(u, v)
    a, b = dot(cross(q, v), w) / dot(w, w), dot(cross(u, q), w) / dot(w, w)
    outside = a * a + b * b > 1.0 if lights[i, KIND] == DISK else abs(a) > 1.0 or abs(b) > 1.0
    if outside:
        return -1.0, 0.0, 0.0, 0.0
    return distance, _flat_density(scene, i, a, b) * distance * distance / (cos_light * lights[i, AREA]), a, b


@kernel
def _meet_sphere(lights, i, p, d, limit):
    to_centre, d2, sin2 = _sphere_cone(lights, i, p)
    along = dot(d, to_centre)
    miss = subtract(to_centre, scale(d, along))
    r2 = lights[i, RADIUS] ** 2
    if sin2 > 1.0 or along <= 0.0 or dot(miss, miss) > r2:
        return -1.0, 0.0
    distance = along - math.sqrt(r2 - dot(miss, miss))
    if not 0.0 < distance < limit:
        return -1.0, 0.0
    return distance, 1.0 / (2.0 * math.pi * _one_minus_cos(sin2))


@kernel
def _meet_cylinder(lights, i, p, d, limit):
    """The nearer hit on the cylinder's round side, from outside; nothing if the ray enters through an end."""
    axis, radius = row3(lights, i, AXIS_X), lights[i, RADIUS]
    half = math.sqrt(dot(row3(lights, i, HALF_U), row3(lights, i, HALF_U)))
    o = subtract(p, row3(lights, i, POSITION))
    o_along, d_along = dot(o, axis), dot(d, axis)
    o_across, d_across = subtract(o, scale(axis, o_along)), subtract(d, scale(axis, d_along))
    a, b, c = dot(d_across, d_across), dot(o_across, d_across), dot(o_across, o_across) - radius * radius
    root = b * b - a * c
    if a <= 1e-18 or root <= 0.0 or c <= 0.0 or lights[i, AREA] <= 0.0:
        return -1.0, 0.0
    distance = (-b - math.sqrt(root)) / a
    if not 0.0 < distance < limit or abs(o_along + distance * d_along) > half:
        return -1.0, 0.0
    out = add(o_across, scale(d_across, distance))
    cos_light = -dot(d, out) / radius
    if cos_light <= 0.0:
        return -1.0, 0.0
    _, arc = _seen_arc(lights, i, p)
    return distance, distance * distance / (cos_light * lights[i, AREA] * arc / math.pi)


@kernel
def meet_light(scene, i, p, n, d, limit):
    """Light `i` as seen by a ray from `p` (normal `n`) along unit `d`, nearer than `limit`.

    Returns (distance, radiance, density with which `sample_light` would have aimed there); distance < 0: it misses.
    Mesh lights are never hit here: rays find their triangles like any others.
    """
    lights = scene.lights
    kind = lights[i, KIND]
    if kind in (SUN, DOME):
        if limit < FAR:
            return -1.0, BLACK, 0.0
        if kind == DOME:
            density = portal_density(scene.portals, p, d) if len(scene.portals) > 0 else sky_density(scene, i, n, d)
            return FAR, sky_radiance(scene, i, d), density
        gap = 1.0 - lights[i, COS_ANGLE]
        if gap <= 0.0 or dot(d, row3(lights, i, AXIS_Z)) < lights[i, COS_ANGLE]:
            return -1.0, BLACK, 0.0
        return FAR, row3(lights, i, RADIANCE), 1.0 / (2.0 * math.pi * gap)
    if kind in (RECT, DISK):
        distance, density, a, b = _meet_flat(scene, i, p, d, limit)
        if distance < 0.0:
            return -1.0, BLACK, 0.0
        return distance, multiply(sent(scene, i, scale(d, -1.0)), pictured(scene, i, a, b)), density
    if kind not in (SPHERE, CYLINDER):
        return -1.0, BLACK, 0.0
    start, along, length = p, d, 1.0
    if lights[i, STRETCHED] > 0.0:
        along = _turned(lights, i, TO_ROUND, d)
        length = math.sqrt(dot(along, along))
        start, along = _to_round(lights, i, p), scale(along, 1.0 / length)
    if kind == SPHERE:
        distance, density = _meet_sphere(lights, i, start, along, limit * length)
    else:
        distance, density = _meet_cylinder(lights, i, start, along, limit * length)
    if distance < 0.0:
        return -1.0, BLACK, 0.0
    if lights[i, STRETCHED] > 0.0:
        distance /= length
        density *= _determinant(lights, i, TO_ROUND) / length**3
    return distance, sent(scene, i, scale(d, -1.0)), density
