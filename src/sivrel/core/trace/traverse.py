"""Rays against the hierarchy: the nearest hit, and whether anything is hit at all."""

from typing import NamedTuple

import numpy as np

from ..kernel import allocating_kernel, kernel
from .bvh import LEAF_FLAG, LEAF_WORDS, NODE_WORDS
from .simd import lowest_bit, slabs8, triangles8

NO_HIT = np.uint32(0xFFFFFFFF)
STACK = 512
"""Deep enough for seven waiting children on each of MAX_DEPTH + 8 levels."""
_LEAF = np.uint64(LEAF_FLAG)
_INDEX = np.uint64(LEAF_FLAG - 1)


class Stack(NamedTuple):
    """Working memory of one thread's traversals: what waits, how far it is, and the distances of one node's children."""

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
    return kx, ky, kz, first * inverse, second * inverse, inverse


@kernel
def _component(axis, x, y, z):
    return x if axis == 0 else (y if axis == 1 else z)


@kernel
def _traverse(bvh, stack, origin_x, origin_y, origin_z, dir_x, dir_y, dir_z, t_near, t_far, any_hit):
    ox, oy, oz = np.float32(origin_x), np.float32(origin_y), np.float32(origin_z)
    dx, dy, dz = np.float32(dir_x), np.float32(dir_y), np.float32(dir_z)
    near, best = np.float32(t_near), np.float32(t_far)
    ix, iy, iz = _inverse(dx), _inverse(dy), _inverse(dz)
    eight, zero = np.uint64(8), np.uint64(0)
    near_x = eight if ix < 0.0 else zero
    near_y = eight if iy < 0.0 else zero
    near_z = eight if iz < 0.0 else zero
    kx, ky, kz, sx, sy, sz = _ray_frame(dx, dy, dz)
    px, py, pz = np.uint64(kx * 8), np.uint64(ky * 8), np.uint64(kz * 8)
    rx, ry, rz = _component(kx, ox, oy, oz), _component(ky, ox, oy, oz), _component(kz, ox, oy, oz)
    nodes, leaves = bvh.nodes, bvh.leaves
    refs, distances, lanes = stack.refs, stack.distances, stack.lanes
    hit = NO_HIT
    hit_b1 = hit_b2 = np.float32(0.0)
    one = np.uint64(1)
    waiting = zero
    ref = zero
    while True:
        if ref & _LEAF:
            base = (ref & _INDEX) * np.uint64(LEAF_WORDS)
            lane, t, b1, b2 = triangles8(leaves, base, px, py, pz, rx, ry, rz, sx, sy, sz, near, best)
            if lane < eight:
                best, hit_b1, hit_b2 = t, b1, b2
                hit = leaves[base + np.uint64(72) + lane]
                if any_hit:
                    break
        else:
            base = ref * np.uint64(NODE_WORDS)
            entered = slabs8(nodes, base, near_x, near_y, near_z, ox, oy, oz, ix, iy, iz, near, best, lanes)
            if entered != zero:
                lane = lowest_bit(entered)
                entered &= entered - one
                ref = np.uint64(nodes[base + np.uint64(48) + lane])
                if entered == zero:
                    continue
                nearest = lanes[lane]
                bottom = waiting
                while entered != zero:
                    lane = lowest_bit(entered)
                    entered &= entered - one
                    t, child = lanes[lane], np.uint64(nodes[base + np.uint64(48) + lane])
                    if t < nearest:
                        t, nearest = nearest, t
                        child, ref = ref, child
                    at = waiting
                    # The nearest child goes on at once; of the others, nearer ones are lifted to the top.
                    while at > bottom and distances[at - one] < t:
                        distances[at], refs[at] = distances[at - one], refs[at - one]
                        at -= one
                    distances[at], refs[at] = t, np.uint32(child)
                    waiting += one
                continue
        while waiting > zero and distances[waiting - one] > best:
            waiting -= one
        if waiting == zero:
            break
        waiting -= one
        ref = np.uint64(refs[waiting])
    return hit, best, hit_b1, hit_b2


@kernel
def closest_hit(bvh, stack, ox, oy, oz, dx, dy, dz, t_near, t_far):
    """Nearest triangle along a ray: (triangle number or NO_HIT, distance, weight of v1, weight of v2).

    `t_near < t < t_far`, in units of the direction's length. `stack` is one thread's make_stack().
    """
    return _traverse(bvh, stack, ox, oy, oz, dx, dy, dz, t_near, t_far, False)


@kernel
def any_hit(bvh, stack, ox, oy, oz, dx, dy, dz, t_near, t_far):
    """Whether any triangle lies between `t_near` and `t_far` along a ray."""
    return _traverse(bvh, stack, ox, oy, oz, dx, dy, dz, t_near, t_far, True)[0] != NO_HIT


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
