"""Every emitter that rays are aimed at: where it is sampled, how densely, and what a ray that meets it sees.

A sample is (direction, distance, radiance, density per steradian). Density 0 means that nothing can be gained;
DELTA marks a light without size, which no scattered ray can meet, and whose radiance field is then irradiance.
"""

import math

from ..kernel import kernel
from ..scene.arrays import (
    AREA,
    AXIS_X,
    AXIS_Y,
    AXIS_Z,
    COS_ANGLE,
    DISK,
    DOME,
    HALF_U,
    HALF_V,
    KIND,
    POINT,
    POSITION,
    POWER,
    RADIANCE,
    RADIUS,
    RECT,
    SPHERE,
    SUN,
)  # fmt: skip
from ..vector import add, cross, dot, frame, normalize, row3, scale, subtract, to_world

FAR = 1e30
DELTA = -1.0
BLACK = (0.0, 0.0, 0.0)
NOTHING = ((0.0, 0.0, 1.0), 0.0, (0.0, 0.0, 0.0), 0.0)


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
def _sample_flat(lights, i, p, u, v):
    """Rect (a parallelogram) and disk (an ellipse): uniform over the area."""
    if lights[i, KIND] == RECT:
        a, b = 2.0 * u - 1.0, 2.0 * v - 1.0
    else:
        r, phi = math.sqrt(u), 2.0 * math.pi * v
        a, b = r * math.cos(phi), r * math.sin(phi)
    q = add(row3(lights, i, POSITION), add(scale(row3(lights, i, HALF_U), a), scale(row3(lights, i, HALF_V), b)))
    to_light = subtract(q, p)
    d2 = dot(to_light, to_light)
    if d2 <= 0.0:
        return NOTHING
    distance = math.sqrt(d2)
    wi = scale(to_light, 1.0 / distance)
    cos_light = dot(wi, row3(lights, i, AXIS_Z))
    if cos_light <= 0.0:
        return NOTHING
    return wi, distance, row3(lights, i, RADIANCE), d2 / (cos_light * lights[i, AREA])


@kernel
def _sphere_cone(lights, i, p):
    """(vector to the centre, its squared length, sin² of the half angle that the sphere covers; 2 from inside)."""
    to_centre = subtract(row3(lights, i, POSITION), p)
    d2 = dot(to_centre, to_centre)
    r2 = lights[i, RADIUS] ** 2
    return to_centre, d2, (r2 / d2 if d2 > r2 else 2.0)


@kernel
def _sample_sphere(lights, i, p, u, v):
    """Uniform over the cone that the sphere covers; nothing from inside (it emits outwards)."""
    to_centre, d2, sin2 = _sphere_cone(lights, i, p)
    if sin2 > 1.0:
        return NOTHING
    axis = scale(to_centre, 1.0 / math.sqrt(d2))
    x, y = frame(axis)
    gap = _one_minus_cos(sin2)
    wi = to_world(x, y, axis, _cone(1.0 - gap, u, v))
    along = dot(wi, to_centre)
    distance = along - math.sqrt(max(0.0, lights[i, RADIUS] ** 2 - max(0.0, d2 - along * along)))
    return wi, distance, row3(lights, i, RADIANCE), 1.0 / (2.0 * math.pi * gap)


@kernel
def sample_light(lights, i, p, n, u, v):
    """Aim at light `i` from point `p` with normal `n`: (direction, distance, radiance, density)."""
    kind = lights[i, KIND]
    if kind in (RECT, DISK):
        return _sample_flat(lights, i, p, u, v)
    if kind == SPHERE:
        return _sample_sphere(lights, i, p, u, v)
    if kind == POINT:
        to_light = subtract(row3(lights, i, POSITION), p)
        d2 = dot(to_light, to_light)
        if d2 <= 0.0:
            return NOTHING
        return normalize(to_light), math.sqrt(d2), scale(row3(lights, i, RADIANCE), 1.0 / d2), DELTA
    if kind == SUN:
        axis = row3(lights, i, AXIS_Z)
        gap = 1.0 - lights[i, COS_ANGLE]
        if gap <= 0.0:
            return axis, FAR, row3(lights, i, RADIANCE), DELTA
        wi = to_world(row3(lights, i, AXIS_X), row3(lights, i, AXIS_Y), axis, _cone(1.0 - gap, u, v))
        return wi, FAR, row3(lights, i, RADIANCE), 1.0 / (2.0 * math.pi * gap)
    # Dome: by the cosine about the normal.
    r, phi = math.sqrt(u), 2.0 * math.pi * v
    x, y = frame(n)
    cos_n = math.sqrt(max(0.0, 1.0 - u))
    wi = to_world(x, y, n, (r * math.cos(phi), r * math.sin(phi), cos_n))
    return wi, FAR, row3(lights, i, RADIANCE), cos_n / math.pi


@kernel
def meet_light(lights, i, p, n, d, limit):
    """What a ray from `p` (normal `n`) along unit `d` sees of light `i` nearer than `limit`.

    Returns (distance, radiance, density with which `sample_light` would have aimed there); distance < 0: it misses.
    """
    kind = lights[i, KIND]
    if kind in (RECT, DISK):
        axis = row3(lights, i, AXIS_Z)
        cos_light = dot(d, axis)
        if cos_light <= 0.0:
            return -1.0, BLACK, 0.0
        centre = row3(lights, i, POSITION)
        distance = dot(subtract(centre, p), axis) / cos_light
        if not 0.0 < distance < limit:
            return -1.0, BLACK, 0.0
        q = subtract(add(p, scale(d, distance)), centre)
        u, v = row3(lights, i, HALF_U), row3(lights, i, HALF_V)
        # Coordinates in the frame of the half edges, which need not be at right angles.
        w = cross(u, v)
        a, b = dot(cross(q, v), w) / dot(w, w), dot(cross(u, q), w) / dot(w, w)
        outside = abs(a) > 1.0 or abs(b) > 1.0 if kind == RECT else a * a + b * b > 1.0
        if outside:
            return -1.0, BLACK, 0.0
        return distance, row3(lights, i, RADIANCE), distance * distance / (cos_light * lights[i, AREA])
    if kind == SPHERE:
        to_centre, d2, sin2 = _sphere_cone(lights, i, p)
        along = dot(d, to_centre)
        miss = subtract(to_centre, scale(d, along))
        r2 = lights[i, RADIUS] ** 2
        if sin2 > 1.0 or along <= 0.0 or dot(miss, miss) > r2:
            return -1.0, BLACK, 0.0
        distance = along - math.sqrt(r2 - dot(miss, miss))
        if not 0.0 < distance < limit:
            return -1.0, BLACK, 0.0
        return distance, row3(lights, i, RADIANCE), 1.0 / (2.0 * math.pi * _one_minus_cos(sin2))
    if limit < FAR:
        return -1.0, BLACK, 0.0
    if kind == SUN:
        gap = 1.0 - lights[i, COS_ANGLE]
        if gap <= 0.0 or dot(d, row3(lights, i, AXIS_Z)) < lights[i, COS_ANGLE]:
            return -1.0, BLACK, 0.0
        return FAR, row3(lights, i, RADIANCE), 1.0 / (2.0 * math.pi * gap)
    if kind == DOME:
        return FAR, row3(lights, i, RADIANCE), max(0.0, dot(d, n)) / math.pi
    return -1.0, BLACK, 0.0


@kernel
def importance(lights, i, p, n):
    """Rough irradiance that light `i` could bring to `p` with normal `n`: what the choice of one light is weighed by.
    Zero only where the light is wholly behind the surface, or shines away from it."""
    kind = lights[i, KIND]
    if kind == DOME:
        return lights[i, POWER]
    if kind == SUN:
        cos_n = dot(n, row3(lights, i, AXIS_Z))
        return lights[i, POWER] * max(0.0, cos_n + math.sqrt(max(0.0, 1.0 - lights[i, COS_ANGLE] ** 2)))
    to_light = subtract(row3(lights, i, POSITION), p)
    d2 = dot(to_light, to_light)
    # A light's own size bounds how near its centre can be felt, and lifts what is below the horizon over it.
    reach = math.sqrt(lights[i, AREA]) + 1e-6
    above = dot(n, to_light) + reach
    if above <= 0.0 or ((kind in (RECT, DISK)) and dot(to_light, row3(lights, i, AXIS_Z)) <= 0.0):
        return 0.0
    return lights[i, POWER] / max(d2, 0.25 * reach * reach) * min(1.0, above / (math.sqrt(d2) + reach))


EVEN = 0.2
"""Share of choices that are made evenly, so that no light is ever forgotten where the estimate is wrong."""


@kernel
def choice_chance(lights, i, p, n):
    """Probability of choosing light `i` at `p` with normal `n`."""
    total = 0.0
    for k in range(len(lights)):
        total += importance(lights, k, p, n)
    even = 1.0 / len(lights)
    return even if total <= 0.0 else EVEN * even + (1.0 - EVEN) * importance(lights, i, p, n) / total


@kernel
def choose_light(lights, p, n, u):
    """A light chosen with `choice_chance`: (number, chance)."""
    total = 0.0
    for k in range(len(lights)):
        total += importance(lights, k, p, n)
    even = 1.0 / len(lights)
    passed = 0.0
    for k in range(len(lights)):
        chance = even if total <= 0.0 else EVEN * even + (1.0 - EVEN) * importance(lights, k, p, n) / total
        passed += chance
        if u < passed or k == len(lights) - 1:
            return k, chance
    return 0, 1.0
