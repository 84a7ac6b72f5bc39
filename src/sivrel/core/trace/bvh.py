"""Bounding volume hierarchy: binned surface-area-heuristic build, collapsed to eight children a node.

Binning after Wald 2007, "On fast Construction of SAH-based Bounding Volume Hierarchies"; the collapse after
Wald, Benthin & Boulos 2008, "Getting Rid of Packets", section 4 (open the child of largest area until full).
"""

from typing import NamedTuple

import numpy as np

from ..kernel import allocating_kernel, called_kernel, kernel
from .placements import Placements, no_placements
from .simd import LANES

BINS = 16
NODE_WORDS = 56
"""A node: six rows of eight box planes (float32), then eight child references (uint32)."""
LEAF_WORDS = 80
"""A leaf: nine rows of eight vertex coordinates (float32), then eight triangle numbers (uint32)."""
LEAF_FLAG = 0x80000000
NO_CHILD = 0xFFFFFFFF
MAX_DEPTH = 60


class Bvh(NamedTuple):
    """The hierarchy as the traversal kernels read it.

    nodes: uint32 [number of nodes * NODE_WORDS], planes stored as float32 bits
    leaves: uint32 [number of leaves * LEAF_WORDS], coordinates stored as float32 bits
    node 0 leads to what is stored where it stands. For placed shapes, whose hierarchies are among the nodes too:
    places: uint32 [1 + 2 n], the node where the hierarchy of all placements begins, whose leaves refer to them by number; then for each the node
    where the hierarchy of its shape begins, and what is added to the numbers of its triangles; [1] where nothing is placed
    ways: float64 [12 n], rows of the 3 x 4 matrices from the scene to each shape's space
    placements: the same for everything but rays
    """

    nodes: np.ndarray
    leaves: np.ndarray
    places: np.ndarray
    ways: np.ndarray
    placements: Placements


def build_bvh(vertices: np.ndarray) -> Bvh:
    """Build the hierarchy of `vertices`, float32 [triangles, 3, 3] in metres. Points must be finite."""
    triangles = np.ascontiguousarray(vertices, np.float32)
    if len(triangles) == 0:
        empty = np.zeros(NODE_WORDS, np.uint32)
        planes = empty[:48].view(np.float32).reshape(3, 2, LANES)
        planes[:, 0], planes[:, 1] = np.inf, -np.inf
        empty[48:] = NO_CHILD
        return unplaced(empty, np.full(LEAF_WORDS, NO_CHILD, np.uint32))
    boxes = np.concatenate([triangles.min(axis=1), triangles.max(axis=1)], axis=1)
    nodes, leaf_ranges, order = wide_tree(boxes, LANES)
    return unplaced(nodes.reshape(-1), _pack_leaves(triangles, order, leaf_ranges).reshape(-1))


def unplaced(nodes: np.ndarray, leaves: np.ndarray) -> Bvh:
    """A hierarchy in which nothing is placed."""
    return Bvh(nodes, leaves, np.zeros(1, np.uint32), np.zeros(0), no_placements())


def wide_tree(boxes: np.ndarray, most: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Nodes uint32 [m, NODE_WORDS] over `boxes` float32 [n, 6], which are reordered; ranges int64 [k, 2] (start, count) of the leaves, of at most
    `most` boxes each; and the numbers uint32 [n] of the boxes in the order of these ranges."""
    order = np.arange(len(boxes), dtype=np.uint32)
    area, box, child, start, count = _build_binary(boxes, order, most)
    nodes, leaf_ranges = _collapse(area, box, child, start, count)
    return nodes, leaf_ranges, order


@kernel
def _half_area(lx, ly, lz, hx, hy, hz):
    dx, dy, dz = hx - lx, hy - ly, hz - lz
    return dx * dy + dy * dz + dz * dx


@kernel
def _bin_of(centre, origin, scale):
    return min(BINS - 1, max(0, int((centre - origin) * scale)))


@called_kernel
def _bounds(boxes, begin, end, out):
    """Box of boxes[begin:end] and of their centres, into out[0:6] and out[6:12]."""
    for k in range(12):
        out[k] = np.inf if k % 6 < 3 else -np.inf
    for i in range(begin, end):
        for a in range(3):
            l, h = boxes[i, a], boxes[i, 3 + a]
            c = np.float32(0.5) * (l + h)
            out[a] = min(out[a], l)
            out[3 + a] = max(out[3 + a], h)
            out[6 + a] = min(out[6 + a], c)
            out[9 + a] = max(out[9 + a], c)


@kernel
def _bin_scale(bounds, axis):
    width = bounds[9 + axis] - bounds[6 + axis]
    return np.float32(BINS * 0.9999) / width if width > 0.0 else np.float32(0.0)


@called_kernel
def _best_split(boxes, begin, end, bounds, bin_box, bin_count, right_area):
    """Least SAH cost over all axes: (axis, last bin of the left side); axis -1 when the centres coincide."""
    for row in range(3 * BINS):
        bin_count[row] = 0
        for a in range(6):
            bin_box[row, a] = np.inf if a < 3 else -np.inf
    sx, sy, sz = _bin_scale(bounds, 0), _bin_scale(bounds, 1), _bin_scale(bounds, 2)
    for i in range(begin, end):
        for axis in range(3):
            scale = sx if axis == 0 else (sy if axis == 1 else sz)
            centre = np.float32(0.5) * (boxes[i, axis] + boxes[i, 3 + axis])
            row = axis * BINS + _bin_of(centre, bounds[6 + axis], scale)
            bin_count[row] += 1
            for a in range(3):
                bin_box[row, a] = min(bin_box[row, a], boxes[i, a])
                bin_box[row, 3 + a] = max(bin_box[row, 3 + a], boxes[i, 3 + a])
    best, best_axis, best_bin = np.float32(np.inf), -1, 0
    for axis in range(3):
        if _bin_scale(bounds, axis) == 0.0:
            continue
        first = axis * BINS
        lx = ly = lz = np.float32(np.inf)
        hx = hy = hz = np.float32(-np.inf)
        for b in range(BINS - 1, 0, -1):
            r = first + b
            lx, ly, lz = min(lx, bin_box[r, 0]), min(ly, bin_box[r, 1]), min(lz, bin_box[r, 2])
            hx, hy, hz = max(hx, bin_box[r, 3]), max(hy, bin_box[r, 4]), max(hz, bin_box[r, 5])
            right_area[b] = _half_area(lx, ly, lz, hx, hy, hz)
        lx = ly = lz = np.float32(np.inf)
        hx = hy = hz = np.float32(-np.inf)
        left = 0
        for b in range(BINS - 1):
            r = first + b
            lx, ly, lz = min(lx, bin_box[r, 0]), min(ly, bin_box[r, 1]), min(lz, bin_box[r, 2])
            hx, hy, hz = max(hx, bin_box[r, 3]), max(hy, bin_box[r, 4]), max(hz, bin_box[r, 5])
            left += bin_count[r]
            right = end - begin - left
            if left == 0 or right == 0:
                continue
            cost = _half_area(lx, ly, lz, hx, hy, hz) * left + right_area[b + 1] * right
            if cost < best:
                best, best_axis, best_bin = cost, axis, b
    return best_axis, best_bin


@called_kernel
def _partition(boxes, order, begin, end, axis, split_bin, origin, scale):
    i, j = begin, end - 1
    while i <= j:
        if _bin_of(np.float32(0.5) * (boxes[i, axis] + boxes[i, 3 + axis]), origin, scale) <= split_bin:
            i += 1
        else:
            for a in range(6):
                boxes[i, a], boxes[j, a] = boxes[j, a], boxes[i, a]
            order[i], order[j] = order[j], order[i]
            j -= 1
    return i


@allocating_kernel
def _build_binary(boxes, order, most):
    """Binary tree over `boxes` float32 [n, 6]; reorders them and `order` so that each leaf is a range of both.

    Returns half areas, boxes [n, 6], first children (the second follows it; 0 marks a leaf), starts and counts.
    """
    n = len(order)
    capacity = 2 * n
    area = np.empty(capacity, np.float32)
    box = np.empty((capacity, 6), np.float32)
    child = np.zeros(capacity, np.uint32)
    start = np.zeros(capacity, np.uint32)
    count = np.zeros(capacity, np.uint32)
    bounds = np.empty(12, np.float32)
    bin_box = np.empty((3 * BINS, 6), np.float32)
    bin_count = np.empty(3 * BINS, np.int64)
    right_area = np.empty(BINS, np.float32)
    todo = np.empty((128, 4), np.int64)
    todo[0, 0], todo[0, 1], todo[0, 2], todo[0, 3] = 0, 0, n, 0
    waiting, used = 1, 1
    while waiting > 0:
        waiting -= 1
        node, begin, end, depth = todo[waiting, 0], todo[waiting, 1], todo[waiting, 2], todo[waiting, 3]
        _bounds(boxes, begin, end, bounds)
        for a in range(6):
            box[node, a] = bounds[a]
        area[node] = _half_area(bounds[0], bounds[1], bounds[2], bounds[3], bounds[4], bounds[5])
        start[node], count[node] = begin, end - begin
        # A leaf costs one test regardless of how full it is.
        if end - begin <= most:
            continue
        axis, split_bin = _best_split(boxes, begin, end, bounds, bin_box, bin_count, right_area)
        middle = begin
        if axis >= 0 and depth < MAX_DEPTH:
            scale = _bin_scale(bounds, axis)
            middle = _partition(boxes, order, begin, end, axis, split_bin, bounds[6 + axis], scale)
        if middle in (begin, end):
            middle = (begin + end) // 2
        child[node] = used
        # The larger side is deferred, so the list of waiting ranges stays logarithmic.
        for side in range(2):
            left = (side == 0) == (middle - begin > end - middle)
            todo[waiting, 0] = used + (0 if left else 1)
            todo[waiting, 1] = begin if left else middle
            todo[waiting, 2] = middle if left else end
            todo[waiting, 3] = depth + 1
            waiting += 1
        used += 2
    return area[:used], box[:used], child[:used], start[:used], count[:used]


@allocating_kernel
def _collapse(area, box, child, start, count):
    """Eight-wide nodes from the binary tree: (nodes uint32 [m, NODE_WORDS], leaf ranges int64 [k, 2])."""
    n = len(area)
    planes = np.empty((n, NODE_WORDS), np.float32)
    nodes = planes.view(np.uint32)
    leaf_ranges = np.empty((n, 2), np.int64)
    todo = np.empty((n + 1, 2), np.int64)
    todo[0, 0], todo[0, 1] = 0, 0
    waiting, used, leaves = 1, 1, 0
    members = np.empty(LANES, np.int64)
    while waiting > 0:
        waiting -= 1
        binary, wide = todo[waiting, 0], todo[waiting, 1]
        members[0] = binary
        held = 1
        if child[binary] != 0:
            members[0], members[1] = child[binary], child[binary] + 1
            held = 2
        while held < LANES:
            widest, largest = -1, np.float32(-1.0)
            for k in range(held):
                if child[members[k]] != 0 and area[members[k]] > largest:
                    widest, largest = k, area[members[k]]
            if widest < 0:
                break
            opened = members[widest]
            members[widest], members[held] = child[opened], child[opened] + 1
            held += 1
        # Largest first: rays that look for any hit take the children in this order.
        for k in range(1, held):
            member, at = members[k], k
            while at > 0 and area[members[at - 1]] < area[member]:
                members[at] = members[at - 1]
                at -= 1
            members[at] = member
        for k in range(LANES):
            for a in range(3):
                planes[wide, a * 16 + k] = box[members[k], a] if k < held else np.inf
                planes[wide, a * 16 + 8 + k] = box[members[k], 3 + a] if k < held else -np.inf
            if k >= held:
                nodes[wide, 48 + k] = NO_CHILD
            elif child[members[k]] == 0:
                nodes[wide, 48 + k] = LEAF_FLAG | leaves
                leaf_ranges[leaves, 0], leaf_ranges[leaves, 1] = start[members[k]], count[members[k]]
                leaves += 1
            else:
                nodes[wide, 48 + k] = used
                todo[waiting, 0], todo[waiting, 1] = members[k], used
                waiting += 1
                used += 1
    return nodes[:used].copy(), leaf_ranges[:leaves].copy()


def _pack_leaves(triangles, order, leaf_ranges):
    """Leaves uint32 [k, LEAF_WORDS]; unused lanes hold not-a-number points, which no ray can hit."""
    leaves = np.full((len(leaf_ranges), LEAF_WORDS), NO_CHILD, np.uint32)
    lane = np.arange(LANES)
    valid = lane[None, :] < leaf_ranges[:, 1:]
    numbers = order[np.minimum(leaf_ranges[:, :1] + lane, len(order) - 1)]
    coordinates = triangles.reshape(-1, 9)[numbers]
    coordinates[~valid] = np.nan
    leaves[:, :72] = np.ascontiguousarray(coordinates.transpose(0, 2, 1)).reshape(-1, 72).view(np.uint32)
    leaves[:, 72:] = np.where(valid, numbers, NO_CHILD)
    return leaves
