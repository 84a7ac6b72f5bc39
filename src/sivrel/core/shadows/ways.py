"""The table of ways of casting shadows, and the one door to them. A new way is one module, a line in the table, and its
branch in `light_share`."""

from ..kernel import called_kernel
from ..scene.arrays import MAP, SHADOWING, WAY
from . import depth_map, off, traced
from .depth_map import DEPTH_MAP, map_share
from .off import OFF
from .traced import ALL, visibility

WAYS = (traced.WAY, depth_map.WAY, off.WAY)
CODES = {way.key: way.code for way in WAYS}


@called_kernel
def light_share(scene, stack, i, p, d, distance):
    """Share of light `i` that reaches `p` from along unit `d` over `distance` metres, cut by that light's way, as a colour."""
    way = scene.lights[i, WAY]
    if way == OFF:
        return ALL
    if way == DEPTH_MAP and scene.lights[i, MAP] >= 0.0:
        share = map_share(scene, i, p)
        if share >= 0.0:
            return share, share, share
    return visibility(scene, stack, int(scene.lights[i, SHADOWING]), p, d, distance)
