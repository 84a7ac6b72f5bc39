"""A tree over the lights that have a position: choosing one by importance, and finding those a ray hits, in steps
that grow with the logarithm of their number.

Conty Estevez & Kulla 2018, "Importance Sampling of Many Lights with Adaptive Tree Splitting": nodes with a box, a cone
of directions and a power (sections 4.1, 4.2), importance (section 5). Suns and skies have no position; each is
a choice of its own beside the tree.
"""

import math

import numpy as np

from ..kernel import called_kernel, kernel
from ..scene.arrays import (
    AXIS,
    AXIS_Z,
    CONE,
    COS_ANGLE,
    COS_E,
    COS_O,
    CYLINDER,
    DISK,
    DOME,
    FROM_ROUND,
    HALF_U,
    HALF_V,
    HIGH,
    KIND,
    LEAF,
    LEFT,
    LOW,
    MESH,
    NODE_COLUMNS,
    NODE_POWER,
    PARENT,
    POSITION,
    POWER,
    RADIUS,
    RECT,
    RIGHT,
    SIN_O,
    SKIP,
    STRETCHED,
    SUN,
    THETA_E,
    THETA_O,
)
from ..vector import dot, row3

FLOOR = 0.04
"""Least probability of a side that can reach the point at all, so that a badly estimated side is still sampled."""
BINS = 12
DEEPEST = 48


def light_bounds(row: np.ndarray, mesh_box: np.ndarray | None) -> tuple[np.ndarray, np.ndarray, np.ndarray, float, float]:
    """(low, high, axis, theta_o, theta_e) of a light with a place: its box, and the cone of its normals and emission."""
    kind, position = row[KIND], row[POSITION : POSITION + 3]
    half_u, half_v = row[HALF_U : HALF_U + 3], row[HALF_V : HALF_V + 3]
    axis, theta_o, theta_e = -row[AXIS_Z : AXIS_Z + 3], math.pi, math.pi / 2.0
    if kind == MESH:
        low, high = mesh_box if mesh_box is not None else (position, position)
    elif kind in (RECT, DISK):
        reach = np.abs(half_u) + np.abs(half_v)
        low, high, theta_o = position - reach, position + reach, 0.0
    elif kind == CYLINDER:
        reach = np.abs(half_u) + row[RADIUS]
        low, high = position - reach, position + reach
    else:
        low, high = position - row[RADIUS], position + row[RADIUS]
    if row[STRETCHED] > 0.0:
        half = np.abs(row[FROM_ROUND : FROM_ROUND + 9].reshape(3, 3)) @ ((high - low) / 2.0)
        low, high = position - half, position + half
    cone = row[CONE]
    if cone < math.pi / 2.0 - 1e-9:
        # No light leaves outside the cone about the axis, whatever the shape's normals are.
        theta_o, theta_e = 0.0, cone
    return np.asarray(low, float), np.asarray(high, float), axis, theta_o, theta_e


def _merge_cones(a, b):
    """The smallest cone (axis, theta_o, theta_e) that holds two (Conty Estevez & Kulla 2018, algorithm 1)."""
    if a[1] < b[1]:
        a, b = b, a
    theta_e = max(a[2], b[2])
    between = math.acos(min(1.0, max(-1.0, float(a[0] @ b[0]))))
    if min(between + b[1], math.pi) <= a[1]:
        return a[0], a[1], theta_e
    theta_o = (a[1] + between + b[1]) / 2.0
    if theta_o >= math.pi:
        return a[0], math.pi, theta_e
    across = np.cross(a[0], b[0])
    length = np.linalg.norm(across)
    if length < 1e-12:
        return a[0], math.pi, theta_e
    turn, across = theta_o - a[1], across / length
    axis = a[0] * math.cos(turn) + np.cross(across, a[0]) * math.sin(turn)
    return axis / np.linalg.norm(axis), theta_o, theta_e


def build_tree(lights: np.ndarray, mesh_boxes: dict[int, np.ndarray]) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(nodes float64 [n, NODE_COLUMNS] with the root first, leaf of each light int64, numbers of suns and skies int64)."""
    placed = [i for i in range(len(lights)) if lights[i, KIND] not in (SUN, DOME)]
    distant = np.array([i for i in range(len(lights)) if lights[i, KIND] in (SUN, DOME)], np.int64)
    leaf_of = np.full(len(lights), -1, np.int64)
    nodes: list[np.ndarray] = []
    if not placed:
        return np.zeros((0, NODE_COLUMNS)), leaf_of, distant
    bounds = {i: light_bounds(lights[i], mesh_boxes.get(i)) for i in placed}
    lows, highs = np.zeros((len(lights), 3)), np.zeros((len(lights), 3))
    for i in placed:
        lows[i], highs[i] = bounds[i][:2]
    # Built in the order of a stack, so that ten thousand lights need no recursion; merged from the leaves up.
    waiting = [(placed, -1, LEFT, 0)]
    while waiting:
        members, parent, side, depth = waiting.pop()
        number, row = len(nodes), np.full(NODE_COLUMNS, -1.0)
        row[PARENT] = parent
        nodes.append(row)
        if parent >= 0:
            nodes[parent][side] = number
        if len(members) == 1:
            i = members[0]
            low, high, axis, theta_o, theta_e = bounds[i]
            row[LOW : LOW + 3], row[HIGH : HIGH + 3], row[AXIS : AXIS + 3] = low, high, axis
            row[[THETA_O, THETA_E, NODE_POWER, LEAF]] = theta_o, theta_e, lights[i, POWER], i
            leaf_of[i] = number
        else:
            left, right = _split(members, lows, highs, lights[:, POWER], depth)
            waiting += [(right, number, RIGHT, depth + 1), (left, number, LEFT, depth + 1)]
    for number, row in reversed(list(enumerate(nodes))):
        # Nodes are in order of traversal: SKIP is the next node after a node's branch.
        row[SKIP] = number + 1
        if row[LEAF] < 0:
            a, b = nodes[int(row[LEFT])], nodes[int(row[RIGHT])]
            row[LOW : LOW + 3], row[HIGH : HIGH + 3] = np.minimum(a[:3], b[:3]), np.maximum(a[3:6], b[3:6])
            row[NODE_POWER] = a[NODE_POWER] + b[NODE_POWER]
            cones = [(n[AXIS : AXIS + 3], n[THETA_O], n[THETA_E]) for n in (a, b)]
            row[AXIS : AXIS + 3], row[THETA_O], row[THETA_E] = _merge_cones(*cones)
            row[SKIP] = b[SKIP]
    table = np.array(nodes)
    table[:, COS_O], table[:, SIN_O], table[:, COS_E] = np.cos(table[:, THETA_O]), np.sin(table[:, THETA_O]), np.cos(table[:, THETA_E])
    return table, leaf_of, distant


def _split(members: list[int], lows: np.ndarray, highs: np.ndarray, power: np.ndarray, depth: int) -> tuple[list[int], list[int]]:
    """Two halves of `members`: at the binned plane with the least area times power, or in the middle if there is none. lows, highs [lights, 3]
    and power [lights]: of all lights."""
    numbers = np.array(members)
    lows, highs, power = lows[numbers], highs[numbers], power[numbers] + 1e-12
    centres = (lows + highs) / 2.0
    low, high = centres.min(axis=0), centres.max(axis=0)
    best, cut = np.inf, None
    for axis in range(3):
        extent = high[axis] - low[axis]
        if extent <= 1e-9 or depth >= DEEPEST:
            continue
        place = np.minimum(((centres[:, axis] - low[axis]) / extent * BINS).astype(int), BINS - 1)
        costs = _costs_of_planes(place, lows, highs, power) * (float(np.max(high - low)) / extent)  # a long thin node is cut across its length
        plane = int(np.argmin(costs))
        if costs[plane] < best:
            best, cut = costs[plane], place <= plane
    if cut is None:
        order = np.argsort(centres[:, int(np.argmax(high - low))], kind="stable")
        cut = np.zeros(len(members), bool)
        cut[order[: len(members) // 2]] = True
    return numbers[cut].tolist(), numbers[~cut].tolist()


def _costs_of_planes(place: np.ndarray, lows: np.ndarray, highs: np.ndarray, power: np.ndarray) -> np.ndarray:
    """Area times power of both sides of the plane after each bin but the last; infinite where a side is empty."""
    counts, powers = np.bincount(place, minlength=BINS), np.bincount(place, power, BINS)
    low, high = np.full((BINS, 3), np.inf), np.full((BINS, 3), -np.inf)
    np.minimum.at(low, place, lows)
    np.maximum.at(high, place, highs)
    cost, both = np.zeros(BINS - 1), np.cumsum(counts)[:-1]
    for turn in (slice(None), slice(None, None, -1)):
        size = np.maximum.accumulate(high[turn])[:-1] - np.minimum.accumulate(low[turn])[:-1]
        with np.errstate(invalid="ignore"):
            own = np.cumsum(powers[turn])[:-1] * (0.01 + (size * size).sum(axis=1))
        cost += own[turn]
    return np.where((both > 0) & (both < len(place)), cost, np.inf)


@kernel
def _cos_sub(sin_a, cos_a, sin_b, cos_b):
    """cos of max(0, a - b)."""
    return 1.0 if cos_a > cos_b else cos_a * cos_b + sin_a * sin_b


@kernel
def node_importance(tree, node, p, n):
    """Upper estimate of the light at `p` with normal `n` from the lights below a node, by their common bounds: zero only
    where none can arrive (Conty Estevez & Kulla 2018, equation 3)."""
    low, high = row3(tree, node, LOW), row3(tree, node, HIGH)
    cx, cy, cz = 0.5 * (low[0] + high[0]) - p[0], 0.5 * (low[1] + high[1]) - p[1], 0.5 * (low[2] + high[2]) - p[2]
    ex, ey, ez = high[0] - low[0], high[1] - low[1], high[2] - low[2]
    r2 = 0.25 * (ex * ex + ey * ey + ez * ez)
    d2 = cx * cx + cy * cy + cz * cz
    if d2 <= r2 * 1.0001:
        return tree[node, NODE_POWER] / max(r2, 1e-12)
    d = math.sqrt(d2)
    wx, wy, wz = cx / d, cy / d, cz / d
    sin_u = math.sqrt(r2 / d2)
    cos_u = math.sqrt(max(0.0, 1.0 - r2 / d2))
    # Above the receiver's horizon?
    cos_i = min(1.0, max(-1.0, n[0] * wx + n[1] * wy + n[2] * wz))
    facing = _cos_sub(math.sqrt(1.0 - cos_i * cos_i), cos_i, sin_u, cos_u)
    if facing <= 0.0:
        return 0.0
    # Does any light emit this way? theta is the angle off the axis minus both cones.
    a = row3(tree, node, AXIS)
    cos_t = min(1.0, max(-1.0, -(a[0] * wx + a[1] * wy + a[2] * wz)))
    cos_t = _cos_sub(math.sqrt(1.0 - cos_t * cos_t), cos_t, tree[node, SIN_O], tree[node, COS_O])
    cos_t = _cos_sub(math.sqrt(max(0.0, 1.0 - cos_t * cos_t)), cos_t, sin_u, cos_u)
    if cos_t <= max(0.0, tree[node, COS_E]):
        return 0.0
    return tree[node, NODE_POWER] * facing * cos_t / d2


@kernel
def distant_importance(lights, i, n):
    """The same for a sun or a sky, which have no distance."""
    if lights[i, KIND] == DOME:
        return lights[i, POWER]
    if lights[i, COS_ANGLE] < 0.0:
        return lights[i, POWER]  # more than half of the sky
    cos_n = dot(n, row3(lights, i, AXIS_Z))
    return lights[i, POWER] * max(0.0, cos_n + math.sqrt(max(0.0, 1.0 - lights[i, COS_ANGLE] ** 2)))


@kernel
def _left_share(tree, node, p, n):
    """Probability of the left child of an inner node; negative if neither side can contribute."""
    a = node_importance(tree, int(tree[node, LEFT]), p, n)
    b = node_importance(tree, int(tree[node, RIGHT]), p, n)
    if a <= 0.0 and b <= 0.0:
        return -1.0
    if a <= 0.0:
        return 0.0
    if b <= 0.0:
        return 1.0
    return FLOOR + (1.0 - 2.0 * FLOOR) * a / (a + b)


@kernel
def _at_root(scene, p, n):
    """The choice between suns, skies and the tree: (total importance, that of the tree, uniform probability of each)."""
    placed = node_importance(scene.tree, 0, p, n) if len(scene.tree) > 0 else 0.0
    total = placed
    for k in range(len(scene.distant)):
        total += distant_importance(scene.lights, scene.distant[k], n)
    choices = len(scene.distant) + (1 if placed > 0.0 else 0)
    return total, placed, FLOOR / max(1, choices)


@called_kernel
def choose_light(scene, p, n, u):
    """A light chosen by importance: (number, probability), the probability 0 where none can arrive. `u` is used up."""
    total, placed, even = _at_root(scene, p, n)
    if total <= 0.0:
        return 0, 0.0
    passed = 0.0
    for k in range(len(scene.distant)):
        i = scene.distant[k]
        weight = distant_importance(scene.lights, i, n)
        chance = even + (1.0 - FLOOR) * weight / total
        if u < passed + chance or (placed <= 0.0 and k == len(scene.distant) - 1):
            return i, chance
        passed += chance
    chance = even + (1.0 - FLOOR) * placed / total
    return chosen_below(scene.tree, 0, chance, p, n, min(max((u - passed) / chance, 0.0), 1.0 - 1e-9))


@kernel
def chosen_below(tree, node, chance, p, n, u):
    """A light below a node that was chosen with a probability of `chance`: (number, its probability)."""
    while tree[node, LEAF] < 0.0:
        left = _left_share(tree, node, p, n)
        if left < 0.0:
            return 0, 0.0
        if u < left:
            u, chance, node = u / left, chance * left, int(tree[node, LEFT])
        else:
            u, chance, node = (u - left) / (1.0 - left), chance * (1.0 - left), int(tree[node, RIGHT])
        u = min(u, 1.0 - 1e-9)
    return int(tree[node, LEAF]), chance


@called_kernel
def choice_chance(scene, i, p, n):
    """Probability with which `choose_light` chooses light `i` at `p` with normal `n`."""
    total, placed, even = _at_root(scene, p, n)
    if total <= 0.0:
        return 0.0
    node = scene.leaf_of[i]
    if node < 0:
        return even + (1.0 - FLOOR) * distant_importance(scene.lights, i, n) / total
    if placed <= 0.0:
        return 0.0
    return chance_below(scene.tree, 0, node, even + (1.0 - FLOOR) * placed / total, p, n)


@kernel
def chance_below(tree, top, node, chance, p, n):
    """Probability with which `chosen_below` comes from `top`, chosen with `chance`, to the leaf `node`."""
    while node != top:
        parent = int(tree[node, PARENT])
        left = _left_share(tree, parent, p, n)
        if left < 0.0:
            return 0.0
        chance *= left if int(tree[parent, LEFT]) == node else 1.0 - left
        node = parent
    return chance


@kernel
def enters(tree, node, p, inverse, limit):
    """Whether a ray from `p` with the inverse direction `inverse` meets a node's box before `limit`."""
    near, far = 0.0, limit
    for a in range(3):
        slack = 1e-6 + 1e-6 * abs(p[a])
        t0 = (tree[node, LOW + a] - slack - p[a]) * inverse[a]
        t1 = (tree[node, HIGH + a] + slack - p[a]) * inverse[a]
        near, far = max(near, min(t0, t1)), min(far, max(t0, t1))
    return near <= far
