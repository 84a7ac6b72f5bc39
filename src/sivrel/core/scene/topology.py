"""Topology of a mesh: coincident corners merged to vertices, edges, connected parts, and facing."""

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

STEPS = 1 << 20
"""Corners closer than the mesh's size divided by this are one vertex."""


@dataclass(frozen=True)
class Topology:
    """corners int64 [n, 3]: vertex of each triangle's corners; points float64 [vertices, 3]
    edge_of int64 [n, 3]: edge from each corner to the next; forward bool [n, 3]: whether it runs from the lower vertex to the higher
    edges int64 [edges, 2], lower vertex first; uses int64 [edges]: triangles at it
    part int64 [n]: connected part of each triangle, by shared edges
    """

    corners: np.ndarray
    points: np.ndarray
    edge_of: np.ndarray
    forward: np.ndarray
    edges: np.ndarray
    uses: np.ndarray
    part: np.ndarray

    def rim(self) -> np.ndarray:
        """bool [n, 3]: the sides of triangles that no other triangle shares."""
        return self.uses[self.edge_of] == 1


def topology(vertices: np.ndarray) -> Topology:
    """Topology of triangles, float [n, 3, 3]."""
    flat = vertices.reshape(-1, 3).astype(float)
    low = flat.min(axis=0)
    step = max(float((flat.max(axis=0) - low).max()) / STEPS, 1e-9)
    cells = np.round((flat - low) / step).astype(np.int64)
    _, first, corner = np.unique((cells[:, 0] << 42) | (cells[:, 1] << 21) | cells[:, 2], return_index=True, return_inverse=True)
    corners = corner.reshape(-1, 3)
    ends = np.stack([corners, np.roll(corners, -1, axis=1)], axis=-1)
    forward = ends[..., 0] < ends[..., 1]
    low_end, high_end = ends.min(axis=-1).reshape(-1), ends.max(axis=-1).reshape(-1)
    keys, edge_of, uses = np.unique(low_end * len(first) + high_end, return_inverse=True, return_counts=True)
    edges = np.stack([keys // len(first), keys % len(first)], axis=1)
    edge_of = edge_of.reshape(-1, 3)
    a, b, _ = _neighbours(edge_of)
    links = coo_matrix((np.ones(len(a), np.int8), (a, b)), shape=(len(corners), len(corners)))
    return Topology(corners, flat[first], edge_of, forward, edges, uses, connected_components(links, directed=False)[1])


def _neighbours(edge_of: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Pairs of consecutive triangles at an edge, and their two sides there, int64 [k, 2]."""
    order = np.argsort(edge_of.reshape(-1), kind="stable")
    meet = edge_of.reshape(-1)[order[:-1]] == edge_of.reshape(-1)[order[1:]]
    sides = np.stack([order[:-1][meet], order[1:][meet]], axis=1)
    return sides[:, 0] // 3, sides[:, 1] // 3, sides


def turned_triangles(mesh: Topology) -> np.ndarray:
    """bool [n]: the triangles to flip so that neighbours agree; in each part the minority is flipped.

    Every triangle is represented twice, as it is and flipped; agreeing neighbours connect like with like, others like with unlike. Connected
    triangles then agree. (A one-sided surface, like a strip with a half turn, can't agree, and stays as it is.)
    """
    n = len(mesh.corners)
    a, b, sides = _neighbours(mesh.edge_of)
    plain = mesh.uses[mesh.edge_of.reshape(-1)[sides[:, 0]]] == 2
    a, b, sides = a[plain], b[plain], sides[plain]
    forward = mesh.forward.reshape(-1)
    unlike = (forward[sides[:, 0]] == forward[sides[:, 1]]).astype(np.int64)
    rows, columns = np.concatenate([a, a + n]), np.concatenate([b + unlike * n, b + (1 - unlike) * n])
    links = coo_matrix((np.ones(len(rows), np.int8), (rows, columns)), shape=(2 * n, 2 * n))
    group = connected_components(links, directed=False)[1]
    as_it_is, over = group[:n], group[n:]
    turned = as_it_is > over
    one_sided = as_it_is == over
    # Of the two consistent orientations of a part, the one that flips fewer.
    pairs = np.minimum(as_it_is, over)
    count, many = np.bincount(pairs, minlength=2 * n), np.bincount(pairs, weights=turned, minlength=2 * n)
    return (turned ^ (many * 2 > count)[pairs]) & ~one_sided


def facets(vertices: np.ndarray) -> np.ndarray:
    """float64 [n, 3]: normals of triangles, as long as twice their area."""
    v = vertices.astype(float)
    return np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])


def volume(vertices: np.ndarray) -> float:
    """Signed volume bounded by closed triangles, positive if they face outwards (divergence theorem)."""
    v = vertices.astype(float) - vertices[0, 0].astype(float)
    return float(np.einsum("ij,ij->", v[:, 0], np.cross(v[:, 1], v[:, 2])) / 6.0)
