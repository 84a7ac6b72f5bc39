"""The table of ways of casting shadows, and the one door to them. A new way is one module, a line in the table, and its
branch in `light_share`."""

import math

from ..kernel import called_kernel, kernel
from ..scene.arrays import FAR, MAP, SHADOWING, WAY
from ..vector import add, dot, scale, subtract
from . import depth_map, off, traced
from .depth_map import DEPTH_MAP, map_share
from .off import OFF
from .traced import ALL, visibility

WAYS = (traced.WAY, depth_map.WAY, off.WAY)
CODES = {way.key: way.code for way in WAYS}


@called_kernel
def light_share(scene, stack, i, p, d, distance, target):
    """Share of light `i` that reaches `p` from along unit `d` over `distance` metres, cut by that light's way, as a colour. `target` is
    the triangle of a mesh light at which the ray ends, which does not stop it; else NO_HIT."""
    way = scene.lights[i, WAY]
    if way == OFF:
        return ALL
    if way == DEPTH_MAP and scene.lights[i, MAP] >= 0.0:
        share = map_share(scene, i, p)
        if share >= 0.0:
            return share, share, share
    return visibility(scene, stack, int(scene.lights[i, SHADOWING]), p, d, distance, target)


@kernel
def share_from(scene, stack, i, p, start, d, distance, target):
    """`light_share` for light that `p` sees along `d`, asked from `start`, a little off the surface: by a ray to the very place that was
    aimed at, since one that is merely parallel ends beside it, or within the light."""
    if distance >= FAR:
        return light_share(scene, stack, i, start, d, distance, target)
    to = subtract(add(p, scale(d, distance)), start)
    length = math.sqrt(dot(to, to))
    if length <= 0.0:
        return ALL
    return light_share(scene, stack, i, start, scale(to, 1.0 / length), length, target)
