"""The next surface along a ray, past cut-outs, panes and objects hidden from it."""

import numpy as np

from ..kernel import kernel
from ..scene.arrays import FAR, FLAGS, PANE, SEE_THROUGH, TINT
from ..scene.triangles import object_at, surface_row_at
from ..trace.sampler import sample_1d
from ..trace.traverse import NO_HIT, closest_hit
from ..vector import add, row3, scale
from .surface_at import passing_at

MOST_LAYERS = 64
"""Most surfaces that a ray passes before it counts as blocked."""
# Kinds of hit: opaque; glass or pane; passed, through a tinted pane, or through a pane at which a path forks.
OPAQUE, CLEAR, TINTED, FORKED = 0, 1, 2, 3
NEVER = 2.0
"""A least share that no pane has."""


@kernel
def next_surface(scene, stack, by, key, sample, dimension, layer, origin, d, start):
    """The first surface of a ray from `start` on, among the objects visible to rays of the kind `by`; cut-outs and panes are
    passed at random: (triangle, distance, b1, b2, kind, layers passed so far). The distance is FAR if there is none."""
    return next_surface_or_fork(scene, stack, by, key, sample, dimension, layer, origin, d, start, NEVER, False)


@kernel
def next_surface_or_fork(scene, stack, by, key, sample, dimension, layer, origin, d, start, least, reflected):
    """As `next_surface`; but panes that reflect and let pass at least this share of the light are not passed at random: it ends there,
    CLEAR if it is to be `reflected`, else FORKED."""
    while layer < MOST_LAYERS:
        o = add(origin, scale(d, start))
        hit, t, b1, b2 = closest_hit(scene.bvh, stack, o[0], o[1], o[2], d[0], d[1], d[2], 0.0, FAR)
        if hit == NO_HIT:
            break
        if not scene.filtered or scene.objects[object_at(scene, hit), FLAGS] & by != 0:
            if not scene.see_through:
                return hit, start + t, b1, b2, OPAQUE, layer
            passing, clear = passing_at(scene, hit, b1, b2, d)
            if passing + clear <= 0.0:
                return hit, start + t, b1, b2, OPAQUE, layer
            u = sample_1d(key, sample, dimension + layer)
            layer += 1
            both = passing + clear
            if u < both and min(passing, clear) >= least * both:
                return hit, start + t, b1, b2, CLEAR if reflected else FORKED, layer
            if u >= passing:
                return hit, start + t, b1, b2, CLEAR if u < both else OPAQUE, layer
            row = surface_row_at(scene, hit)
            if scene.surfaces[row, SEE_THROUGH] == PANE:
                tint = row3(scene.surfaces, np.int64(row), TINT)
                if min(tint[0], tint[1], tint[2]) < 1.0:
                    return hit, start + t, b1, b2, TINTED, layer
        else:
            layer += 1
        start += t + scene.offset
    return NO_HIT, FAR, np.float32(0.0), np.float32(0.0), OPAQUE, layer
