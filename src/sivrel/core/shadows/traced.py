"""Traced shadows: a ray to the light, dimmed by every cut-out surface and tinted by every pane on its way."""

import math

from ..kernel import kernel
from ..scene.arrays import BY_SHADOW, FLAGS, SEE_THROUGH, SHADOWING, TINT, is_linked
from ..scene.arrays import PANE as PANE_SURFACE
from ..scene.triangles import corners_of, mesh_light_at, object_at, surface_row_at
from ..surfaces.next_surface import MOST_LAYERS
from ..surfaces.surface_at import passing_at
from ..trace.traverse import NO_HIT, any_hit, closest_hit
from ..vector import add, cross, dot, multiply, row3, scale, subtract
from .way import ShadowWay

TRACED = 1
ALL, NONE = (1.0, 1.0, 1.0), (0.0, 0.0, 0.0)


@kernel
def stops(scene, triangle, link):
    """Whether a triangle's object casts shadows, and for the light whose link is `link` (-1: any)."""
    row = object_at(scene, triangle)
    return scene.objects[row, FLAGS] & BY_SHADOW != 0 and is_linked(scene, row, link)


@kernel
def passing_colour(scene, triangle, b1, b2, d):
    """Share of light along unit `d` that passes a hit straight, as a colour."""
    share, _ = passing_at(scene, triangle, b1, b2, d)
    row = surface_row_at(scene, triangle)
    if share > 0.0 and scene.surfaces[row, SEE_THROUGH] == PANE_SURFACE:
        return scale(row3(scene.surfaces, row, TINT), share)
    return share, share, share


@kernel
def _is_end(scene, target, hit, t, length, d):
    """Whether a hit at distance `t` is the end of a ray of `length` to a point of triangle `target`: that triangle, or a coincident part of the same
    light."""
    if hit == target:
        return True
    if mesh_light_at(scene, hit) != mesh_light_at(scene, target):
        return False
    a, b, c = corners_of(scene, target)
    crossed = cross(subtract(b, a), subtract(c, a))
    # Hits are off by a few rounding errors across the surface, and by more along a grazing ray.
    facing = abs(dot(crossed, d)) / max(math.sqrt(dot(crossed, crossed)), 1e-300)
    return (length - t) * facing <= scene.offset


@kernel
def visibility(scene, stack, link, p, d, distance, target):
    """Share of light that passes from `p` along unit `d` over `distance` metres, as a colour. `link` is the group of
    objects that stop this light, -1 for all; `target` the triangle at which the ray ends, or NO_HIT. Solid glass blocks it: refracted light is
    found by chance."""
    aimed = target != NO_HIT
    reach = distance * (1.0 + 1e-5) + scene.offset if aimed else distance * (1.0 - 1e-6) - scene.offset
    if reach <= 0.0:
        return ALL
    if not scene.see_through and not scene.filtered and link < 0 and not aimed:
        return NONE if any_hit(scene.bvh, stack, p[0], p[1], p[2], d[0], d[1], d[2], 0.0, reach) else ALL
    passed, start = ALL, 0.0
    for _ in range(MOST_LAYERS):
        q = add(p, scale(d, start))
        hit, t, b1, b2 = closest_hit(scene.bvh, stack, q[0], q[1], q[2], d[0], d[1], d[2], 0.0, reach - start)
        if hit == NO_HIT or (aimed and _is_end(scene, target, hit, start + t, distance, d)):
            return passed
        if stops(scene, hit, link):
            if not scene.see_through:
                return NONE
            passed = multiply(passed, passing_colour(scene, hit, b1, b2, d))
        if passed[0] + passed[1] + passed[2] <= 0.0:
            return NONE
        start += t + scene.offset
    return NONE


@kernel
def traced_share(scene, stack, i, p, d, distance, target):
    """`ways.light_share` by a ray."""
    return visibility(scene, stack, int(scene.lights[i, SHADOWING]), p, d, distance, target)


WAY = ShadowWay(
    "traced",
    TRACED,
    "traced rays",
    "Sends rays to the light: right for every size and shape of it.",
    "Grain in soft shadows with too few rays; time grows in proportion to the rays.",
    share=traced_share,
)
