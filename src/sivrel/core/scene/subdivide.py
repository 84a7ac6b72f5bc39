"""Subdivision surfaces: a cage of polygons refined towards its smooth limit.

Catmull & Clark 1978, "Recursively generated B-spline surfaces on arbitrary topological meshes"; Loop 1987, "Smooth Subdivision Surfaces Based on
Triangles"; edges and corners that stay sharp for some steps, or for ever, by DeRose, Kass & Truong 1998, "Subdivision Surfaces in Character
Animation" (section 3). Boundaries as UsdGeomMesh defines them (interpolateBoundary).
"""

from dataclasses import dataclass, field, replace
from typing import Any, Literal

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from .indexed import IndexedTriangles

ALWAYS = 10.0
"""Sharpness from which an edge or a corner stays sharp for ever (UsdGeomMesh, SHARPNESS_INFINITE)."""
SMOOTH, DART, CREASE, CORNER = 0, 1, 2, 3
"""Rules for a point, by the number of sharp edges that meet there; a dart moves like a smooth point."""


@dataclass
class Cage:
    """Polygons. points: float64 [n, 3]; counts [faces]: corners of each; corners: the point of each corner, face by face, counter-clockwise
    seen from the front; uvs: float64 [corners, 2], which are interpolated linearly; face_of [faces]: the face of the first cage that each came from;
    hole [faces]: whether it is left out, though its neighbours bend as if it were there
    edges [n, 2], sharpness [n]: of edges that are sharper than smooth; points_sharp [n], corner_sharpness [n]: the same of points
    turned: whether its front is the other side
    made: the triangles of the mesh that it belongs to, of which triangle_face has the face of each; a mesh with others was changed since, and
    has no cage any more; unit: metres of a unit of the file in it; kept, kept_displaced: the last results of subdividing and of displacing it
    """

    points: np.ndarray
    counts: np.ndarray
    corners: np.ndarray
    uvs: np.ndarray
    face_of: np.ndarray
    hole: np.ndarray
    edges: np.ndarray = field(default_factory=lambda: np.zeros((0, 2), np.int64))
    sharpness: np.ndarray = field(default_factory=lambda: np.zeros(0))
    points_sharp: np.ndarray = field(default_factory=lambda: np.zeros(0, np.int64))
    corner_sharpness: np.ndarray = field(default_factory=lambda: np.zeros(0))
    scheme: Literal["catmull_clark", "loop"] = "catmull_clark"
    boundary: Literal["none", "edges", "edges_and_corners"] = "edges_and_corners"
    turned: bool = False
    made: IndexedTriangles | None = None
    triangle_face: np.ndarray = field(default_factory=lambda: np.zeros(0, np.int64))
    unit: float = 1.0
    kept: tuple[int, IndexedTriangles, np.ndarray, np.ndarray] | None = None
    kept_displaced: tuple[tuple[Any, ...], IndexedTriangles] | None = None


@dataclass(frozen=True)
class _Net:
    """The edges of a cage. ends [e, 2], low end first; of_corner [corners]: the edge from each corner to the next of its face; faces [e]: how many
    meet there; sharpness [e], ALWAYS on the boundary; point_sharpness [points]; first, following, before: of each corner, its face's first
    corner, the next and the one before."""

    ends: np.ndarray
    of_corner: np.ndarray
    faces: np.ndarray
    sharpness: np.ndarray
    point_sharpness: np.ndarray
    face: np.ndarray
    following: np.ndarray
    before: np.ndarray


def around_faces(counts: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(face, next corner, corner before) of every corner of faces with so many corners each."""
    face = np.repeat(np.arange(len(counts)), counts)
    starts = (np.cumsum(counts) - counts)[face]
    within = np.arange(len(face)) - starts
    return face, starts + (within + 1) % counts[face], starts + (within - 1) % counts[face]


def _net(cage: Cage) -> _Net:
    corners, points = cage.corners, len(cage.points)
    face, following, before = around_faces(cage.counts)
    pairs = np.sort(np.column_stack([corners, corners[following]]), axis=1)
    keys, of_corner, faces = np.unique(pairs[:, 0] * points + pairs[:, 1], return_inverse=True, return_counts=True)
    ends = np.column_stack([keys // points, keys % points])
    sharpness = np.zeros(len(keys))
    if len(cage.edges):
        wanted = np.sort(cage.edges, axis=1)
        wanted_keys = wanted[:, 0] * points + wanted[:, 1]
        at = np.minimum(np.searchsorted(keys, wanted_keys), len(keys) - 1)
        there = keys[at] == wanted_keys
        np.maximum.at(sharpness, at[there], cage.sharpness[there])
    sharpness[faces != 2] = ALWAYS  # boundaries, and edges where more than two faces meet
    point_sharpness = np.zeros(points)
    np.maximum.at(point_sharpness, cage.points_sharp, cage.corner_sharpness)
    if cage.boundary == "edges_and_corners":
        # A point of one face on the boundary is a corner.
        alone = np.bincount(corners, minlength=points) == 1
        point_sharpness[alone] = ALWAYS
    return _Net(ends, of_corner, faces, sharpness, point_sharpness, face, following, before)


def at_boundary(cage: Cage) -> np.ndarray:
    """bool [faces]: whether a face has a point on the boundary."""
    net = _net(cage)
    return np.isin(np.arange(len(cage.counts)), net.face[np.isin(cage.corners, net.ends[net.faces == 1])])


def _mean_by(values: np.ndarray, at: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray]:
    """(sums [count, width] of values by their place, and how many there were)."""
    sums = np.column_stack([np.bincount(at, values[:, k], count) for k in range(values.shape[1])])
    return sums, np.bincount(at, minlength=count).astype(float)


def _rule(net: _Net, sharpness: np.ndarray, point_sharpness: np.ndarray, points: int) -> np.ndarray:
    """The rule of each point where edges and points have that sharpness."""
    sharp = net.ends[sharpness > 0.0].reshape(-1)
    return np.where(point_sharpness > 0.0, CORNER, np.minimum(np.bincount(sharp, minlength=points), CORNER))


def _by_rule(rule: np.ndarray, smooth: np.ndarray, points: np.ndarray, net: _Net, sharpness: np.ndarray) -> np.ndarray:
    """Where points move under their rules."""
    sharp = net.ends[sharpness > 0.0]
    both = np.concatenate([sharp, sharp[:, ::-1]])
    beside, _ = _mean_by(points[both[:, 1]], both[:, 0], len(points))
    crease = 0.75 * points + 0.125 * beside
    return np.where((rule == CORNER)[:, None], points, np.where((rule == CREASE)[:, None], crease, smooth))


def _moved(cage: Cage, net: _Net, smooth: np.ndarray) -> np.ndarray:
    """The old points after a step: by their rule now and after it, blended where an edge loses its sharpness within the step (DeRose et al.,
    section 3.2; the weight is the mean of what is left of those that lose it)."""
    count, points = len(cage.points), cage.points
    later, later_points = _weaker(net.sharpness), _weaker(net.point_sharpness)
    now, then = _rule(net, net.sharpness, net.point_sharpness, count), _rule(net, later, later_points, count)
    here = _by_rule(now, smooth, points, net, net.sharpness)
    changing = now != then
    if not changing.any():
        return here
    there = _by_rule(then, smooth, points, net, later)
    fading = (net.sharpness > 0.0) & (later <= 0.0)
    ends = net.ends[fading].reshape(-1)
    weight = np.bincount(ends, np.repeat(net.sharpness[fading], 2), count)
    number = np.bincount(ends, minlength=count).astype(float)
    point_fades = (net.point_sharpness > 0.0) & (later_points <= 0.0)
    weight, number = weight + np.where(point_fades, net.point_sharpness, 0.0), number + point_fades
    share = np.where(changing, np.minimum(weight / np.maximum(number, 1.0), 1.0), 1.0)[:, None]
    return share * here + (1.0 - share) * there


def _weaker(sharpness: np.ndarray) -> np.ndarray:
    """Sharpness one step later."""
    return np.where(sharpness >= ALWAYS, ALWAYS, np.maximum(sharpness - 1.0, 0.0))


def _edge_points(points: np.ndarray, net: _Net, smooth: np.ndarray) -> np.ndarray:
    middle = 0.5 * (points[net.ends[:, 0]] + points[net.ends[:, 1]])
    share = np.clip(net.sharpness, 0.0, 1.0)[:, None]
    return share * middle + (1.0 - share) * smooth


def refine(cage: Cage) -> Cage:
    """The cage after one step."""
    return _catmull_clark(cage) if cage.scheme == "catmull_clark" else _loop(cage)


def _catmull_clark(cage: Cage) -> Cage:
    net, points, corners = _net(cage), cage.points, cage.corners
    sums, number = _mean_by(points[corners], net.face, len(cage.counts))
    faces = sums / number[:, None]
    around, beside = _mean_by(faces[net.face], net.of_corner, len(net.ends))
    ends = points[net.ends[:, 0]] + points[net.ends[:, 1]]
    edges = _edge_points(points, net, (ends + around) / (2.0 + beside)[:, None])
    valence = np.bincount(net.ends.reshape(-1), minlength=len(points)).astype(float)
    of_faces, touching = _mean_by(faces[net.face], corners, len(points))
    of_middles, _ = _mean_by(np.repeat(0.5 * ends, 2, axis=0), net.ends.reshape(-1), len(points))
    n = np.maximum(valence, 1.0)[:, None]
    smooth = (of_faces / np.maximum(touching, 1.0)[:, None] + 2.0 * of_middles / n + (n - 3.0) * points) / n
    vertices = _moved(cage, net, smooth)
    first_edge, first_face = len(points), len(points) + len(edges)
    quads = np.column_stack([corners, first_edge + net.of_corner, first_face + net.face, first_edge + net.of_corner[net.before]])
    uv, after, prior = cage.uvs, cage.uvs[net.following], cage.uvs[net.before]
    uv_sums, _ = _mean_by(uv, net.face, len(cage.counts))
    middle = (uv_sums / number[:, None])[net.face]
    uvs = np.stack([uv, 0.5 * (uv + after), middle, 0.5 * (uv + prior)], axis=1).reshape(-1, 2)
    return _child(cage, net, np.concatenate([vertices, edges, faces]), quads, uvs, net.face, first_edge)


def _loop(cage: Cage) -> Cage:
    net, points, corners = _net(cage), cage.points, cage.corners
    if (cage.counts != 3).any():
        raise ValueError("Loop's scheme takes triangles")
    opposite, _ = _mean_by(points[corners[net.before]], net.of_corner, len(net.ends))
    ends = points[net.ends[:, 0]] + points[net.ends[:, 1]]
    edges = _edge_points(points, net, 0.375 * ends + 0.125 * opposite)
    both = np.concatenate([net.ends, net.ends[:, ::-1]])
    beside, valence = _mean_by(points[both[:, 1]], both[:, 0], len(points))
    n = np.maximum(valence, 1.0)
    weight = ((0.625 - (0.375 + 0.25 * np.cos(2.0 * np.pi / n)) ** 2) / n)[:, None]
    smooth = (1.0 - n[:, None] * weight) * points + weight * beside
    vertices = _moved(cage, net, smooth)
    first = len(points)
    leaving, arriving = first + net.of_corner, first + net.of_corner[net.before]
    at_corners = np.column_stack([corners, leaving, arriving])
    inner = leaving.reshape(-1, 3)
    uv = cage.uvs
    half_after, half_before = 0.5 * (uv + uv[net.following]), 0.5 * (uv + uv[net.before])
    uvs = np.concatenate([np.stack([uv, half_after, half_before], axis=1).reshape(-1, 2), half_after])
    triangles, parents = np.concatenate([at_corners, inner]), np.concatenate([net.face, np.arange(len(cage.counts))])
    return _child(cage, net, np.concatenate([vertices, edges]), triangles, uvs, parents, first)


def _child(
    cage: Cage, net: _Net, points: np.ndarray, polygons: np.ndarray, uvs: np.ndarray, parents: np.ndarray, first_edge: int
) -> Cage:  # fmt: skip
    """The finer cage: its polygons with the marks of their parents, and halves of edges that are still sharp."""
    left = _weaker(net.sharpness)
    sharp = np.nonzero((left > 0.0) & (net.faces == 2))[0]  # boundaries are found anew
    halves = np.concatenate([np.column_stack([net.ends[sharp, k], first_edge + sharp]) for k in (0, 1)])
    left_points = _weaker(net.point_sharpness)
    pointed = np.nonzero(left_points > 0.0)[0]
    return replace(
        cage, points=points, counts=np.full(len(polygons), polygons.shape[1]), corners=polygons.reshape(-1), uvs=uvs,
        face_of=cage.face_of[parents], hole=cage.hole[parents], edges=halves, sharpness=np.tile(left[sharp], 2),
        points_sharp=pointed, corner_sharpness=left_points[pointed],
    )  # fmt: skip


def limit_points(cage: Cage) -> np.ndarray:
    """Where the points of a cage of quadrilaterals, refined at least once, come to lie after infinitely many steps of Catmull and Clark's scheme
    (Halstead, Kass & DeRose 1993, "Efficient, Fair Interpolation using Catmull-Clark Surfaces", section 3); creases by the cubic spline's mask."""
    net, points = _net(cage), cage.points
    both = np.concatenate([net.ends, net.ends[:, ::-1]])
    beside, valence = _mean_by(points[both[:, 1]], both[:, 0], len(points))
    across, _ = _mean_by(points[cage.corners[net.following[net.following]]], cage.corners, len(points))
    n = np.maximum(valence, 1.0)[:, None]
    smooth = (n * n * points + 4.0 * beside + across) / (n * (n + 5.0))
    rule = _rule(net, net.sharpness, net.point_sharpness, len(points))
    sharp = net.ends[net.sharpness > 0.0]
    pairs = np.concatenate([sharp, sharp[:, ::-1]])
    along, _ = _mean_by(points[pairs[:, 1]], pairs[:, 0], len(points))
    crease = (4.0 * points + along) / 6.0
    return np.where((rule == CORNER)[:, None], points, np.where((rule == CREASE)[:, None], crease, smooth))


def corner_normals(cage: Cage) -> np.ndarray:
    """Unit normals [corners, 3]: the mean over the faces around a point, by their areas; on either side of a sharp edge apart."""
    net, points, corners = _net(cage), cage.points, cage.corners
    ahead, back = points[corners[net.following]] - points[corners], points[corners[net.before]] - points[corners]
    facets = np.cross(ahead, back)
    # Corners of one point are joined across edges that are smooth: the edge that leaves it in one face arrives in the other.
    order = np.argsort(net.of_corner, kind="stable")
    edge = net.of_corner[order]
    pair = np.nonzero((edge[:-1] == edge[1:]) & (net.sharpness[edge[:-1]] <= 0.0))[0]
    one, other = order[pair], order[pair + 1]
    turned = corners[one] == corners[other]  # faces of different orientation
    links = np.concatenate([
        np.column_stack([one, np.where(turned, other, net.following[other])]),
        np.column_stack([net.following[one], np.where(turned, net.following[other], other)]),
    ])  # fmt: skip
    graph = coo_matrix((np.ones(len(links), np.int8), (links[:, 0], links[:, 1])), shape=(len(corners),) * 2)
    _, group = connected_components(graph, directed=False)
    sums, _ = _mean_by(facets, group, int(group.max(initial=-1)) + 1)
    normals = sums[group]
    return normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30)
