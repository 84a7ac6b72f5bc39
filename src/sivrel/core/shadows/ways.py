"""The table of ways of casting shadows, and the function that calls them. A new way is one module and one line in the table."""

import math
from typing import Any

from ..kernel import called_kernel, kernel, named
from ..scene.arrays import FAR, WAY
from ..vector import add, dot, scale, subtract
from . import depth_map, off, traced
from .traced import ALL

WAYS = (traced.WAY, depth_map.WAY, off.WAY)
CODES = {way.key: way.code for way in WAYS}
BY_KEY = {way.key: way for way in WAYS}
if len(set(CODES.values())) < len(WAYS):
    raise ValueError("Two ways of casting shadows share a code or a key; give each its own.")


def _asking(code: int, own: Any, others: Any) -> Any:
    @kernel
    @named(f"ask_{code}")
    def ask(way, scene, stack, i, p, d, distance, target):
        if way == code:
            return own(scene, stack, i, p, d, distance, target)
        return others(way, scene, stack, i, p, d, distance, target)

    return ask


@kernel
def _traced(way, scene, stack, i, p, d, distance, target):
    return traced.traced_share(scene, stack, i, p, d, distance, target)


_by_way = _traced
for _way in WAYS:
    if _way is not traced.WAY:
        _by_way = _asking(_way.code, _way.share, _by_way)


@called_kernel
def light_share(scene, stack, i, p, d, distance, target):
    """Share of light `i` that reaches `p` along unit `d` over `distance` metres, by that light's shadow way, as a colour. `target` is
    the triangle of a mesh light at which the ray ends, which does not block it; else NO_HIT."""
    return _by_way(scene.lights[i, WAY], scene, stack, i, p, d, distance, target)


@kernel
def share_from(scene, stack, i, p, start, d, distance, target):
    """`light_share` for light that `p` sees along `d`, traced from `start`, a little off the surface, to the exact point that was
    aimed at, since a parallel ray would end beside it, or inside the light."""
    if distance >= FAR:
        return light_share(scene, stack, i, start, d, distance, target)
    to = subtract(add(p, scale(d, distance)), start)
    length = math.sqrt(dot(to, to))
    if length <= 0.0:
        return ALL
    return light_share(scene, stack, i, start, scale(to, 1.0 / length), length, target)
