"""Traced shadows: a ray to the light, dimmed by every cut-out surface on its way."""

from ..kernel import kernel
from ..scene.surface_at import opacity_at
from ..trace.traverse import NO_HIT, any_hit, closest_hit
from ..vector import add, scale

MOST_LAYERS = 64
"""Cut-outs that a shadow ray passes before it counts as stopped."""


@kernel
def visibility(scene, stack, p, d, distance):
    """Share of light that passes from `p` along unit `d` over `distance` metres: 0 to 1."""
    reach = distance * (1.0 - 1e-6)
    if not scene.cutouts:
        return 0.0 if any_hit(scene.bvh, stack, p[0], p[1], p[2], d[0], d[1], d[2], 0.0, reach) else 1.0
    passed, start = 1.0, 0.0
    for _ in range(MOST_LAYERS):
        q = add(p, scale(d, start))
        hit, t, b1, b2 = closest_hit(scene.bvh, stack, q[0], q[1], q[2], d[0], d[1], d[2], 0.0, reach - start)
        if hit == NO_HIT:
            return passed
        passed *= 1.0 - opacity_at(scene, hit, b1, b2)
        if passed <= 0.0:
            return 0.0
        start += t + scene.offset
    return 0.0
