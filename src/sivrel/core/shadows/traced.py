"""Traced shadows: a ray to the light, dimmed by every cut-out surface on its way."""

from ..kernel import kernel
from ..scene.arrays import BY_SHADOW, FLAGS, LINKS
from ..scene.surface_at import opacity_at
from ..trace.traverse import NO_HIT, any_hit, closest_hit
from ..vector import add, scale
from .way import ShadowWay

TRACED = 1
WAY = ShadowWay(
    "traced",
    TRACED,
    "traced rays",
    "Sends rays to the light: right for every size and shape of it.",
    "Dots in the soft part when rays are too few; time in proportion to the rays.",
)
MOST_LAYERS = 64
"""Surfaces that a shadow ray passes before it counts as stopped."""


@kernel
def stops(scene, triangle, link):
    """Whether a triangle's object casts shadows at all, and for the light whose link bit is `link` (-1: any)."""
    row = scene.object_of[triangle]
    return scene.objects[row, FLAGS] & BY_SHADOW != 0 and (link < 0 or (scene.objects[row, LINKS] >> link) & 1 != 0)


@kernel
def visibility(scene, stack, link, p, d, distance):
    """Share of light that passes from `p` along unit `d` over `distance` metres: 0 to 1. `link` is the bit of the
    objects that stop this light, -1 for all."""
    # A little short, or a light that is a mesh would be hidden by itself.
    reach = distance * (1.0 - 1e-6) - scene.offset
    if reach <= 0.0:
        return 1.0
    if not scene.cutouts and not scene.filtered and link < 0:
        return 0.0 if any_hit(scene.bvh, stack, p[0], p[1], p[2], d[0], d[1], d[2], 0.0, reach) else 1.0
    passed, start = 1.0, 0.0
    for _ in range(MOST_LAYERS):
        q = add(p, scale(d, start))
        hit, t, b1, b2 = closest_hit(scene.bvh, stack, q[0], q[1], q[2], d[0], d[1], d[2], 0.0, reach - start)
        if hit == NO_HIT:
            return passed
        if stops(scene, hit, link):
            passed *= 1.0 - opacity_at(scene, hit, b1, b2)
        if passed <= 0.0:
            return 0.0
        start += t + scene.offset
    return 0.0
