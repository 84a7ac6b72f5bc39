"""One UsdGeomBasisCurves as triangles: tubes of its widths, or ribbons where it has normals.

Segments, wraps and bases are those of the schema's documentation (UsdGeomBasisCurves); tubes are swept without twist (Wang, Jüttler, Zheng & Liu
2008, "Computation of Rotation Minimizing Frames", section 4: the double reflection).
"""

from typing import Any, NamedTuple

import numpy as np
from pxr import Usd, UsdGeom

from ..scene.model import Mesh
from .faces import normal_matrix
from .usd_mesh import MeshError, array_of, unit_length

BASES = {
    "bezier": np.array([[-1.0, 3.0, -3.0, 1.0], [3.0, -6.0, 3.0, 0.0], [-3.0, 3.0, 0.0, 0.0], [1.0, 0.0, 0.0, 0.0]]),
    "bspline": np.array([[-1.0, 3.0, -3.0, 1.0], [3.0, -6.0, 3.0, 0.0], [-3.0, 0.0, 3.0, 0.0], [1.0, 4.0, 1.0, 0.0]]) / 6.0,
    "catmullRom": np.array([[-1.0, 3.0, -3.0, 1.0], [2.0, -5.0, 4.0, -1.0], [-1.0, 0.0, 1.0, 0.0], [0.0, 2.0, 0.0, 0.0]]) / 2.0,
}
"""Rows: weights of four points in the powers 3, 2, 1, 0 of the parameter."""
DETAIL = ((8, 8), (6, 6), (4, 6), (3, 4), (2, 3), (1, 3))
"""Steps of a cubic segment, and sides of a tube: the first that keeps within MOST_TRIANGLES."""
MOST_TRIANGLES = 4_000_000
DEFAULT_WIDTH = 0.01
"""Metres, where the file says none."""


class _Swept(NamedTuple):
    """Points float64 [curves, samples, 3] along curves with the same number of samples, their widths [curves, samples], normals [curves, samples, 3]
    or None; closed: whether they end where they begin."""

    points: np.ndarray
    widths: np.ndarray
    normals: np.ndarray | None
    closed: bool


def read_curves(curves: UsdGeom.BasisCurves, matrix: np.ndarray, time: Usd.TimeCode, metres: float, to_be_mirrored: bool = False) -> Mesh:
    """The curves in scene space (`matrix` is 4 x 4 for columns), or in their own, as `read_mesh`. metres: in a unit of their space. Raises MeshError
    when counts or points are broken."""
    points = array_of(curves.GetPointsAttr().Get(time), 3)
    counts = np.array(curves.GetCurveVertexCountsAttr().Get(time) or [], np.int64)
    if not len(counts) or not len(points):
        raise MeshError("has no curves")
    if counts.min() < 0 or counts.sum() != len(points):
        raise MeshError("has curve counts that do not add up to its points")
    if not np.isfinite(points).all():
        raise MeshError("has points that are not numbers")
    cubic = curves.GetTypeAttr().Get(time) != UsdGeom.Tokens.linear
    basis, wrap = str(curves.GetBasisAttr().Get(time)), str(curves.GetWrapAttr().Get(time))
    basis = basis if basis in BASES else "bezier"
    segments = segments_of(counts, cubic, basis, wrap)
    if not segments.max(initial=0) > 0:
        raise MeshError("has no curve with points enough")
    widths = _per_vertex(curves.GetWidthsAttr().Get(time), curves.GetWidthsInterpolation(), 1, counts, segments, wrap)
    widths = np.full((len(points), 1), DEFAULT_WIDTH / metres) if widths is None else np.maximum(np.nan_to_num(widths), 0.0)
    normals = _per_vertex(curves.GetNormalsAttr().Get(time), curves.GetNormalsInterpolation(), 3, counts, segments, wrap)
    sides = 1 if normals is not None else 0
    steps, around = next(
        (one for one in DETAIL if int(segments.sum()) * (one[0] if cubic else 1) * 2 * (sides or one[1]) <= MOST_TRIANGLES), DETAIL[-1]
    )
    columns = np.concatenate([points, widths] + ([normals] if normals is not None else []), axis=1)
    parts = []
    starts = np.concatenate([[0], np.cumsum(counts)[:-1]])
    for count in np.unique(counts[segments > 0]):
        rows = starts[(counts == count) & (segments > 0)][:, None] + np.arange(count)
        along = _along(columns[rows], cubic, basis, wrap, steps)
        swept = _Swept(along[..., :3], np.maximum(along[..., 3], 0.0), along[..., 4:] if normals is not None else None, wrap == "periodic")
        parts.append(_ribbons(swept) if normals is not None else _tubes(swept, around))
    v, n, uv = (np.concatenate([part[k] for part in parts]) for k in range(3))
    return _placed(curves, v, n, uv, matrix, time, to_be_mirrored)


def segments_of(counts: np.ndarray, cubic: bool, basis: str, wrap: str) -> np.ndarray:
    """Number of segments of curves of so many vertices; 0 where there are too few, or they do not fit the basis."""
    if not cubic:
        return np.where(counts >= 2, counts if wrap == "periodic" else counts - 1, 0)
    if basis == "bezier":
        fits = counts % 3 == 0 if wrap == "periodic" else counts % 3 == 1
        return np.where(fits & (counts >= 3), counts // 3 if wrap == "periodic" else (counts - 1) // 3, 0)
    if wrap == "periodic":
        return np.where(counts >= 3, counts, 0)
    return np.maximum(counts - 1 if wrap == "pinned" else counts - 3, 0)


def _per_vertex(values: Any, interpolation: str, width: int, counts: np.ndarray, segments: np.ndarray, wrap: str) -> np.ndarray | None:
    """Values [vertices, width] of the curves' vertices; None if there are none, or their number matches no interpolation."""
    given = array_of(values, width)
    total = int(counts.sum())
    if len(given) == total and interpolation in (UsdGeom.Tokens.vertex, UsdGeom.Tokens.varying):
        return given
    if len(given) == 1:
        return np.repeat(given, total, axis=0)
    if len(given) == len(counts):
        return np.repeat(given, counts, axis=0)
    ends = segments + (0 if wrap == "periodic" else 1)
    if len(given) != int(ends.sum()) or interpolation != UsdGeom.Tokens.varying:
        return None
    # Values at the ends of segments: those of the vertices by their share of the curve.
    spread, first = [], 0
    for count, own in zip(counts.tolist(), ends.tolist(), strict=True):
        at = np.linspace(0.0, max(own - 1, 0), count)
        low = np.minimum(at.astype(int), max(own - 2, 0))
        mine = given[first : first + own]
        if own:
            high = np.minimum(low + 1, own - 1)
            spread.append(mine[low] + (mine[high] - mine[low]) * (at - low)[:, None])
        else:
            spread.append(np.zeros((count, width)))
        first += own
    return np.concatenate(spread)


def _along(columns: np.ndarray, cubic: bool, basis: str, wrap: str, steps: int) -> np.ndarray:
    """Columns [curves, vertices, k] of the vertices as those of samples along the curves [curves, samples, k]; of closed ones without the last,
    which is the first again."""
    if not cubic:
        return columns
    if wrap == "periodic":
        columns = np.concatenate([columns, columns[:, :3]], axis=1)
    elif wrap == "pinned" and basis != "bezier":
        # Points before the first and after the last, so that the curve passes through both.
        first, last = 2.0 * columns[:, :1] - columns[:, 1:2], 2.0 * columns[:, -1:] - columns[:, -2:-1]
        columns = np.concatenate([first, columns, last], axis=1)
    step = 3 if basis == "bezier" else 1
    count = (columns.shape[1] - 4) // step + 1
    of = np.stack([columns[:, k : k + step * (count - 1) + 1 : step] for k in range(4)], axis=2)
    t = np.arange(steps) / steps
    weights = np.stack([t**3, t**2, t, np.ones_like(t)], axis=1) @ BASES[basis]
    along = np.einsum("sp,cgpk->cgsk", weights, of).reshape(len(columns), count * steps, -1)
    if wrap == "periodic":
        return along
    end = np.einsum("p,cpk->ck", np.ones(4) @ BASES[basis], of[:, -1])
    return np.concatenate([along, end[:, None]], axis=1)


def _tangents(swept: _Swept) -> np.ndarray:
    p = swept.points
    if swept.closed:
        return unit_length(np.roll(p, -1, axis=1) - np.roll(p, 1, axis=1))
    return unit_length(np.gradient(p, axis=1)) if p.shape[1] > 1 else np.zeros_like(p)


def _tubes(swept: _Swept, sides: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Vertices, normals [triangles, 3, 3] and uvs [triangles, 3, 2] (once around, and along) of round tubes, closed at their ends."""
    p, tangents = swept.points, _tangents(swept)
    across = np.empty_like(p)
    least = np.eye(3)[np.abs(tangents[:, 0]).argmin(axis=1)]
    across[:, 0] = unit_length(np.cross(tangents[:, 0], least))
    for k in range(p.shape[1] - 1):
        across[:, k + 1] = _carried(across[:, k], tangents[:, k], tangents[:, k + 1], p[:, k + 1] - p[:, k])
    if swept.closed:
        # What the frame has turned by once around is taken back evenly, so that both ends meet.
        home = _carried(across[:, -1], tangents[:, -1], tangents[:, 0], p[:, 0] - p[:, -1])
        beside = np.cross(tangents[:, 0], across[:, 0])
        turned = np.arctan2(np.einsum("ci,ci->c", home, beside), np.einsum("ci,ci->c", home, across[:, 0]))
        back = (-turned[:, None] * np.arange(p.shape[1]) / p.shape[1])[..., None]
        across = across * np.cos(back) + np.cross(tangents, across) * np.sin(back)
    turn = 2.0 * np.pi * np.arange(sides) / sides
    out = across[:, :, None] * np.cos(turn)[:, None] + np.cross(tangents, across)[:, :, None] * np.sin(turn)[:, None]
    ring = p[:, :, None] + out * swept.widths[..., None, None] / 2.0
    v, n, uv = _between(ring, out, swept.closed, around=True)
    if swept.closed:
        return v, n, uv
    parts = [(v, n, uv)]
    for corners, facing in ((ring[:, 0, ::-1], -tangents[:, 0]), (ring[:, -1], tangents[:, -1])):
        fan = np.stack([np.repeat(corners[:, :1], sides - 2, axis=1), corners[:, 1:-1], corners[:, 2:]], axis=2).reshape(-1, 3, 3)
        flat = np.repeat(np.repeat(facing, sides - 2, axis=0)[:, None], 3, axis=1)
        parts.append((fan, flat, np.zeros((len(fan), 3, 2))))
    return np.concatenate([part[0] for part in parts]), np.concatenate([part[1] for part in parts]), np.concatenate([part[2] for part in parts])


def _carried(across: np.ndarray, tangent: np.ndarray, following: np.ndarray, step: np.ndarray) -> np.ndarray:
    """A direction across the curve at one sample, carried to the next."""
    squared = np.maximum(np.einsum("ci,ci->c", step, step), 1e-30)[:, None]
    left = across - 2.0 / squared * np.einsum("ci,ci->c", step, across)[:, None] * step
    turned = tangent - 2.0 / squared * np.einsum("ci,ci->c", step, tangent)[:, None] * step
    second = following - turned
    length = np.maximum(np.einsum("ci,ci->c", second, second), 1e-30)[:, None]
    moved = left - 2.0 / length * np.einsum("ci,ci->c", second, left)[:, None] * second
    return unit_length(moved - np.einsum("ci,ci->c", moved, following)[:, None] * following)


def _ribbons(swept: _Swept) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Flat ribbons across the normals, as `_tubes`."""
    assert swept.normals is not None
    tangents, facing = _tangents(swept), unit_length(swept.normals)
    side = unit_length(np.cross(tangents, facing)) * swept.widths[..., None] / 2.0
    edges = np.stack([swept.points - side, swept.points + side], axis=2)
    return _between(edges, np.repeat(facing[:, :, None], 2, axis=2), swept.closed, around=False)


def _between(rings: np.ndarray, normals: np.ndarray, closed: bool, around: bool) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Triangles between neighbouring rings [curves, samples, corners, 3] of points, with their normals and uvs; faces to the outside of a ring that
    runs counter-clockwise about the direction of the curve."""
    curves, samples, corners = rings.shape[:3]
    grid = np.meshgrid(np.arange(samples if closed else samples - 1), np.arange(corners if around else corners - 1), indexing="ij")
    s, j = (places.reshape(-1) for places in grid)
    ends = np.array([(0, 0), (0, 1), (1, 1), (0, 0), (1, 1), (1, 0)])  # steps along and around
    rows, places = s[:, None] + ends[:, 0], j[:, None] + ends[:, 1]
    uvs = np.stack([places / max(corners if around else corners - 1, 1), rows / max(samples if closed else samples - 1, 1)], axis=-1)
    at = rows % samples, places % corners
    v, n = (column[:, at[0], at[1]].reshape(-1, 3, 3) for column in (rings, normals))
    return v, n, np.tile(uvs.reshape(-1, 3, 2), (curves, 1, 1))


def _placed(
    curves: Any, v: np.ndarray, n: np.ndarray, uv: np.ndarray, matrix: np.ndarray, time: Usd.TimeCode, to_be_mirrored: bool
) -> Mesh:  # fmt: skip
    world = v @ matrix[:3, :3].T + matrix[:3, 3]
    if not np.isfinite(world).all() or np.abs(world).max() > 1e15:
        raise MeshError("is too far away or too large; check its transform")
    n = unit_length(n @ normal_matrix(matrix).T)
    if bool(np.linalg.det(matrix[:3, :3]) < 0.0) != to_be_mirrored:
        world, n, uv = world[:, ::-1], n[:, ::-1], uv[:, ::-1]
    surfaces = np.broadcast_to(np.uint32(0), len(v))
    return Mesh.of(str(curves.GetPath()), world, n, uv, surfaces, double_sided=bool(curves.GetDoubleSidedAttr().Get(time)))
