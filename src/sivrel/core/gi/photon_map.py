"""The photon map: bounced light from photons that were shot from the lights and lie where they landed.

Jensen 1996, "Global Illumination using Photon Maps": a balanced tree of photons (section 3.1) and the radiance that the nearest of
them bring (equation 8). Direct light is found by aiming, so a photon is kept only after it has scattered. The tree lies in one array:
the middle of every range is its node, split along the longest axis (Bentley 1975, "Multidimensional Binary Search Trees").
"""

import math

import numpy as np

from ..kernel import allocating_kernel, called_kernel
from ..scene.arrays import Photons
from ..vector import scale
from .way import Way

PHOTON_MAP = 3
WAY = Way(
    key="photon_map",
    code=PHOTON_MAP,
    title="a photon map",
    seen=True,
    beyond=True,
    does="Gathers photons that were shot from the lights once, for all pixels: deep bounces and caustics at no more cost.",
    costs="Blotches where photons are few, dark corners and leaks where the radius is large; glass and gloss are still traced.",
)
POSITION, NORMAL, FLUX, COLUMNS = 0, 3, 6, 9
MOST_GATHERED = 512
DEEPEST = 64
NO_PHOTONS = Photons(np.zeros((0, COLUMNS), np.float32), np.zeros(0, np.uint8), 1.0)


@allocating_kernel
def _build(points, order, axes):
    """Sort `order` into the ranges of the tree and note the axis of each node, in place."""
    lows, highs = np.empty(DEEPEST * 2, np.int64), np.empty(DEEPEST * 2, np.int64)
    lows[0], highs[0], waiting = 0, len(order), 1
    while waiting > 0:
        waiting -= 1
        low, high = lows[waiting], highs[waiting]
        if high - low < 1:
            continue
        middle = (low + high) // 2
        axis, widest = 0, np.float32(-1.0)
        for a in range(3):
            least = most = points[order[low], a]
            for k in range(low + 1, high):
                least, most = min(least, points[order[k], a]), max(most, points[order[k], a])
            if most - least > widest:
                axis, widest = a, most - least
        # Quickselect (Hoare 1961): the middle comes to its place.
        left, right = low, high - 1
        while left < right:
            pivot = points[order[(left + right) // 2], axis]
            i, j = left, right
            while i <= j:
                while points[order[i], axis] < pivot:
                    i += 1
                while points[order[j], axis] > pivot:
                    j -= 1
                if i <= j:
                    order[i], order[j] = order[j], order[i]
                    i += 1
                    j -= 1
            if middle <= j:
                right = j
            elif middle >= i:
                left = i
            else:
                break
        axes[middle] = axis
        lows[waiting], highs[waiting] = low, middle
        lows[waiting + 1], highs[waiting + 1] = middle + 1, high
        waiting += 2


def build_tree(photons: np.ndarray, radius: float) -> Photons:
    """The tree of photons float32 [n, COLUMNS]: position, normal of the surface, flux."""
    order, axes = np.arange(len(photons)), np.zeros(len(photons), np.uint8)
    if len(photons):
        _build(photons, order, axes)
    return Photons(np.ascontiguousarray(photons[order]), axes, radius)


@called_kernel
def irradiance_at(photons, near, p, n, gathered, radius, cos_tolerance):
    """Irradiance by the photons nearest to `p` on surfaces that face as `n` does: the `gathered` nearest within `radius` metres.

    `near` is working memory float64 [MOST_GATHERED + DEEPEST, 4]. Of a full gather the farthest photon only sets the radius, so that the
    estimate is right on average (Jensen 1996 counts it too).
    """
    points = photons.points
    count, found, reach2 = len(points), 0, radius * radius
    waiting = 0
    if count > 0:
        near[MOST_GATHERED, 0], near[MOST_GATHERED, 1], near[MOST_GATHERED, 2] = 0.0, count, 0.0
        waiting = 1
    while waiting > 0:
        waiting -= 1
        low, high = int(near[MOST_GATHERED + waiting, 0]), int(near[MOST_GATHERED + waiting, 1])
        if near[MOST_GATHERED + waiting, 2] > reach2 or low >= high:
            continue
        middle = (low + high) // 2
        axis = photons.axes[middle]
        dx, dy, dz = p[0] - points[middle, 0], p[1] - points[middle, 1], p[2] - points[middle, 2]
        d2 = dx * dx + dy * dy + dz * dz
        facing = n[0] * points[middle, 3] + n[1] * points[middle, 4] + n[2] * points[middle, 5]
        if d2 < reach2 and facing > cos_tolerance:
            # A heap with the farthest on top: near[k] holds squared distance and number.
            k = found
            if found < gathered:
                found += 1
            else:
                k = _sift_hole_down(near, found)
            while k > 0 and near[(k - 1) // 2, 0] < d2:
                near[k, 0], near[k, 1] = near[(k - 1) // 2, 0], near[(k - 1) // 2, 1]
                k = (k - 1) // 2
            near[k, 0], near[k, 1] = d2, middle
            if found == gathered:
                reach2 = near[0, 0]
        along = dx if axis == 0 else dy if axis == 1 else dz
        if along < 0.0:
            far_low, far_high, near_low, near_high = middle + 1, high, low, middle
        else:
            far_low, far_high, near_low, near_high = low, middle, middle + 1, high
        at = MOST_GATHERED + waiting
        near[at, 0], near[at, 1], near[at, 2] = far_low, far_high, along * along
        near[at + 1, 0], near[at + 1, 1], near[at + 1, 2] = near_low, near_high, 0.0
        waiting += 2
    full = found == gathered
    r = g = b = 0.0
    for k in range(1 if full else 0, found):
        m = int(near[k, 1])
        r += np.float64(points[m, 6])
        g += np.float64(points[m, 7])
        b += np.float64(points[m, 8])
    return scale((r, g, b), 1.0 / (math.pi * reach2))


@called_kernel
def _sift_hole_down(near, found):
    """Take the top off the heap and let the hole sink to a leaf, whose place is returned."""
    k = 0
    while True:
        child = 2 * k + 1
        if child >= found:
            return k
        if child + 1 < found and near[child + 1, 0] > near[child, 0]:
            child += 1
        near[k, 0], near[k, 1] = near[child, 0], near[child, 1]
        k = child
