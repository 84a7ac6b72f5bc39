"""Whether a surface lies between a photon and the point that gathers it: beside a sheet lie photons of the room behind it.

A ray for each gathered photon would cost more than the gathering. So each photon is tested once, when the map is loaded, for whether
any surface rises beside it within the gather radius, and rays are only traced for those.
"""

import math

import numpy as np

from ..kernel import called_kernel
from ..numba_byref import by_reference
from ..trace.traverse import any_hit, make_stack
from ..vector import add, dot, frame, scale, subtract
from .photons import COLUMNS, NORMAL

SHIELDED, SERVED_COLUMNS = COLUMNS, COLUMNS + 1
"""Extra column of a loaded photon: whether a surface rises beside it; and the number of columns then."""
FEELERS = 24
"""Rays round a photon: enough that one of them hits any surface within the radius that is a quarter as wide as its distance."""
LIFT = 0.1
"""Rays run above the surface by this share of their length: so stones of a floor and folds of a cloth do not hide each other's photons."""


def with_shielding(job, photons: np.ndarray, radius: float | np.ndarray, visible: bool) -> np.ndarray:
    """Photons float32 [n, COLUMNS] with the column SHIELDED, for gathering within `radius` metres, the same or [n]; always 0 unless `visible`."""
    served = np.zeros((len(photons), SERVED_COLUMNS), np.float32)
    served[:, :COLUMNS] = photons
    if visible and len(photons):
        served[:, SHIELDED] = radius  # until it is known
        job.shared_out(lambda part: _feel(job.arrays, make_stack(), part), served)
    return served


@called_kernel
def _feel(scene_arrays, stack, photons):
    """Replace the radius in the column SHIELDED of some photons by whether anything is within it."""
    scene = by_reference(scene_arrays)
    lift = 4.0 * scene.offset
    for k in range(len(photons)):
        reach = photons[k, SHIELDED] / math.cos(math.pi / FEELERS)
        photons[k, SHIELDED] = 0.0
        n = (float(photons[k, NORMAL]), float(photons[k, NORMAL + 1]), float(photons[k, NORMAL + 2]))
        x, y = frame(n)
        p = (photons[k, 0] + lift * n[0], photons[k, 1] + lift * n[1], photons[k, 2] + lift * n[2])
        for j in range(FEELERS):
            angle = 2.0 * math.pi * (j + 0.5) / FEELERS
            d = add(add(scale(x, math.cos(angle)), scale(y, math.sin(angle))), scale(n, LIFT))
            if any_hit(scene.bvh, stack, p[0], p[1], p[2], d[0], d[1], d[2], 0.0, reach):
                photons[k, SHIELDED] = 1.0
                break


@called_kernel
def is_hidden(scene, stack, p, n, photon):
    """Whether a surface lies between point `p` with normal `n` and a photon marked SHIELDED. The ray starts at the photon and
    ends above the point, higher on a curved surface: by the height of the arc over the chord."""
    its = (float(photon[NORMAL]), float(photon[NORMAL + 1]), float(photon[NORMAL + 2]))
    at = (float(photon[0]), float(photon[1]), float(photon[2]))
    away = subtract(p, at)
    d2 = dot(away, away)
    lift, rise = 4.0 * scene.offset, LIFT * math.sqrt(d2) + 0.5 * math.sqrt(d2 * max(0.0, 2.0 - 2.0 * dot(n, its)))
    start, d = add(at, scale(its, lift + 0.5 * rise)), add(away, add(scale(n, lift + rise), scale(its, -lift - 0.5 * rise)))
    return any_hit(scene.bvh, stack, start[0], start[1], start[2], d[0], d[1], d[2], 0.0, 1.0)
