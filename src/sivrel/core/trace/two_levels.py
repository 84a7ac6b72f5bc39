"""Builds the hierarchy of a scene with placed shapes: one for what is stored where it stands, one for each shape, and one over all placements."""

from concurrent.futures import ThreadPoolExecutor

import numpy as np

from .. import machine
from .bvh import LEAF_FLAG, LEAF_WORDS, NO_CHILD, NODE_WORDS, Bvh, build_bvh, unplaced, wide_tree
from .placements import Placements, box_by
from .simd import LANES

NODES_AT, NUMBERS_AT = 48, 72
"""Where the references of a node, and the numbers of a leaf's triangles, begin."""
LEAST_IN_PARTS = 1_000_000
"""Triangles from which a hierarchy is built in parts."""
WIDER = 4.0 * 2.0**-24
"""Share of its largest coordinate by which a placement's box is widened, for the rounding of its rays."""


def build_two_levels(points: np.ndarray, corners: np.ndarray, standing: int, placements: Placements) -> Bvh:
    """The hierarchy of triangles, whose `corners` uint32 [triangles, 3] are rows of `points` float32 [n, 3]: the first `standing` where they are, and
    the shapes that follow where `placements` put them. Shapes are built on all processors."""
    if not len(placements.first):
        return build_in_parts(points[corners])
    shapes = _shapes(placements)
    ranges = [(0, standing), *shapes.items()]
    with ThreadPoolExecutor(machine.threads()) as pool:
        of_shapes = pool.map(lambda r: build_bvh(points[corners[r[0] : r[0] + r[1]]]), ranges[1:])
        built = [build_in_parts(points[corners[:standing]]), *of_shapes]
    joined = _Joined()
    root_of = [joined.add(part, np.arange(first, first + count)) for (first, count), part in zip(ranges, built, strict=True)]
    over, ranges_of, order = wide_tree(placed_boxes(points, corners, placements), 1)
    top = joined.used_nodes
    _shift(over, top, 0)
    references = over[:, NODES_AT:]
    is_leaf = (references & LEAF_FLAG != 0) & (references != NO_CHILD)
    references[is_leaf] = order[ranges_of[references[is_leaf] & (LEAF_FLAG - 1), 0]] | LEAF_FLAG
    joined.nodes.append(over)
    of_shape = dict(zip(shapes, root_of[1:], strict=True))
    places = np.empty(1 + 2 * len(placements.first), np.uint32)
    places[0], places[1::2], places[2::2] = top, [of_shape[int(row)] for row in placements.stored], placements.first - placements.stored
    return Bvh(*joined.whole(), places, placements.from_world.reshape(-1), placements)


def build_in_parts(vertices: np.ndarray, least: int = LEAST_IN_PARTS) -> Bvh:
    """`build_bvh`, of `least` triangles or more in LANES parts on all processors, cut at the median of the longest side of their centres, below one
    node."""
    if len(vertices) < least:
        return build_bvh(vertices)
    centres = (vertices.min(axis=1) + vertices.max(axis=1)) / np.float32(2.0)
    parts = [np.arange(len(vertices))]
    while len(parts) < LANES:
        halves = []
        for part in parts:
            axis = int(np.argmax(np.ptp(centres[part], axis=0)))
            order = np.argpartition(centres[part, axis], len(part) // 2)
            halves += [np.sort(part[order[: len(part) // 2]]), np.sort(part[order[len(part) // 2 :]])]
        parts = halves
    with ThreadPoolExecutor(machine.threads()) as pool:
        built = list(pool.map(lambda part: build_bvh(vertices[part]), parts))
    top = np.full((1, NODE_WORDS), NO_CHILD, np.uint32)
    planes = top.view(np.float32)[0, :NODES_AT].reshape(3, 2, LANES)
    joined = _Joined(top)
    for lane, (part, one) in enumerate(zip(parts, built, strict=True)):
        box = _box_of(vertices[part])
        planes[:, 0, lane], planes[:, 1, lane], top[0, NODES_AT + lane] = box[:3], box[3:], joined.add(one, part)
    return unplaced(*joined.whole())


class _Joined:
    """Hierarchies behind each other in the same arrays, after the nodes `first`."""

    def __init__(self, *first: np.ndarray) -> None:
        self.nodes, self.leaves = list(first), list[np.ndarray]()
        self.used_nodes, self.used_leaves = len(first), 0

    def add(self, part: Bvh, numbers: np.ndarray) -> int:
        """Append a hierarchy of the triangles with these numbers [n]; returns the node where it begins. Its arrays are changed."""
        nodes, leaves, root = part.nodes.reshape(-1, NODE_WORDS), part.leaves.reshape(-1, LEAF_WORDS), self.used_nodes
        _shift(nodes, self.used_nodes, self.used_leaves)
        there = leaves[:, NUMBERS_AT:] != NO_CHILD
        leaves[:, NUMBERS_AT:][there] = numbers[leaves[:, NUMBERS_AT:][there]]
        self.nodes.append(nodes)
        self.leaves.append(leaves)
        self.used_nodes, self.used_leaves = self.used_nodes + len(nodes), self.used_leaves + len(leaves)
        return root

    def whole(self) -> tuple[np.ndarray, np.ndarray]:
        """(nodes, leaves) as in `Bvh`."""
        return np.concatenate(self.nodes).reshape(-1), np.concatenate(self.leaves).reshape(-1)


def _shift(nodes: np.ndarray, by_nodes: int, by_leaves: int) -> None:
    """Shifts the references of nodes [m, NODE_WORDS], in place, to where other nodes and leaves come before them."""
    references = nodes[:, NODES_AT:]
    is_leaf = references & LEAF_FLAG != 0
    references += np.where(references == NO_CHILD, 0, np.where(is_leaf, by_leaves, by_nodes)).astype(np.uint32)


def _box_of(vertices: np.ndarray) -> np.ndarray:
    return np.concatenate([vertices.min(axis=(0, 1)), vertices.max(axis=(0, 1))])


def _shapes(placements: Placements) -> dict[int, int]:
    """Number of triangles of each shape, by its first row."""
    return dict(zip(placements.stored.tolist(), placements.counts.tolist(), strict=True))


def placed_boxes(points: np.ndarray, corners: np.ndarray, placements: Placements) -> np.ndarray:
    """float32 [n, 6]: a box around each placement, from its shape's box, with `points` and `corners` as in build_two_levels."""
    of_shape = {row: _box_of(points[corners[row : row + count]]).astype(float) for row, count in _shapes(placements).items()}
    box = np.array([of_shape[int(row)] for row in placements.stored])
    low, high = box_by(placements.to_world.reshape(-1, 3, 4), box[:, :3], box[:, 3:])
    wider = WIDER * np.maximum(np.abs(low), np.abs(high)).max(axis=1, keepdims=True)
    return np.concatenate([low - wider, high + wider], axis=1).astype(np.float32)
