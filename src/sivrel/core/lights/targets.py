"""Targets of caustic photons: bounding spheres of all surfaces that reflect or refract without scattering.

Every such surface lies within a sphere, so nothing is lost by sending photons only there (after the projection maps of Jensen
1996, "Global Illumination using Photon Maps", section 3.1). Spheres may overlap: a photon is weighted by the density of all of them
(Veach 1997, section 9.2.2.1).
"""

import math

import numpy as np

from ..kernel import called_kernel, kernel
from ..vector import add, dot, frame, scale, subtract, to_world

MIDDLE, RADIUS, CHANCE, UNTIL, COLUMNS = 0, 3, 4, 5, 6
MOST_TARGETS = 32
WORTH = 0.7
"""A sphere is split in two if their squared radii add up to less than this share of its own."""
MUCH = 0.3
"""Share of a hemisphere."""
NO_TARGETS = np.zeros((0, COLUMNS))


def targets_of(corners: np.ndarray) -> np.ndarray:
    """Spheres float64 [k, COLUMNS] round triangles [n, 3, 3] in metres: centre, radius, probability, and the sum of probabilities."""
    if not len(corners):
        return NO_TARGETS
    waiting = [(_ball(corners), corners)]
    balls: list[np.ndarray] = []
    while waiting and len(waiting) + len(balls) < MOST_TARGETS:
        waiting.sort(key=lambda one: one[0][RADIUS])
        ball, members = waiting.pop()
        centroids = members.mean(axis=1)
        axis = int(np.argmax(np.ptp(centroids, axis=0)))
        left = centroids[:, axis] < (centroids[:, axis].min() + centroids[:, axis].max()) / 2.0
        if left.any() and not left.all():
            halves = [(_ball(members[side]), members[side]) for side in (left, ~left)]
            if sum(one[RADIUS] ** 2 for one, _ in halves) < WORTH * ball[RADIUS] ** 2:
                waiting += halves
                continue
        balls.append(ball)
    table = np.zeros((len(balls) + len(waiting), COLUMNS))
    table[:, : RADIUS + 1] = [*balls, *(ball for ball, _ in waiting)]
    # By their cross-section; the photons' pilot takes care of small ones among large ones.
    table[:, CHANCE] = table[:, RADIUS] ** 2 / (table[:, RADIUS] ** 2).sum()
    table[:, UNTIL] = np.cumsum(table[:, CHANCE])
    return table


def _ball(corners: np.ndarray) -> np.ndarray:
    points = corners.reshape(-1, 3)
    middle = (points.min(axis=0) + points.max(axis=0)) / 2.0
    radius = float(np.linalg.norm(points - middle, axis=1).max())
    return np.array([*middle, max(radius * (1.0 + 1e-5), 1e-9)])


@kernel
def _chosen(targets, u):
    """(number of a sphere, rest of the random number)."""
    k, before = 0, 0.0
    while k < len(targets) - 1 and u >= targets[k, UNTIL]:
        before = targets[k, UNTIL]
        k += 1
    return k, min(max((u - before) / targets[k, CHANCE], 0.0), 1.0 - 1e-12)


@kernel
def _gap(targets, k, p):
    """(unit vector to the centre of a sphere, 1 - cosine of its half angle from `p`: 2 from within)."""
    to = subtract((targets[k, MIDDLE], targets[k, MIDDLE + 1], targets[k, MIDDLE + 2]), p)
    d2, r2 = dot(to, to), targets[k, RADIUS] ** 2
    if d2 <= r2 * (1.0 + 1e-9):
        return (0.0, 0.0, 1.0), 2.0
    sin2 = r2 / d2
    return scale(to, 1.0 / math.sqrt(d2)), sin2 / (1.0 + math.sqrt(1.0 - sin2))


@called_kernel
def cover_much(targets, p):
    """Whether the spheres cover so much of the view from `p` that aiming at them gains nothing."""
    whole = 0.0
    for k in range(len(targets)):
        whole += _gap(targets, k, p)[1]
    return whole > MUCH


@kernel
def cover_much_across(targets, radius):
    """The same for parallel rays through a disc of `radius` metres."""
    whole = 0.0
    for k in range(len(targets)):
        whole += targets[k, RADIUS] ** 2
    return whole > MUCH * radius * radius


@called_kernel
def direction_at(targets, p, u, v):
    """A direction from `p` to one of the spheres: (unit direction, density per steradian of all of them)."""
    k, u = _chosen(targets, u)
    axis, gap = _gap(targets, k, p)
    x, y = frame(axis)
    z = 1.0 - u * gap
    r, phi = math.sqrt(max(0.0, 1.0 - z * z)), 2.0 * math.pi * v
    d = to_world(x, y, axis, (r * math.cos(phi), r * math.sin(phi), z))
    density = 0.0
    for j in range(len(targets)):
        axis, gap = _gap(targets, j, p)
        if j == k or dot(axis, d) >= 1.0 - gap:
            density += targets[j, CHANCE] / (2.0 * math.pi * gap)
    return d, density


@called_kernel
def place_across(targets, towards, u, v):
    """A point on a plane across `towards` where a parallel ray hits one of the spheres: (point, density per square metre of all)."""
    k, u = _chosen(targets, u)
    x, y = frame(towards)
    r, phi = targets[k, RADIUS] * math.sqrt(u), 2.0 * math.pi * v
    middle = (targets[k, MIDDLE], targets[k, MIDDLE + 1], targets[k, MIDDLE + 2])
    place = add(middle, add(scale(x, r * math.cos(phi)), scale(y, r * math.sin(phi))))
    density = 0.0
    for j in range(len(targets)):
        off = subtract((targets[j, MIDDLE], targets[j, MIDDLE + 1], targets[j, MIDDLE + 2]), place)
        along = dot(off, towards)
        if j == k or dot(off, off) - along * along <= targets[j, RADIUS] ** 2:
            density += targets[j, CHANCE] / (math.pi * targets[j, RADIUS] ** 2)
    return place, density
