"""Plan and elevation: orthographic views of a shot from above and from behind the camera, cut open where a room
would hide its inside."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..scene.arrays import BASE, SceneArrays
from ..scene.model import Camera, Mesh, Scene
from ..scene.placed_mesh import PlacedMesh
from ..scene.topology import topology
from ..scene.triangles import corners_at, objects_at, standing_objects, surface_rows_at
from ..trace.traverse import closest_hits
from ..trace.two_levels import placed_boxes

SIZE = 640
"""Pixels of the longer side."""
MARGIN = 0.06
ABOVE_EYE = 0.35
"""Metres above the camera at which the plan is cut: above the furniture, below the ceiling."""
CUT = 0.13
"""Tone of cut solids."""
MOST_LINES = 30_000
MOST_CENTRES, MOST_CROSSING = 2_000_000, 2_000_000
"""Most triangles that decide which box is drawn, and of placements that are cut."""


@dataclass(frozen=True)
class Drawing:
    """An orthographic picture with its place in the scene.

    tones: uint8 [rows, columns]; right, up: world axes of its sides; centre: world point at its centre, on the cut
    half: (half width, half height) in metres; lines: where the cut crosses surfaces, float64 [n, 2, 2], metres from its top left
    """

    tones: np.ndarray
    right: np.ndarray
    up: np.ndarray
    centre: np.ndarray
    half: tuple[float, float]
    lines: np.ndarray


def drawn_bounds(scene: Scene, camera: Camera) -> tuple[np.ndarray, np.ndarray]:
    """The box to draw: the scene's bounds, cropped to the surroundings of the middle half of its triangles, with the
    camera and the lights in it."""
    step = max(1, scene.triangle_count() // MOST_CENTRES)
    centres = np.concatenate([_centres(mesh, step) for mesh in scene.meshes if mesh.count]).astype(float)
    low, high = np.percentile(centres, 25.0, axis=0), np.percentile(centres, 75.0, axis=0)
    reach = np.maximum((high - low).max(), 1e-3) * 0.9
    full_low, full_high = scene.bounds()
    low, high = np.maximum(full_low, low - reach), np.minimum(full_high, high + reach)
    eye = camera.to_world[:, 3]
    points = [eye] + [np.array(light.position) for light in scene.lights if light.kind not in ("sun", "dome", "mesh")]
    middle, size = (low + high) / 2.0, np.maximum(high - low, 1e-3)
    near = [p for p in points if (np.abs(p - middle) < size.max() * 2.0).all()]
    return np.minimum(low, np.min([low, *near], axis=0)), np.maximum(high, np.max([high, *near], axis=0))


def plan_and_elevation(
    scene: Scene, arrays: SceneArrays, camera: Camera, height: float | None = None, behind: float | None = None
) -> tuple[Drawing, Drawing]:  # fmt: skip
    """The plan, cut just above the camera or at `height` metres, with the camera's forward axis nearest to up; and the section, looking that
    way from the camera's back, or from `behind` metres along that axis."""
    low, high = drawn_bounds(scene, camera)
    eye, forward = camera.to_world[:, 3], -camera.to_world[:, 2]
    axis = 0 if abs(forward[0]) > abs(forward[2]) else 2
    ahead = np.zeros(3)
    ahead[axis] = 1.0 if forward[axis] > 0.0 else -1.0
    up = np.array([0.0, 1.0, 0.0])
    right = np.cross(ahead, up)
    cut = min(max(eye[1] + ABOVE_EYE if height is None else height, low[1]), high[1] + 0.01)
    along = float(eye @ ahead) if behind is None else behind
    plan = _draw(arrays, low, high, right, ahead, np.array([0.0, cut, 0.0]), -up)
    elevation = _draw(arrays, low, high, right, up, ahead * along, ahead)
    return plan, elevation


def _draw(arrays: SceneArrays, low: np.ndarray, high: np.ndarray, right: np.ndarray, up: np.ndarray, cut: np.ndarray, looking: np.ndarray) -> Drawing:
    """Rays along `looking` from the plane through `cut`; where the first hit is seen from its back, the plane is
    inside a solid."""
    middle, size = (low + high) / 2.0, (high - low) * (1.0 + MARGIN)
    half_w, half_h = float(np.abs(size @ right)) / 2.0, float(np.abs(size @ up)) / 2.0
    scale = SIZE / (2.0 * max(half_w, half_h))
    columns, rows = max(8, round(2.0 * half_w * scale)), max(8, round(2.0 * half_h * scale))
    centre = middle - looking * (middle @ looking) + looking * (cut @ looking)
    a = (np.arange(columns) + 0.5) / columns * 2.0 - 1.0
    b = 1.0 - (np.arange(rows) + 0.5) / rows * 2.0
    x, y = np.meshgrid(a * half_w, b * half_h)
    origins = centre + x[..., None] * right + y[..., None] * up
    flat = origins.reshape(-1, 3).astype(np.float32)
    d = np.broadcast_to(np.asarray(looking, np.float32), flat.shape).copy()
    hits, distances = closest_hits(arrays.bvh, flat, d, np.float32(0.0), np.float32(1e30))
    met = distances < 1e29
    at = np.where(met, hits, 0).astype(np.int64)
    triangles = corners_at(arrays, at)
    normals = np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30)
    facing = -normals @ looking
    base = arrays.surfaces[surface_rows_at(arrays, at)][:, BASE : BASE + 3] @ (0.2126, 0.7152, 0.0722)
    tone = 0.45 + 0.4 * np.abs(facing) * (0.4 + 0.6 * np.sqrt(np.clip(base, 0.0, 1.0)))
    tone = np.where(met, np.where(facing < 0.0, CUT, tone), 0.97).reshape(rows, columns)
    right, up, half = np.asarray(right, float), np.asarray(up, float), (half_w, half_h)
    corners, solid = _crossing(arrays, centre, np.asarray(looking, float))
    ends, cut_triangles = cut_lines(corners, centre, np.asarray(looking, float))
    lines = np.stack([(ends - centre) @ right + half_w, half_h - (ends - centre) @ up], axis=-1)
    of_solids = solid[cut_triangles]
    tone = np.where(inside_cut(lines[of_solids], (rows, columns), (2.0 * half_w / columns, 2.0 * half_h / rows)), CUT, tone)
    # Edges: where the depth or the object jumps.
    depth = np.where(met, distances, 1e4).reshape(rows, columns).astype(float)
    thing = np.where(met, objects_at(arrays, at), -1).reshape(rows, columns)
    jump = 0.02 * max(half_w, half_h)
    edge = np.zeros((rows, columns), bool)
    for axis in (0, 1):
        step = np.abs(np.diff(depth, axis=axis)) > jump
        other = np.diff(thing, axis=axis) != 0
        where = (slice(1, None), slice(None)) if axis == 0 else (slice(None), slice(1, None))
        edge[where] |= step | other
    tone = np.where(edge & (tone > CUT), tone * 0.62, tone)
    inside = (lines.max(axis=1) > 0.0).all(axis=1) & (lines.min(axis=1) < (2.0 * half_w, 2.0 * half_h)).all(axis=1)
    lines = lines[inside]
    longest = np.argsort(-np.linalg.norm(lines[:, 1] - lines[:, 0], axis=1), kind="stable")[:MOST_LINES]
    return Drawing((tone * 255.0).astype(np.uint8), right, up, centre, half, lines[longest])


def cut_lines(triangles: np.ndarray, at: np.ndarray, normal: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Where a plane crosses triangles [n, 3, 3]: float64 [k, 2, 3], the two ends of each line, oriented by the facing of
    the triangles; and the numbers of the triangles."""
    side = (triangles.astype(float) - at) @ normal
    # Corners in the plane count as beyond it, so that none is cut twice.
    beyond = side >= 0.0
    crossed = np.flatnonzero(beyond.any(axis=1) & ~beyond.all(axis=1))
    v, d, b = triangles[crossed].astype(float), side[crossed], beyond[crossed]
    # The single corner on its side, and its two edges.
    alone = np.where(b.sum(axis=1) == 1, np.argmax(b, axis=1), np.argmin(b, axis=1))
    k = np.arange(len(crossed))
    ends = []
    for step in (1, 2):
        other = (alone + step) % 3
        t = d[k, alone] / (d[k, alone] - d[k, other])
        ends.append(v[k, alone] + (v[k, other] - v[k, alone]) * t[:, None])
    lines = np.stack(ends, axis=1) if len(crossed) else np.zeros((0, 2, 3))
    facing = np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])
    backwards = np.einsum("ij,ij->i", np.cross(lines[:, 1] - lines[:, 0], normal), facing) < 0.0
    return np.where(backwards[:, None, None], lines[:, ::-1], lines), crossed


def inside_cut(lines: np.ndarray, shape: tuple[int, int], pixel: tuple[float, float]) -> np.ndarray:
    """bool [rows, columns]: which pixels of a drawing lie inside solids, whose cut outlines are `lines`, float64 [n, 2, 2] in metres from its
    top left, all turned alike: the winding number along each row (Foley et al. 1990, section 19.5)."""
    rows, columns = shape
    wound = np.zeros((rows, columns + 1))
    y = lines[:, :, 1] / pixel[1] - 0.5
    first, last = np.ceil(y.min(axis=1)), np.ceil(y.max(axis=1))  # rows whose middle a line crosses
    first, last = np.clip(first, 0, rows).astype(np.int64), np.clip(last, 0, rows).astype(np.int64)
    count = last - first
    number = np.repeat(np.arange(len(lines)), count)
    row = np.repeat(first, count) + np.arange(count.sum()) - np.repeat(np.cumsum(count) - count, count)
    low, high = y[number, 0], y[number, 1]
    t = (row - low) / np.where(high == low, 1.0, high - low)
    x = (lines[number, 0, 0] + (lines[number, 1, 0] - lines[number, 0, 0]) * t) / pixel[0]
    column = np.clip(np.ceil(x - 0.5), 0, columns).astype(np.int64)
    np.add.at(wound, (row, column), np.where(high > low, 1.0, -1.0))
    total = np.cumsum(wound, axis=1)[:, :columns]
    # The orientation of the inside depends on the viewing side.
    return np.abs(total) > 0.5


def _centres(mesh: Mesh, step: int) -> np.ndarray:
    """Centres of every `step`-th triangle, float [n, 3]."""
    geometry = mesh.shape.geometry if isinstance(mesh, PlacedMesh) else mesh.geometry
    centres = geometry.points[geometry.corners[::step]].mean(axis=1)
    return centres.astype(float) @ mesh.to_world[:, :3].T + mesh.to_world[:, 3] if isinstance(mesh, PlacedMesh) else centres


def _crossing(arrays: SceneArrays, at: np.ndarray, normal: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Triangles [n, 3, 3] that a plane may cross, and whether each belongs to a closed part: all that stand, and those of the placements whose boxes
    it crosses, the largest first, MOST_CROSSING of them."""
    closed, standing, placements = _closed(arrays), arrays.standing, arrays.bvh.placements
    corners, solid = [arrays.points[arrays.corners[:standing]]], [closed[:standing]]
    if len(placements.first):
        boxes = placed_boxes(arrays.points, arrays.corners, placements).astype(float)
        middle, half = (boxes[:, :3] + boxes[:, 3:]) / 2.0, (boxes[:, 3:] - boxes[:, :3]) / 2.0
        crossed = np.flatnonzero(np.abs((middle - at) @ normal) <= half @ np.abs(normal))
        left = MOST_CROSSING
        for k in crossed[np.argsort(-np.linalg.norm(half[crossed], axis=1), kind="stable")].tolist():
            count, row = int(placements.counts[k]), int(placements.stored[k])
            if count <= left:
                left -= count
                corners.append(corners_at(arrays, int(placements.first[k]) + np.arange(count)).astype(np.float32))
                solid.append(closed[row : row + count])
    return np.concatenate(corners), np.concatenate(solid)


def _closed(arrays: SceneArrays) -> np.ndarray:
    """bool by row of the arrays: which triangles belong to closed parts of meshes; kept for the geometry that was drawn last."""
    if _kept.get("of") is not arrays.corners:
        closed, standing = np.zeros(len(arrays.corners), bool), standing_objects(arrays)
        groups = [np.flatnonzero(standing == number) for number in np.unique(standing)]
        shapes = dict(zip(arrays.bvh.placements.stored.tolist(), arrays.bvh.placements.counts.tolist(), strict=True))
        for mine in [*groups, *(np.arange(row, row + count) for row, count in shapes.items())]:
            net = topology(arrays.points[arrays.corners[mine]])
            closed[mine] = ~np.isin(net.part, net.part[net.rim().any(axis=1)])
        _kept.update(of=arrays.corners, closed=closed)
    return _kept["closed"]


_kept: dict[str, Any] = {}
