"""The directions that light comes from, learned at a region: cones towards the bright places that were found from there.

A place is a sphere in the scene, so the cone towards it is right from every point of the region, however near the place is (the parallax of Ruppert,
Herholz & Lensch 2020, "Robust Fitting of Parallax-Aware
Mixtures for Path Guiding", section 4, by spheres instead of distances). A sky is a sphere far
away. The places of a region are found by
dividing the hits of its samples so that each division gains most information about the light, and kept where they are brighter than the rest: what is
even is left to the surface's own sampling.
"""

import math

from ..kernel import called_kernel, kernel
from ..vector import dot, frame, scale, to_world
from .regions import LOBES

CENTRE, SQUARED_RADIUS, UNTIL, LOBE_COLUMNS = 0, 3, 4, 5
MOST_LOBES = 12
FEWEST = 4
"""Least number of hits in a place."""
CANDIDATES = 12
"""Divisions that are tried along each axis."""
LEAST_ANGLE = 0.03
"""Least half angle of a cone, in radians."""
WORTH = 0.01
"""Gain in information, in nats, below which no place is divided."""
PEAK = 2.0
"""A place is kept where it is this many times brighter than the mean; the surface's own sampling serves the others."""
MOST_SHARE = 0.6
TRUSTED = 0.7
"""Share of the directions to a place, of those that its light would ask for: what few samples show may not be there."""
SPARE = 1.0
"""How much wider than its hits a place is, divided by the root of their number: few hits do not show how far it reaches."""
# Columns of a place while places are divided: its hits, its light and its share of the cosine, and the best division of it.
LOW, HIGH, BRIGHT, EVEN, LOOKED, GAIN, ALONG, CUT, RANGE_COLUMNS = range(9)


@kernel
def _cone(lobes, region, k, p):
    """(vector to the place, its squared length, 1 - cosine of the half angle; 2 from within)."""
    to = (lobes[region, k, 0] - p[0], lobes[region, k, 1] - p[1], lobes[region, k, 2] - p[2])
    d2 = dot(to, to)
    sin2 = lobes[region, k, SQUARED_RADIUS] / max(d2, 1e-30)
    if sin2 >= 1.0 - 1e-9:
        return to, d2, 2.0
    return to, d2, sin2 / (1.0 + math.sqrt(1.0 - sin2))


@kernel
def guided_direction(guide, region, p, u, v):
    """A unit direction from `p` drawn from what its region has learned, which must have lobes."""
    lobes, count = guide.lobes, int(guide.regions[region, LOBES])
    k, before = 0, 0.0
    while k < count - 1 and u >= lobes[region, k, UNTIL]:
        before = lobes[region, k, UNTIL]
        k += 1
    u = min(max((u - before) / max(lobes[region, k, UNTIL] - before, 1e-30), 0.0), 1.0 - 1e-12)
    to, d2, gap = _cone(lobes, region, k, p)
    axis = scale(to, 1.0 / math.sqrt(d2)) if gap < 2.0 else (0.0, 0.0, 1.0)
    x, y = frame(axis)
    z = 1.0 - u * gap
    r, phi = math.sqrt(max(0.0, 1.0 - z * z)), 2.0 * math.pi * v
    return to_world(x, y, axis, (r * math.cos(phi), r * math.sin(phi), z))


@kernel
def guided_density(guide, region, p, d):
    """Density per steradian of `guided_direction` along unit `d`."""
    lobes, before, density = guide.lobes, 0.0, 0.0
    for k in range(int(guide.regions[region, LOBES])):
        to, d2, gap = _cone(lobes, region, k, p)
        chance, before = lobes[region, k, UNTIL] - before, lobes[region, k, UNTIL]
        along = dot(to, d)
        if gap >= 2.0 or (along > 0.0 and along >= (1.0 - gap) * math.sqrt(d2)):
            density += chance / (2.0 * math.pi * gap)
    return density


@kernel
def _information(share, even):
    """What a place with a share of the light tells, if it takes the share `even` of cosine-spread directions (Kullback & Leibler 1951), in nats."""
    return share * math.log(share / max(even, 1e-12)) if share > 0.0 else 0.0


@kernel
def _ball(places, order, low, high, middle, lobe):
    """The sphere about some hits, into the columns CENTRE and SQUARED_RADIUS of a lobe, at least as wide as LEAST_ANGLE from `middle`."""
    for c in range(3):
        least, most = places[order[low], c], places[order[low], c]
        for k in range(low + 1, high):
            least, most = min(least, places[order[k], c]), max(most, places[order[k], c])
        lobe[c] = 0.5 * (least + most)
    radius2 = distance2 = 0.0
    for k in range(low, high):
        apart = 0.0
        for c in range(3):
            apart += (places[order[k], c] - lobe[c]) ** 2
        radius2 = max(radius2, apart)
    for c in range(3):
        distance2 += (lobe[c] - middle[c]) ** 2
    widened = math.sqrt(radius2) * (1.0 + SPARE / math.sqrt(high - low))
    lobe[SQUARED_RADIUS] = max(widened * widened, LEAST_ANGLE * LEAST_ANGLE * distance2)


@called_kernel
def find_lobes(starts, places, light, measure, middles, first, last, order, ranges, lobes, counts, shares):
    """The places of the regions `first` to `last` (exclusive): lobes [regions, MOST_LOBES, LOBE_COLUMNS], their counts [regions], and the share of
    directions that should go there [regions].

    starts int64 [regions + 1]: their samples; of each sample the place it led to [n, 3], its share of the irradiance and of the cosine [n]; order
    int64 [n] and ranges float64 [MOST_LOBES, RANGE_COLUMNS] are used up. middles [regions, 3]: where the regions are.
    """
    for region in range(first, last):
        begun, end = starts[region], starts[region + 1]
        total, cosines = 0.0, 0.0
        for k in range(begun, end):
            order[k] = k
            total += light[k]
            cosines += measure[k]
        counts[region], shares[region] = 0, 0.0
        if end - begun < 2 * FEWEST or total <= 0.0:
            continue
        count = 1
        ranges[0, LOW], ranges[0, HIGH], ranges[0, BRIGHT], ranges[0, EVEN], ranges[0, LOOKED] = begun, end, total, cosines, 0.0
        while count < MOST_LOBES:
            # Divide the place whose best division tells most; each division is looked for once.
            chosen, most = -1, WORTH
            for place in range(count):
                if ranges[place, LOOKED] == 0.0:
                    _best_division(places, light, measure, order, ranges[place], total, cosines)
                if ranges[place, GAIN] > most:
                    chosen, most = place, ranges[place, GAIN]
            if chosen < 0:
                break
            low, high = int(ranges[chosen, LOW]), int(ranges[chosen, HIGH])
            axis, cut = int(ranges[chosen, ALONG]), ranges[chosen, CUT]
            at, bright, even = low, 0.0, 0.0
            for k in range(low, high):
                j = order[k]
                if places[j, axis] < cut:
                    order[k], order[at] = order[at], j
                    at += 1
                    bright += light[j]
                    even += measure[j]
            ranges[count, LOW], ranges[count, HIGH], ranges[count, LOOKED] = at, high, 0.0
            ranges[count, BRIGHT], ranges[count, EVEN] = ranges[chosen, BRIGHT] - bright, ranges[chosen, EVEN] - even
            ranges[chosen, HIGH], ranges[chosen, BRIGHT], ranges[chosen, EVEN], ranges[chosen, LOOKED] = at, bright, even, 0.0
            count += 1
        kept, until = 0, 0.0
        for place in range(count):
            share, even = ranges[place, BRIGHT] / total, ranges[place, EVEN] / cosines
            if share > PEAK * even:
                _ball(places, order, int(ranges[place, LOW]), int(ranges[place, HIGH]), middles[region], lobes[region, kept])
                until += share - even
                lobes[region, kept, UNTIL] = until
                kept += 1
        for place in range(kept):
            lobes[region, place, UNTIL] /= until
        counts[region], shares[region] = kept, min(MOST_SHARE, TRUSTED * until)


@kernel
def _best_division(places, light, measure, order, place, total, cosines):
    """The division of a place that gains most information, into its columns LOOKED and on."""
    low, high = int(place[LOW]), int(place[HIGH])
    place[LOOKED], place[GAIN] = 1.0, 0.0
    before = _information(place[BRIGHT] / total, place[EVEN] / cosines)
    for axis in range(3):
        for candidate in range(1, CANDIDATES + 1):
            cut = places[order[low + (2 * candidate - 1) * (high - low) // (2 * CANDIDATES)], axis]
            number, bright, even = 0, 0.0, 0.0
            for k in range(low, high):
                j = order[k]
                if places[j, axis] < cut:
                    number += 1
                    bright += light[j]
                    even += measure[j]
            if number < FEWEST or high - low - number < FEWEST:
                continue
            gain = _information(bright / total, even / cosines)
            gain += _information((place[BRIGHT] - bright) / total, (place[EVEN] - even) / cosines) - before
            if gain > place[GAIN]:
                place[GAIN], place[ALONG], place[CUT] = gain, axis, cut
