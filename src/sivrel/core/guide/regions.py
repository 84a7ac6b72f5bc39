"""The guide: what has been learned of the light, region by region, so that paths and shadow rays go where light comes from.

A region is a part of space with one facing: a leaf of a binary tree over position and normal. Each has a distribution of directions (see
directions.py), a probability for every choice of a light (see lights/choice.py), and the mean irradiance, by which paths are thinned.
Müller, Gross & Novák 2017, "Practical Path Guiding for Efficient Light-Transport Simulation", with a tree that separates facings, too.
"""

from typing import NamedTuple

import numpy as np

from ..kernel import kernel

NOWHERE = -1
"""The region of a point where nothing has been learned."""
# Columns of a node: the coordinate it splits (0 to 2 position, 3 to 5 normal; -1: a region), where (or the region's number), and the first of its two
# children.
COORDINATE, SPLIT, CHILD, NODE_COLUMNS = 0, 1, 2, 3
# Columns of a region: the number of its lobes, and the share of directions drawn from them; irradiance (luminance) of bounced light and of all
# light; mean position and normal of its samples, and their radius in metres.
LOBES, SHARE, BOUNCED, ALL, MIDDLE, FACING, WIDTH, REGION_COLUMNS = 0, 1, 2, 3, 4, 7, 10, 11


class Guide(NamedTuple):
    """nodes float64 [n, NODE_COLUMNS], the root first; regions float64 [regions, REGION_COLUMNS]; lobes float64 [regions, MOST_LOBES,
    LOBE_COLUMNS]; chances float32 [regions, choices]: cumulated probabilities of the choices of lights; choices int64 [choices]: a light's number,
    or -1 minus a node of the light tree; choice_of int64 [lights]: the choice that leads to each light."""

    nodes: np.ndarray
    regions: np.ndarray
    lobes: np.ndarray
    chances: np.ndarray
    choices: np.ndarray
    choice_of: np.ndarray


NO_GUIDE = Guide(
    np.zeros((0, NODE_COLUMNS)), np.zeros((0, REGION_COLUMNS)), np.zeros((0, 0, 0)), np.zeros((0, 0), np.float32), np.zeros(0, np.int64),
    np.zeros(0, np.int64),
)  # fmt: skip


@kernel
def region_at(guide, p, n):
    """The region of position `p` with geometric normal `n`; NOWHERE without a guide."""
    if len(guide.nodes) == 0:
        return NOWHERE
    nodes, node = guide.nodes, 0
    while nodes[node, COORDINATE] >= 0.0:
        coordinate = int(nodes[node, COORDINATE])
        value = p[coordinate] if coordinate < 3 else n[coordinate - 3]
        node = int(nodes[node, CHILD]) + (1 if value >= nodes[node, SPLIT] else 0)
    return int(nodes[node, SPLIT])


def divide(positions: np.ndarray, normals: np.ndarray, most: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A tree over points float64 [n, 3] with normals [n, 3], whose regions hold at most `most` of them: (nodes float64 [nodes, NODE_COLUMNS], numbers
    of the points int64 [n] region by region, where each region starts in these int64 [regions + 1]).

    Facings are separated first, then places: at the median of the longest extent.
    """
    at = np.concatenate([positions, normals], axis=1)
    nodes = [[-1.0, 0.0, 0.0]]
    parts: list[np.ndarray] = []
    waiting = [(0, np.arange(len(at)))]
    while waiting:
        node, members = waiting.pop()
        cut = _cut(at[members], most) if len(members) else None
        if cut is None:
            nodes[node] = [-1.0, float(len(parts)), 0.0]
            parts.append(members)
            continue
        coordinate, split = cut
        above = at[members, coordinate] >= split
        nodes[node] = [float(coordinate), split, float(len(nodes))]
        waiting += [(len(nodes) + 1, members[above]), (len(nodes), members[~above])]
        nodes += [[-1.0, 0.0, 0.0], [-1.0, 0.0, 0.0]]
    return np.array(nodes), np.concatenate(parts), np.concatenate([[0], np.cumsum([len(part) for part in parts])])


FACINGS_APART = 0.7
"""Extent along one axis of the normals in a region above which it is divided by facing, if it has enough samples for two."""
FEWEST = 32
"""Least number of samples in a region that is divided by facing."""


def _cut(at: np.ndarray, most: int) -> tuple[int, float] | None:
    """(coordinate, value) at which the points [n, 6] of a region are divided; None where they are few, or all in one place."""
    low, high = at.min(axis=0), at.max(axis=0)
    extents = high - low
    facing = 3 + int(np.argmax(extents[3:]))
    if extents[facing] > FACINGS_APART and len(at) >= FEWEST:
        return facing, float(low[facing] + high[facing]) / 2.0
    if len(at) <= most:
        return None
    axis = int(np.argmax(extents[:3]))
    split = float(np.median(at[:, axis]))
    # At the median many may be equal: the split must leave some below.
    return (axis, split) if low[axis] < split else None
