"""The mesh of a bake: triangles halved until no edge is too long, and further where light changes fast.

Every triangle of the scene is the root of a tree; a node that is too large is split at its longest edge (Rivara 1984, "Algorithms
for Refining Triangular Grids"), so that shapes stay good. The two sides of an element have light of their own.
"""

from typing import NamedTuple

import numpy as np

from ..errors import InputError
from ..kernel import kernel
from ..scene.arrays import SceneArrays
from ..scene.triangles import normals_at, objects_at, stored_corners

MOST_ELEMENTS = 400_000
LEAF = -1
SMALL = 0.1
"""Share of the square of the largest edge below which an element is small."""


class ElementMesh(NamedTuple):
    """split int8 [nodes]: the edge that is halved (0: from corner 0 to 1, 1: 1 to 2, 2: 2 to 0), LEAF for none; child int32 [nodes]: the
    first of the two halves; element int32 [nodes]: number of a leaf. Of each element: corners float64 [n, 3, 3] in metres, weights
    float64 [n, 3, 3] of these corners in their triangle, triangle int64 [n]."""

    split: np.ndarray
    child: np.ndarray
    element: np.ndarray
    corners: np.ndarray
    weights: np.ndarray
    triangle: np.ndarray

    def areas(self) -> np.ndarray:
        """float64 [n], in square metres."""
        return 0.5 * np.linalg.norm(self._crossed(), axis=1)

    def normals(self) -> np.ndarray:
        """float64 [n, 3] of the front sides."""
        n = self._crossed()
        return n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-30)

    def longest(self) -> np.ndarray:
        """float64 [n]: the longest edge of each, in metres."""
        return self.edges().max(axis=1)

    def edges(self) -> np.ndarray:
        """float64 [n, 3]: the edges from each corner to the next, in metres."""
        return np.linalg.norm(self.corners - np.roll(self.corners, -1, axis=1), axis=2)

    def nodes(self) -> np.ndarray:
        """int64 [n]: the node of each element."""
        leaves = np.flatnonzero(self.split == LEAF)
        nodes = np.zeros(len(self.triangle), np.int64)
        nodes[self.element[leaves]] = leaves
        return nodes

    def _crossed(self) -> np.ndarray:
        return np.cross(self.corners[:, 1] - self.corners[:, 0], self.corners[:, 2] - self.corners[:, 0])


def whole_triangles(arrays: SceneArrays) -> ElementMesh:
    """Every triangle of a scene as one element."""
    n = len(arrays.corners)
    corners = stored_corners(arrays).astype(float)
    weights = np.broadcast_to(np.eye(3), (n, 3, 3)).copy()
    numbers = np.arange(n)
    return ElementMesh(np.full(n, LEAF, np.int8), np.zeros(n, np.int32), numbers.astype(np.int32), corners, weights, numbers)


def halve(mesh: ElementMesh, chosen: np.ndarray) -> ElementMesh:
    """The mesh with the chosen elements, bool [n], split at their longest edge."""
    if not chosen.any():
        return mesh
    count = int(chosen.sum())
    if len(chosen) + count > MOST_ELEMENTS:
        raise InputError(
            f"The bake would take more than {MOST_ELEMENTS} elements; set baked.max_edge and baked.min_edge higher, or check the scene's scale."
        )
    edge = mesh.edges()[chosen].argmax(axis=1)
    node_of = mesh.nodes()
    nodes = node_of[chosen]
    first = len(mesh.split) + 2 * np.arange(count)
    split = np.concatenate([mesh.split, np.full(2 * count, LEAF, np.int8)])
    child = np.concatenate([mesh.child, np.zeros(2 * count, np.int32)])
    split[nodes], child[nodes] = edge, first
    a, b, c = _turned(mesh.corners[chosen], edge)
    wa, wb, wc = _turned(mesh.weights[chosen], edge)
    m, wm = (a + b) / 2.0, (wa + wb) / 2.0
    halves = np.stack([np.stack([a, m, c], 1), np.stack([m, b, c], 1)], 1).reshape(-1, 3, 3)
    weights = np.stack([np.stack([wa, wm, wc], 1), np.stack([wm, wb, wc], 1)], 1).reshape(-1, 3, 3)
    kept = ~chosen
    number = np.cumsum(kept) - 1
    element = np.concatenate([mesh.element, np.zeros(2 * count, np.int32)])
    element[node_of] = number
    element[first], element[first + 1] = kept.sum() + 2 * np.arange(count), kept.sum() + 2 * np.arange(count) + 1
    return ElementMesh(
        split, child, element.astype(np.int32), np.concatenate([mesh.corners[kept], halves]), np.concatenate([mesh.weights[kept], weights]),
        np.concatenate([mesh.triangle[kept], np.repeat(mesh.triangle[chosen], 2)]),
    )  # fmt: skip


def _turned(rows: np.ndarray, edge: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The corners of triangles [n, 3, 3], rotated so that the edge to halve runs from the first to the second."""
    at = np.arange(len(rows))
    return rows[at, edge], rows[at, (edge + 1) % 3], rows[at, (edge + 2) % 3]


def split_to(arrays: SceneArrays, longest: float) -> ElementMesh:
    """The triangles of a scene halved until no edge is longer than that, in metres."""
    mesh = whole_triangles(arrays)
    while True:
        too_long = mesh.longest() > longest
        if not too_long.any():
            return mesh
        mesh = halve(mesh, too_long)


def edge_for(arrays: SceneArrays, elements: int) -> float:
    """The longest edge, in metres, with which about that many elements cover a scene."""
    area = float(whole_triangles(arrays).areas().sum())
    return 2.0 * (area / max(1, elements)) ** 0.5


@kernel
def element_at(split, child, element, triangle, b1, b2):
    """(element, weight of its first corner, of its second) at a point of a triangle, given as weights of its corners 1 and 2."""
    node = np.int64(triangle)
    u, v, w = 1.0 - b1 - b2, float(b1), float(b2)
    while split[node] != LEAF:
        edge = split[node]
        if edge == 1:
            u, v, w = v, w, u
        elif edge == 2:
            u, v, w = w, u, v
        # On (a, m, c) or on (m, b, c), where m halves the edge from a to b.
        node = np.int64(child[node])
        if u >= v:
            u, v = u - v, 2.0 * v
        else:
            node += 1
            u, v = 2.0 * u, v - u
    return np.int64(element[node]), u, v


def cluster(arrays: SceneArrays, mesh: ElementMesh, size: float, coarse_nodes: int) -> tuple[np.ndarray, int]:
    """int32 [n]: the patch of each element, and the number of patches. Elements that are small for a size in metres, lie
    together on one object and face alike form one patch, since dense meshes and slivers need no finer light. Elements whose node is numbered from
    `coarse_nodes` on were split for their light and stay single."""
    small = (mesh.areas() < SMALL * size * size) & (mesh.nodes() < coarse_nodes)
    if not small.any():
        return np.arange(len(small), dtype=np.int32), len(small)
    places = np.floor(mesh.corners[small].mean(axis=1) / (size / 2.0)).astype(np.int64)
    facing = np.round(mesh.normals()[small] * 2.5).astype(np.int64)
    objects = objects_at(arrays, mesh.triangle[small])
    numbers = _numbered(np.concatenate([places, facing, objects[:, None]], axis=1))
    patches = np.empty(len(small), np.int32)
    patches[small] = numbers
    patches[~small] = numbers.max() + 1 + np.arange(int((~small).sum()))
    return patches, int(patches.max()) + 1


def shared_corners(arrays: SceneArrays, mesh: ElementMesh) -> tuple[np.ndarray, int]:
    """int32 [n, 3]: numbers of the corners, shared by corners of one object that coincide and face alike; and their count."""
    extent = float(np.ptp(mesh.corners.reshape(-1, 3), axis=0).max()) or 1.0
    at = np.round(mesh.corners.reshape(-1, 3) / (extent * 1e-6)).astype(np.int64)
    normals = np.einsum("ekt,etc->ekc", mesh.weights, normals_at(arrays, mesh.triangle)).reshape(-1, 3)
    facing = np.round(normals * 16.0).astype(np.int64)
    objects = np.repeat(objects_at(arrays, mesh.triangle), 3)
    numbers = _numbered(np.concatenate([at, facing, objects[:, None]], axis=1))
    return numbers.reshape(-1, 3).astype(np.int32), int(numbers.max()) + 1 if len(numbers) else 0


def _numbered(rows: np.ndarray) -> np.ndarray:
    """int64 [n]: a number for each row int64 [n, k], equal for equal rows. (By a 64-bit hash: much faster than sorting rows.)"""
    mixed = np.zeros(len(rows), np.uint64)
    for column in rows.T:
        mixed = (mixed ^ column.astype(np.uint64)) * np.uint64(0x9E3779B97F4A7C15)
        mixed ^= mixed >> np.uint64(29)
    return np.unique(mixed, return_inverse=True)[1].reshape(-1)
