"""A balanced tree of points in one array: the middle of every range is its node, split along the longest axis (Bentley 1975,
"Multidimensional Binary Search Trees"; as the photon map has it, Jensen 1996, section 3.1)."""

import numpy as np

from ..kernel import allocating_kernel, kernel

DEEPEST = 64


def sort_into_tree(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """order int64 [n]: rows of points float32 [n, 3 or more] in tree order, and axes uint8 [n]: the axis along which each node splits
    its range."""
    order, axes = np.arange(len(points)), np.zeros(len(points), np.uint8)
    if len(points):
        _build(points, order, axes)
    return order, axes


@allocating_kernel
def _build(points, order, axes):
    """Sort `order` into the ranges of the tree and set the axis of each node, in place."""
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


@allocating_kernel
def bounds_of_ranges(centres, radii):
    """float32 [n, 6]: for every node of a sorted tree, the bounds (lowest, highest) of the spheres of its whole range."""
    boxes = np.empty((len(centres), 6), np.float32)
    lows, highs = np.empty(DEEPEST * 2, np.int64), np.empty(DEEPEST * 2, np.int64)
    # Ranges in the order of traversal; a range is finished after its children, so they are processed backwards.
    low_of, high_of = np.empty(len(centres), np.int64), np.empty(len(centres), np.int64)
    lows[0], highs[0], waiting, met = 0, len(centres), 1, 0
    while waiting > 0:
        waiting -= 1
        low, high = lows[waiting], highs[waiting]
        if low >= high:
            continue
        low_of[met], high_of[met] = low, high
        met += 1
        middle = (low + high) // 2
        lows[waiting], highs[waiting] = low, middle
        lows[waiting + 1], highs[waiting + 1] = middle + 1, high
        waiting += 2
    for k in range(met - 1, -1, -1):
        low, high = low_of[k], high_of[k]
        middle = (low + high) // 2
        for axis in range(3):
            least, most = centres[middle, axis] - radii[middle], centres[middle, axis] + radii[middle]
            if middle > low:
                below = (low + middle) // 2
                least, most = min(least, boxes[below, axis]), max(most, boxes[below, 3 + axis])
            if high > middle + 1:
                below = (middle + 1 + high) // 2
                least, most = min(least, boxes[below, axis]), max(most, boxes[below, 3 + axis])
            boxes[middle, axis], boxes[middle, 3 + axis] = least, most
    return boxes


@kernel
def push_halves(near, at, low, middle, high, along):
    """Push the two halves of a range on the stack `near`, rows from `at` on, the one that contains a point on top; `along` is its signed distance
    from the node's plane. A row holds the range and a lower bound on the squared distance to it."""
    if along < 0.0:
        far_low, far_high, near_low, near_high = middle + 1, high, low, middle
    else:
        far_low, far_high, near_low, near_high = low, middle, middle + 1, high
    near[at, 0], near[at, 1], near[at, 2] = far_low, far_high, along * along
    near[at + 1, 0], near[at + 1, 1], near[at + 1, 2] = near_low, near_high, 0.0
