"""A tree over the triangles of a mesh light: one of them is chosen by its contribution to a point, in steps that grow with the logarithm of
their number.

After Conty Estevez & Kulla 2018, "Importance Sampling of Many Lights with Adaptive Tree Splitting", with other estimates: a node keeps
the first two moments of its normals, which give a good estimate of its projected area instead of only an upper bound. Closed
surfaces, half of which always face away, need that.
"""

import math

import numpy as np

from ..kernel import called_kernel, kernel
from ..scene.triangles import corners_of
from ..vector import cross, dot, normalize, scale, subtract

# Columns of a node: centre and radius of its bounding sphere, its power (area times luminance), power times normal, the six moments of the
# normal (xx, yy, zz, xy, xz, yz), and sine and cosine of the cone round the mean normal that holds all normals.
MIDDLE, BALL, POWER, MEAN, MOMENTS, SIN_CONE, COS_CONE, NODE_COLUMNS = 0, 3, 4, 5, 8, 14, 15, 16
# Columns of its links: the first of its children, which are consecutive, and their number; the parent; the triangle of a leaf.
CHILD, CHILDREN, PARENT, TRIANGLE, LINK_COLUMNS = 0, 1, 2, 3, 4
NONE = np.uint32(0xFFFFFFFF)
LEAST_SHOWN = 0.0005
"""Least weight of a node, as a share of its power, while some of its triangles may face the point."""
HALVINGS = 3
"""Halvings per level: choosing among eight children at once is more accurate than among two, three times."""
PAIRS = ((0, 0), (1, 1), (2, 2), (0, 1), (0, 2), (1, 2))


def build_mesh_tree(corners: np.ndarray, triangles: np.ndarray, power: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The tree over the triangles `corners` float [n, 3, 3] m, numbered `triangles` uint32 [n] in the scene, of `power` float [n] > 0.

    Returns nodes float32 [m, NODE_COLUMNS], the root first; links uint32 [m, LINK_COLUMNS], counted from the root; and the
    leaf of each triangle int64 [n].
    """
    crossed = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normals = crossed / np.maximum(np.linalg.norm(crossed, axis=1, keepdims=True), 1e-300)
    centroids, lows, highs = corners.mean(axis=1), corners.min(axis=1), corners.max(axis=1)
    leaf_of, order = np.zeros(len(triangles), np.int64), np.arange(len(triangles))
    nodes: list[np.ndarray] = []
    links: list[np.ndarray] = []
    starts, counts, parents, made = np.array([0]), np.array([len(triangles)]), np.array([-1]), 0
    while len(starts):
        # Level by level: all nodes of a level are measured and split at the median of their longest side together.
        own, edges, row = _members(order, starts, counts)
        level = _measured(own, edges, row, centroids, lows, highs, normals, power)
        link = np.full((len(starts), LINK_COLUMNS), NONE, np.uint32)
        link[parents >= 0, PARENT] = parents[parents >= 0]
        alone = np.flatnonzero(counts == 1)
        only = order[starts[alone]]
        link[alone, TRIANGLE], leaf_of[only] = triangles[only], made + alone
        level[alone, BALL] = np.linalg.norm(corners[only] - level[alone, None, :3], axis=2).max(axis=1, initial=0.0)
        whole = np.flatnonzero(counts > 1)
        starts, counts, of = starts[whole], counts[whole], whole
        for _ in range(HALVINGS):
            starts, counts, of = _halved(order, starts, counts, of, centroids)
        number = np.bincount(of, minlength=len(link))
        link[whole, CHILD] = made + len(link) + (np.cumsum(number) - number)[whole]
        link[whole, CHILDREN] = number[whole]
        nodes.append(level)
        links.append(link)
        parents, made = made + of, made + len(link)
    return np.concatenate(nodes).astype(np.float32), np.concatenate(links), leaf_of


def _members(order: np.ndarray, starts: np.ndarray, counts: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Members of the nodes that hold `counts` entries of `order` from `starts` on: (members, where each node's begin, node of each)."""
    edges = np.cumsum(counts) - counts
    row = np.repeat(np.arange(len(starts)), counts)
    return order[np.arange(len(row)) + np.repeat(starts - edges, counts)], edges, row


def _halved(order, starts, counts, of, centroids):
    """Each node's entries of `order` sorted along the longest side of their centroids, and cut in two: (starts, counts, of which node)."""
    if not len(starts):
        return starts, counts, of
    own, edges, row = _members(order, starts, counts)
    low, high = np.minimum.reduceat(centroids[own], edges), np.maximum.reduceat(centroids[own], edges)
    along = centroids[own, np.argmax(high - low, axis=1)[row]]
    order[np.arange(len(row)) + np.repeat(starts - edges, counts)] = own[np.lexsort((along, row))]
    half = counts // 2
    starts, counts = np.stack([starts, starts + half], 1).reshape(-1), np.stack([half, counts - half], 1).reshape(-1)
    return starts[counts > 0], counts[counts > 0], np.repeat(of, 2)[counts > 0]


def _measured(own, edges, row, centroids, lows, highs, normals, power) -> np.ndarray:
    """Rows of the nodes whose members `own` stand one after the other from `edges` on."""
    out = np.zeros((len(edges), NODE_COLUMNS))
    weights = power[own]
    out[:, POWER] = np.add.reduceat(weights, edges)
    out[:, MIDDLE : MIDDLE + 3] = np.add.reduceat(centroids[own] * weights[:, None], edges) / out[:, POWER, None]
    low, high = np.minimum.reduceat(lows[own], edges), np.maximum.reduceat(highs[own], edges)
    middle = out[:, MIDDLE : MIDDLE + 3]
    out[:, BALL] = np.linalg.norm(np.maximum(high - middle, middle - low), axis=1)
    out[:, MEAN : MEAN + 3] = np.add.reduceat(normals[own] * weights[:, None], edges)
    for k, (a, b) in enumerate(PAIRS):
        out[:, MOMENTS + k] = np.add.reduceat(normals[own, a] * normals[own, b] * weights, edges)
    axis = out[:, MEAN : MEAN + 3] / np.maximum(np.linalg.norm(out[:, MEAN : MEAN + 3], axis=1, keepdims=True), 1e-300)
    cone = np.minimum.reduceat((normals[own] * axis[row]).sum(axis=1), edges) - 1e-6
    out[:, COS_CONE] = np.maximum(cone, -1.0)
    out[:, SIN_CONE] = np.sqrt(np.maximum(0.0, 1.0 - out[:, COS_CONE] ** 2))
    return out


@kernel
def _mean_positive(mean, deviation):
    """Mean of max(0, x) for x uniform about `mean` with a standard deviation."""
    half = math.sqrt(3.0) * deviation
    if mean >= half:
        return mean
    return (mean + half) ** 2 / (4.0 * half) if mean > -half else 0.0


@kernel
def _received(node, p, n):
    """(direction to the centre of a node's sphere, its squared distance, squared radius over that, mean cosine of its light)."""
    to = subtract((np.float64(node[MIDDLE]), np.float64(node[MIDDLE + 1]), np.float64(node[MIDDLE + 2])), p)
    d2, ball = dot(to, to), np.float64(node[BALL])
    distance = math.sqrt(d2)
    towards = scale(to, 1.0 / distance) if distance > 0.0 else n
    cos, sin = dot(n, towards), min(1.0, 1.001 * ball / distance) if distance > 0.0 else 1.0
    received = cos
    if cos < sin:
        received = (cos + sin) ** 2 / (4.0 * sin) if cos > -sin else 0.0
    return towards, d2, ball * ball / max(d2, 1e-300), received


@kernel
def _node_importance(node, p, n, both):
    """Estimated light of the triangles below an inner node at `p` with normal `n`; zero only where none can arrive."""
    towards, d2, spread, received = _received(node, p, n)
    power = np.float64(node[POWER])
    if received <= 0.0 or power <= 0.0:
        return 0.0
    if spread >= 1.0:
        # From within the sphere, triangles may be seen from all sides.
        return power * received * (0.5 if both else 0.25) / (spread * d2)
    w = (-towards[0], -towards[1], -towards[2])
    mean = (node[MEAN] * w[0] + node[MEAN + 1] * w[1] + node[MEAN + 2] * w[2]) / power
    if not both:
        # Do the cone of normals and the bounding sphere prove that all face away?
        length = math.sqrt(np.float64(node[MEAN]) ** 2 + np.float64(node[MEAN + 1]) ** 2 + np.float64(node[MEAN + 2]) ** 2) / power
        cos = min(1.0, max(-1.0, mean / length)) if length > 1e-6 else 1.0
        sin_ball, cos_ball = math.sqrt(spread), math.sqrt(1.0 - spread)
        sin_cone, cos_cone = np.float64(node[SIN_CONE]), np.float64(node[COS_CONE])
        sin_both, cos_both = sin_ball * cos_cone + cos_ball * sin_cone, cos_ball * cos_cone - sin_ball * sin_cone
        # The two angles add up to less than 90°, and the axis is further from the point than the rest of 90°.
        if cos_cone > 0.0 and cos_both > 0.0 and cos < -sin_both:
            return 0.0
    second = (
        node[MOMENTS] * w[0] * w[0] + node[MOMENTS + 1] * w[1] * w[1] + node[MOMENTS + 2] * w[2] * w[2]
        + 2.0 * (node[MOMENTS + 3] * w[0] * w[1] + node[MOMENTS + 4] * w[0] * w[2] + node[MOMENTS + 5] * w[1] * w[2])
    ) / power  # fmt: skip
    deviation = math.sqrt(max(0.0, second - mean * mean))
    shown = _mean_positive(mean, deviation)
    if both:
        shown += _mean_positive(-mean, deviation)
    return power * received * max(shown, LEAST_SHOWN) / d2


@kernel
def solid_angle(a, b, c):
    """Steradians between three unit vectors, positive where they run clockwise seen from their origin: a triangle's front (Van Oosterom &
    Strackee 1983, equation 8)."""
    return -2.0 * math.atan2(dot(a, cross(b, c)), 1.0 + dot(a, b) + dot(b, c) + dot(c, a))


@called_kernel
def importance(scene, number, p, n, both):
    """Estimated light of the triangles below node `number` at `p` with normal `n`; zero only where none can arrive. `both`: they emit on both
    sides."""
    node = scene.mesh_nodes[number]
    triangle = scene.mesh_links[number, TRIANGLE]
    if triangle == NONE:
        return _node_importance(node, p, n, both)
    _, _, _, received = _received(node, p, n)
    if received <= 0.0:
        return 0.0
    a, b, c = corners_of(scene, triangle)
    covers = solid_angle(normalize(subtract(a, p)), normalize(subtract(b, p)), normalize(subtract(c, p)))
    crossed = cross(subtract(b, a), subtract(c, a))
    power_per_area = 2.0 * np.float64(node[POWER]) / max(math.sqrt(dot(crossed, crossed)), 1e-300)
    return (abs(covers) if both else max(covers, 0.0)) * received * power_per_area


@called_kernel
def choose_triangle(scene, root, p, n, both, u):
    """A triangle below node `root`, chosen by importance: (number, probability, rest of the random number `u`). The probability is 0 where
    nothing can arrive."""
    node, chance = np.int64(root), 1.0
    while scene.mesh_links[node, TRIANGLE] == NONE:
        first = np.int64(scene.mesh_links[node, CHILD])
        last = first + np.int64(scene.mesh_links[node, CHILDREN])
        whole, chosen = 0.0, 0.0
        for k in range(first, last):
            amount = importance(scene, k, p, n, both)
            if amount <= 0.0:
                continue
            whole += amount
            share = amount / whole
            # One pass: each child replaces the one chosen so far with its share; the rest of the random number stays uniform.
            if u < share:
                node, chosen, u = k, amount, u / share
            else:
                u = (u - share) / (1.0 - share)
            u = min(max(u, 0.0), 1.0 - 1e-12)
        if whole <= 0.0:
            return NONE, 0.0, u
        chance *= chosen / whole
    return scene.mesh_links[node, TRIANGLE], chance, u


@called_kernel
def triangle_chance(scene, leaf, p, n, both):
    """Probability with which `choose_triangle` chooses the triangle of node `leaf` from the root of its tree."""
    node, chance = np.int64(leaf), 1.0
    while scene.mesh_links[node, PARENT] != NONE:
        parent = np.int64(scene.mesh_links[node, PARENT])
        first, whole, own = np.int64(scene.mesh_links[parent, CHILD]), 0.0, 0.0
        for k in range(first, first + np.int64(scene.mesh_links[parent, CHILDREN])):
            amount = importance(scene, k, p, n, both)
            whole += amount
            own = amount if k == node else own
        if own <= 0.0:
            return 0.0
        chance *= own / whole
        node = parent
    return chance
