"""Tracing rays through the hierarchy: the nearest hit, or any hit."""

from typing import NamedTuple

import numpy as np

from ..kernel import allocating_kernel, exact_kernel, kernel
from .bvh import LEAF_FLAG, LEAF_WORDS, NODE_WORDS
from .simd import highest_bit, lowest_bit, slabs8, triangles8

NO_HIT = np.uint32(0xFFFFFFFF)
STACK = 1024
"""Deep enough for seven waiting children on each of MAX_DEPTH + 8 levels of both hierarchies, that of placements and that of a shape."""
FARTHEST = np.float32(1e30)
"""A ray with a larger coordinate hits nothing."""
# Unsigned throughout, to avoid the wrap-around test of signed indices.
ZERO, ONE, EIGHT = np.uint64(0), np.uint64(1), np.uint64(8)
_LEAF, _INDEX = np.uint64(LEAF_FLAG), np.uint64(LEAF_FLAG - 1)
_NODE_WORDS, _LEAF_WORDS = np.uint64(NODE_WORDS), np.uint64(LEAF_WORDS)
_CHILDREN, _NUMBERS = np.uint64(48), np.uint64(72)
_WAY = np.uint64(12)
_ONE, _TWO, _THREE, _FOUR, _FIVE, _SIX, _SEVEN, _EIGHT, _NINE, _TEN, _ELEVEN = (np.uint64(k) for k in range(1, 12))


class Stack(NamedTuple):
    """Working memory of one thread's traversals: the stack, its distances, and the distances of one node's children."""

    refs: np.ndarray
    distances: np.ndarray
    lanes: np.ndarray


@allocating_kernel
def make_stack():
    """A `Stack`: uint32 [STACK], float32 [STACK], float32 [8]."""
    return Stack(np.empty(STACK, np.uint32), np.empty(STACK, np.float32), np.empty(8, np.float32))


@kernel
def _inverse(d):
    """1/d with zero turned into a large number, so that no slab distance is not-a-number."""
    if abs(d) < 1e-20:
        return np.float32(1e20) if d >= 0.0 else np.float32(-1e20)
    return np.float32(1.0) / d


@kernel
def _is_traceable(ox, oy, oz, dx, dy, dz):
    """Whether a ray can be traced at all: false where a part of it is not a number, or too large to be multiplied. Such a ray passes the slab
    tests of empty slots, which refer to nothing."""
    return abs(ox) + abs(oy) + abs(oz) < FARTHEST and abs(dx) + abs(dy) + abs(dz) < FARTHEST


@kernel
def _ray_frame(dx, dy, dz):
    """Axis permutation (times 8) and shear that turn the ray into +z (Woop, Benthin & Wald 2013, section 3.1)."""
    ax, ay, az = abs(dx), abs(dy), abs(dz)
    if ax >= ay and ax >= az:
        kz, major, first, second = 0, dx, dy, dz
    elif ay >= az:
        kz, major, first, second = 1, dy, dz, dx
    else:
        kz, major, first, second = 2, dz, dx, dy
    kx = kz + 1 if kz < 2 else 0
    ky = kx + 1 if kx < 2 else 0
    if major < 0.0:
        kx, ky = ky, kx
        first, second = second, first
    inverse = np.float32(1.0) / major
    return np.uint64(kx * 8), np.uint64(ky * 8), np.uint64(kz * 8), first * inverse, second * inverse, inverse


@kernel
def _component(axis, x, y, z):
    return x if axis == ZERO else (y if axis == EIGHT else z)


@kernel
def _near_plane(inverse):
    """Offset of the plane that the ray crosses first: the low one when it goes up the axis."""
    return EIGHT if inverse < 0.0 else ZERO


@kernel
def _of_ray(ox, oy, oz, dx, dy, dz):
    """What the tests of boxes and triangles need of a ray: its inverse direction, the planes that it crosses first, and its frame with its origin."""
    ix, iy, iz = _inverse(dx), _inverse(dy), _inverse(dz)
    px, py, pz, sx, sy, sz = _ray_frame(dx, dy, dz)
    rx, ry, rz = _component(px, ox, oy, oz), _component(py, ox, oy, oz), _component(pz, ox, oy, oz)
    return ix, iy, iz, _near_plane(ix), _near_plane(iy), _near_plane(iz), px, py, pz, sx, sy, sz, rx, ry, rz


@kernel
def _nearest_child(nodes, base, entered, refs, distances, lanes, waiting):
    """(the nearest of the children in `entered`, which is not empty, and how many references wait): the others wait, nearer ones on top."""
    lane = lowest_bit(entered)
    entered &= entered - ONE
    ref = np.uint64(nodes[base + _CHILDREN + lane])
    nearest = lanes[lane]
    bottom = waiting
    while entered != ZERO:
        lane = lowest_bit(entered)
        entered &= entered - ONE
        t, child = lanes[lane], np.uint64(nodes[base + _CHILDREN + lane])
        if t < nearest:
            t, nearest = nearest, t
            child, ref = ref, child
        at = waiting
        while at > bottom and distances[at - ONE] < t:
            distances[at], refs[at] = distances[at - ONE], refs[at - ONE]
            at -= ONE
        distances[at], refs[at] = t, np.uint32(child)
        waiting += ONE
    return ref, waiting


@exact_kernel
def _closest_in(nodes, leaves, stack, root, bottom, origin_x, origin_y, origin_z, dir_x, dir_y, dir_z, t_near, t_far):
    """`closest_hit` in the tree below node `root`; below `bottom` the stack is another's."""
    ox, oy, oz = np.float32(origin_x), np.float32(origin_y), np.float32(origin_z)
    dx, dy, dz = np.float32(dir_x), np.float32(dir_y), np.float32(dir_z)
    near, best = np.float32(t_near), np.float32(t_far)
    if not _is_traceable(ox, oy, oz, dx, dy, dz):
        return NO_HIT, best, np.float32(0.0), np.float32(0.0)
    ix, iy, iz, near_x, near_y, near_z, px, py, pz, sx, sy, sz, rx, ry, rz = _of_ray(ox, oy, oz, dx, dy, dz)
    refs, distances, lanes = stack.refs, stack.distances, stack.lanes
    hit = NO_HIT
    hit_b1 = hit_b2 = np.float32(0.0)
    waiting, ref = bottom, root
    while True:
        if ref & _LEAF:
            base = (ref & _INDEX) * _LEAF_WORDS
            lane, t, b1, b2 = triangles8(leaves, base, px, py, pz, rx, ry, rz, sx, sy, sz, near, best)
            if lane < EIGHT:
                best, hit_b1, hit_b2 = t, b1, b2
                hit = leaves[base + _NUMBERS + lane]
        else:
            base = ref * _NODE_WORDS
            entered = slabs8(nodes, base, near_x, near_y, near_z, ox, oy, oz, ix, iy, iz, near, best, lanes)
            if entered != ZERO:
                ref, waiting = _nearest_child(nodes, base, entered, refs, distances, lanes, waiting)
                continue
        while waiting > bottom and distances[waiting - ONE] > best:
            waiting -= ONE
        if waiting == bottom:
            break
        waiting -= ONE
        ref = np.uint64(refs[waiting])
    return hit, best, hit_b1, hit_b2


@exact_kernel
def _any_in(nodes, leaves, stack, root, bottom, origin_x, origin_y, origin_z, dir_x, dir_y, dir_z, t_near, t_far):
    """`any_hit` in the tree below node `root`; below `bottom` the stack is another's.

    Children are visited in their order in the node, largest first: large ones are likely to be hit, and sorting by
    distance does not pay where the first hit ends the search.
    """
    ox, oy, oz = np.float32(origin_x), np.float32(origin_y), np.float32(origin_z)
    dx, dy, dz = np.float32(dir_x), np.float32(dir_y), np.float32(dir_z)
    near, far = np.float32(t_near), np.float32(t_far)
    if not _is_traceable(ox, oy, oz, dx, dy, dz):
        return False
    ix, iy, iz, near_x, near_y, near_z, px, py, pz, sx, sy, sz, rx, ry, rz = _of_ray(ox, oy, oz, dx, dy, dz)
    refs, lanes = stack.refs, stack.lanes
    waiting, ref = bottom, root
    while True:
        if ref & _LEAF:
            base = (ref & _INDEX) * _LEAF_WORDS
            if triangles8(leaves, base, px, py, pz, rx, ry, rz, sx, sy, sz, near, far)[0] < EIGHT:
                return True
        else:
            base = ref * _NODE_WORDS
            entered = slabs8(nodes, base, near_x, near_y, near_z, ox, oy, oz, ix, iy, iz, near, far, lanes)
            while entered != ZERO:
                lane = highest_bit(entered)
                entered ^= ONE << lane
                refs[waiting] = nodes[base + _CHILDREN + lane]
                waiting += ONE
        if waiting == bottom:
            return False
        waiting -= ONE
        ref = np.uint64(refs[waiting])


@kernel
def _into(ways, row, ox, oy, oz, dx, dy, dz):
    """A ray in the space of a placed shape. Its direction keeps the transform's stretch, so that distances along it stay the same."""
    at = row * _WAY
    x, y, z = np.float64(ox), np.float64(oy), np.float64(oz)
    u, v, w = np.float64(dx), np.float64(dy), np.float64(dz)
    return (
        np.float32(ways[at] * x + ways[at + _ONE] * y + ways[at + _TWO] * z + ways[at + _THREE]),
        np.float32(ways[at + _FOUR] * x + ways[at + _FIVE] * y + ways[at + _SIX] * z + ways[at + _SEVEN]),
        np.float32(ways[at + _EIGHT] * x + ways[at + _NINE] * y + ways[at + _TEN] * z + ways[at + _ELEVEN]),
        np.float32(ways[at] * u + ways[at + _ONE] * v + ways[at + _TWO] * w),
        np.float32(ways[at + _FOUR] * u + ways[at + _FIVE] * v + ways[at + _SIX] * w),
        np.float32(ways[at + _EIGHT] * u + ways[at + _NINE] * v + ways[at + _TEN] * w),
    )


@exact_kernel
def _closest_placed(nodes, leaves, places, ways, stack, origin_x, origin_y, origin_z, dir_x, dir_y, dir_z, t_near, t_far):
    """`closest_hit` among placed shapes."""
    ox, oy, oz = np.float32(origin_x), np.float32(origin_y), np.float32(origin_z)
    dx, dy, dz = np.float32(dir_x), np.float32(dir_y), np.float32(dir_z)
    near, best = np.float32(t_near), np.float32(t_far)
    hit = NO_HIT
    hit_b1 = hit_b2 = np.float32(0.0)
    if not _is_traceable(ox, oy, oz, dx, dy, dz):
        return hit, best, hit_b1, hit_b2
    ix, iy, iz = _inverse(dx), _inverse(dy), _inverse(dz)
    near_x, near_y, near_z = _near_plane(ix), _near_plane(iy), _near_plane(iz)
    refs, distances, lanes = stack.refs, stack.distances, stack.lanes
    waiting, ref = ZERO, np.uint64(places[ZERO])
    while True:
        if ref & _LEAF:
            row = ref & _INDEX
            x, y, z, u, v, w = _into(ways, row, ox, oy, oz, dx, dy, dz)
            root, shift = np.uint64(places[row + row + ONE]), places[row + row + _TWO]
            own, t, b1, b2 = _closest_in(nodes, leaves, stack, root, waiting, x, y, z, u, v, w, near, best)
            if own != NO_HIT:
                best, hit_b1, hit_b2 = t, b1, b2
                hit = np.uint32(own + shift)
        else:
            base = ref * _NODE_WORDS
            entered = slabs8(nodes, base, near_x, near_y, near_z, ox, oy, oz, ix, iy, iz, near, best, lanes)
            if entered != ZERO:
                ref, waiting = _nearest_child(nodes, base, entered, refs, distances, lanes, waiting)
                continue
        while waiting > ZERO and distances[waiting - ONE] > best:
            waiting -= ONE
        if waiting == ZERO:
            break
        waiting -= ONE
        ref = np.uint64(refs[waiting])
    return hit, best, hit_b1, hit_b2


@exact_kernel
def _any_placed(nodes, leaves, places, ways, stack, origin_x, origin_y, origin_z, dir_x, dir_y, dir_z, t_near, t_far):
    """`any_hit` among placed shapes, nearest first, since their boxes overlap, and say little about their size."""
    ox, oy, oz = np.float32(origin_x), np.float32(origin_y), np.float32(origin_z)
    dx, dy, dz = np.float32(dir_x), np.float32(dir_y), np.float32(dir_z)
    near, far = np.float32(t_near), np.float32(t_far)
    if not _is_traceable(ox, oy, oz, dx, dy, dz):
        return False
    ix, iy, iz = _inverse(dx), _inverse(dy), _inverse(dz)
    near_x, near_y, near_z = _near_plane(ix), _near_plane(iy), _near_plane(iz)
    refs, distances, lanes = stack.refs, stack.distances, stack.lanes
    waiting, ref = ZERO, np.uint64(places[ZERO])
    while True:
        if ref & _LEAF:
            row = ref & _INDEX
            x, y, z, u, v, w = _into(ways, row, ox, oy, oz, dx, dy, dz)
            if _any_in(nodes, leaves, stack, np.uint64(places[row + row + ONE]), waiting, x, y, z, u, v, w, near, far):
                return True
        else:
            base = ref * _NODE_WORDS
            entered = slabs8(nodes, base, near_x, near_y, near_z, ox, oy, oz, ix, iy, iz, near, far, lanes)
            if entered != ZERO:
                ref, waiting = _nearest_child(nodes, base, entered, refs, distances, lanes, waiting)
                continue
        if waiting == ZERO:
            return False
        waiting -= ONE
        ref = np.uint64(refs[waiting])


@kernel
def closest_hit(bvh, stack, ox, oy, oz, dx, dy, dz, t_near, t_far):
    """Nearest triangle along a ray: (triangle number or NO_HIT, distance, weight of v1, weight of v2).

    `t_near < t < t_far`, in units of the direction's length. `stack` is one thread's make_stack().
    """
    hit, t, b1, b2 = _closest_in(bvh.nodes, bvh.leaves, stack, ZERO, ZERO, ox, oy, oz, dx, dy, dz, t_near, t_far)
    if len(bvh.places) > 1:
        nearer, nearer_t, c1, c2 = _closest_placed(bvh.nodes, bvh.leaves, bvh.places, bvh.ways, stack, ox, oy, oz, dx, dy, dz, t_near, t)
        if nearer != NO_HIT:
            hit, t, b1, b2 = nearer, nearer_t, c1, c2
    return hit, t, b1, b2


@kernel
def any_hit(bvh, stack, ox, oy, oz, dx, dy, dz, t_near, t_far):
    """Whether any triangle lies between `t_near` and `t_far` along a ray."""
    if _any_in(bvh.nodes, bvh.leaves, stack, ZERO, ZERO, ox, oy, oz, dx, dy, dz, t_near, t_far):
        return True
    return len(bvh.places) > 1 and _any_placed(bvh.nodes, bvh.leaves, bvh.places, bvh.ways, stack, ox, oy, oz, dx, dy, dz, t_near, t_far)


@allocating_kernel
def closest_hits(bvh, origins, directions, t_near, t_far):
    """`closest_hit` for float32 [n, 3] origins and directions: triangle numbers uint32 [n], distances float32 [n]."""
    stack = make_stack()
    hits = np.empty(len(origins), np.uint32)
    distances = np.empty(len(origins), np.float32)
    for i in range(len(origins)):
        ox, oy, oz = origins[i, 0], origins[i, 1], origins[i, 2]
        dx, dy, dz = directions[i, 0], directions[i, 1], directions[i, 2]
        hits[i], distances[i], _, _ = closest_hit(bvh, stack, ox, oy, oz, dx, dy, dz, t_near, t_far)
    return hits, distances


@allocating_kernel
def any_hits(bvh, origins, directions, t_near, t_far):
    """`any_hit` for float32 [n, 3] origins and directions: bool [n]."""
    stack = make_stack()
    hits = np.empty(len(origins), np.bool_)
    for i in range(len(origins)):
        ox, oy, oz = origins[i, 0], origins[i, 1], origins[i, 2]
        dx, dy, dz = directions[i, 0], directions[i, 1], directions[i, 2]
        hits[i] = any_hit(bvh, stack, ox, oy, oz, dx, dy, dz, t_near, t_far)
    return hits
