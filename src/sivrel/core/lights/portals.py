"""Window portals: rectangles through which a sky is sampled, instead of all over.

A direction is sampled over the area of a portal, and weighted by the density of all portals, as one mixture
(Veach 1997, section 9.2.2.1). Light that passes outside the portals is found by scattered rays, so nothing is lost.
"""

import math

from ..kernel import called_kernel, kernel
from ..scene.arrays import AREA, AXIS_Z, HALF_U, HALF_V, POSITION
from ..vector import add, cross, dot, row3, scale, subtract


@kernel
def _one_density(portals, k, p, d):
    """Density per steradian along `d` of aiming at portal `k` alone; light comes in along its -z."""
    axis = row3(portals, k, AXIS_Z)
    cos = dot(d, axis)
    if cos <= 0.0:
        return 0.0
    centre = row3(portals, k, POSITION)
    distance = dot(subtract(centre, p), axis) / cos
    if distance <= 0.0:
        return 0.0
    q = subtract(add(p, scale(d, distance)), centre)
    u, v = row3(portals, k, HALF_U), row3(portals, k, HALF_V)
    w = cross(u, v)
    a, b = dot(cross(q, v), w) / dot(w, w), dot(cross(u, q), w) / dot(w, w)
    if abs(a) > 1.0 or abs(b) > 1.0:
        return 0.0
    return distance * distance / (cos * portals[k, AREA])


@called_kernel
def portal_density(portals, p, d):
    """Density per steradian of `sample_portals` along `d`."""
    total = 0.0
    for k in range(len(portals)):
        total += _one_density(portals, k, p, d)
    return total / len(portals)


@called_kernel
def sample_portals(portals, p, u, v):
    """A direction from `p` through one of the portals, with equal probability: (direction, density), density 0 from outside."""
    count = len(portals)
    k = min(int(u * count), count - 1)
    a, b = 2.0 * (u * count - k) - 1.0, 2.0 * v - 1.0
    q = add(row3(portals, k, POSITION), add(scale(row3(portals, k, HALF_U), a), scale(row3(portals, k, HALF_V), b)))
    to_portal = subtract(q, p)
    d2 = dot(to_portal, to_portal)
    if d2 <= 0.0:
        return (0.0, 0.0, 1.0), 0.0
    d = scale(to_portal, 1.0 / math.sqrt(d2))
    return d, portal_density(portals, p, d)
