"""A small kit of modelled parts: points, quads and triangles with texture coordinates in metres, y up."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

Array = np.ndarray


@dataclass
class Part:
    """Faces int [m, 4] over points [n, 3] (a triangle repeats its last corner), coordinates [m, 4, 2] in metres."""

    points: Array
    faces: Array
    uvs: Array

    def moved(self, x: float = 0.0, y: float = 0.0, z: float = 0.0) -> Part:
        return Part(self.points + np.array([x, y, z]), self.faces, self.uvs)

    def turned(self, axis: str, degrees: float) -> Part:
        """Turned about a coordinate axis through the origin, counter-clockwise when it points at the viewer."""
        return Part(self.points @ rotation(axis, degrees).T, self.faces, self.uvs)

    def scaled(self, x: float, y: float, z: float) -> Part:
        return Part(self.points * np.array([x, y, z]), self.faces, self.uvs)

    def bent(self, function) -> Part:
        """With every point [n, 3] sent through `function`."""
        return Part(function(self.points), self.faces, self.uvs)


def rotation(axis: str, degrees: float) -> Array:
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    i = "xyz".index(axis)
    matrix = np.eye(3)
    j, k = (i + 1) % 3, (i + 2) % 3
    matrix[j, j], matrix[j, k], matrix[k, j], matrix[k, k] = c, -s, s, c
    return matrix


def join(*parts: Part) -> Part:
    starts = np.cumsum([0] + [len(p.points) for p in parts[:-1]])
    return Part(
        np.concatenate([p.points for p in parts]),
        np.concatenate([p.faces + s for p, s in zip(parts, starts, strict=True)]),
        np.concatenate([p.uvs for p in parts]),
    )


def sheet(points: Array, uvs: Array | None = None, wrap_u: bool = False, wrap_v: bool = False) -> Part:
    """A grid of points [rows, columns, 3] as quads; the front is to the left of rows crossed with columns.

    Coordinates default to the lengths along the middle row and column.
    """
    rows, columns = points.shape[:2]
    index = np.arange(rows * columns).reshape(rows, columns)
    if wrap_v:
        index = np.concatenate([index, index[:1]], axis=0)
    if wrap_u:
        index = np.concatenate([index, index[:, :1]], axis=1)
    faces = np.stack([index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]], axis=-1).reshape(-1, 4)
    if uvs is None:
        across = points[rows // 2] if not wrap_u else np.concatenate([points[rows // 2], points[rows // 2][:1]])
        down = points[:, columns // 2] if not wrap_v else np.concatenate([points[:, columns // 2], points[:1, columns // 2]])
        u, v = _lengths(across), _lengths(down)
        grid = np.stack(np.meshgrid(u, v), axis=-1)
    else:
        grid = uvs
    corners = np.stack([grid[:-1, :-1], grid[1:, :-1], grid[1:, 1:], grid[:-1, 1:]], axis=-2).reshape(-1, 4, 2)
    return Part(points.reshape(-1, 3).astype(float), faces, corners)


def _lengths(line: Array) -> Array:
    return np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])


def box(x: float, y: float, z: float, bevel: float = 0.004, segments: int = 2, grain: str = "x") -> Part:
    """A box of full size x, y, z round the origin with rounded edges; texture u runs along `grain`."""
    half = np.array([x, y, z]) / 2.0
    bevel = min(bevel, float(half.min()) * 0.95)

    def lines(h: float) -> Array:
        side = -h + bevel * np.linspace(0.0, 1.0, segments + 1)
        return np.concatenate([side, -side[::-1]])

    parts = []
    long = "xyz".index(grain)
    for axis in range(3):
        j, k = (axis + 1) % 3, (axis + 2) % 3
        for sign in (-1.0, 1.0):
            a, b = lines(half[j]), lines(half[k])
            grid = np.empty((len(a), len(b), 3))
            grid[..., axis] = sign * half[axis]
            grid[..., j], grid[..., k] = a[:, None], b[None, :]
            inner = np.clip(grid, -(half - bevel), half - bevel)
            outward = grid - inner
            outward /= np.maximum(np.linalg.norm(outward, axis=2, keepdims=True), 1e-12)
            u_axis = long if long != axis else j
            v_axis = 3 - axis - u_axis
            uvs = np.stack([grid[..., u_axis], grid[..., v_axis] + 0.37 * axis], axis=-1)
            part = sheet(inner + outward * bevel, uvs)
            parts.append(part if sign > 0 else flipped(part))
    return join(*parts)


def flipped(part: Part) -> Part:
    return Part(part.points, part.faces[:, ::-1], part.uvs[:, ::-1])


def lathe(profile: list[tuple[float, float]], sides: int = 32, smooth: int = 0) -> Part:
    """A profile of (radius, height), bottom to top on the outside, turned about y. `smooth` rounds it by subdivision."""
    line = np.array(profile, float)
    for _ in range(smooth):
        line = _corner_cut(line)
    angle = np.linspace(0.0, 2.0 * np.pi, sides, endpoint=False)
    grid = np.empty((len(line), sides, 3))
    grid[..., 0] = line[:, :1] * np.sin(angle)
    grid[..., 1] = line[:, 1:]
    grid[..., 2] = line[:, :1] * np.cos(angle)
    around = np.linspace(0.0, 2.0 * np.pi * float(line[:, 0].max()), sides + 1)
    uvs = np.stack(np.meshgrid(around, _lengths(line)), axis=-1)
    return flipped(sheet(grid, uvs, wrap_u=True))


def _corner_cut(line: Array) -> Array:
    """Chaikin's corner cutting, ends kept (Chaikin 1974)."""
    a, b = line[:-1], line[1:]
    cut = np.stack([0.75 * a + 0.25 * b, 0.25 * a + 0.75 * b], axis=1).reshape(-1, line.shape[1])
    return np.concatenate([line[:1], cut[1:-1], line[-1:]])


def curve(points: list, count: int) -> Array:
    """`count` points on a smooth curve through `points` (centripetal enough: a cubic spline over length)."""
    from scipy.interpolate import CubicSpline

    knots = np.array(points, float)
    return CubicSpline(_lengths(knots), knots)(np.linspace(0.0, _lengths(knots)[-1], count))


def _frames(path: Array) -> tuple[Array, Array]:
    """Two unit normals along a path that turn as little as possible (Wang et al. 2008, double reflection)."""
    tangent = np.gradient(path, axis=0)
    tangent /= np.linalg.norm(tangent, axis=1, keepdims=True)
    first = np.cross(tangent[0], [0.0, 1.0, 0.0] if abs(tangent[0][1]) < 0.9 else [1.0, 0.0, 0.0])
    normals = [first / np.linalg.norm(first)]
    for i in range(len(path) - 1):
        v1 = path[i + 1] - path[i]
        r = normals[-1] - 2.0 / max(v1 @ v1, 1e-20) * (v1 @ normals[-1]) * v1
        t = tangent[i] - 2.0 / max(v1 @ v1, 1e-20) * (v1 @ tangent[i]) * v1
        v2 = tangent[i + 1] - t
        normals.append(r - 2.0 / (v2 @ v2) * (v2 @ r) * v2 if v2 @ v2 > 1e-20 else r)
    n = np.array(normals)
    return n, np.cross(tangent, n)


def tube(path: Array, radius: float | Array, sides: int = 10, caps: bool = True) -> Part:
    """A round tube along `path` [n, 3]."""
    n, b = _frames(path)
    angle = np.linspace(0.0, 2.0 * np.pi, sides, endpoint=False)
    r = np.broadcast_to(np.asarray(radius, float), len(path))[:, None, None]
    ring = n[:, None, :] * np.cos(angle)[None, :, None] + b[:, None, :] * np.sin(angle)[None, :, None]
    grid = path[:, None, :] + ring * r
    if caps:
        grid = np.concatenate([np.broadcast_to(path[:1, None], (1, sides, 3)), grid, np.broadcast_to(path[-1:, None], (1, sides, 3))])
    around = np.linspace(0.0, 2.0 * np.pi * float(np.max(radius)), sides + 1)
    along = _lengths(grid[:, 0])
    return flipped(sheet(grid, np.stack(np.meshgrid(around, along), axis=-1), wrap_u=True))


def rope(path: Array, radius: float, lay: float = 9.0, sides: int = 5) -> Part:
    """A three-strand rope along `path`; `lay` is the length of one turn in radii."""
    length = _lengths(path)
    steps = max(8, int(length[-1] / (radius * lay) * 6.0))
    at = np.linspace(0.0, length[-1], steps)
    line = np.stack([np.interp(at, length, path[:, k]) for k in range(3)], axis=1)
    n, b = _frames(line)
    strands = []
    for k in range(3):
        angle = (2.0 * np.pi * (at / (radius * lay) + k / 3.0))[:, None]
        strands.append(tube(line + 0.52 * radius * (n * np.cos(angle) + b * np.sin(angle)), 0.5 * radius, sides))
    return join(*strands)


def coil(radius: float, rope_radius: float, turns: float, rise: float, wobble: float, seed: int) -> Array:
    """Path of a coil of rope lying in the x-z plane."""
    rng = np.random.default_rng(seed)
    t = np.linspace(0.0, turns, int(turns * 28))
    r = radius + wobble * np.sin(t * 5.1 + rng.uniform(0, 6)) + wobble * 0.6 * np.sin(t * 2.3 + rng.uniform(0, 6))
    a = 2.0 * np.pi * t
    y = rope_radius + rise * t + 0.25 * wobble * np.sin(t * 7.7)
    return np.stack([r * np.cos(a), y, r * np.sin(a)], axis=1)


def noise(points: Array, scale: float, seed: int, octaves: int = 4) -> Array:
    """Smooth noise in about [-1, 1] at points [..., d]: value noise on a hashed lattice, octaves summed."""
    points = np.asarray(points, float)
    total, weight, norm = np.zeros(points.shape[:-1]), 1.0, 0.0
    for octave in range(octaves):
        p = points / scale * 2.0**octave
        cell = np.floor(p).astype(np.int64)
        f = p - cell
        f = f * f * (3.0 - 2.0 * f)
        value = np.zeros(points.shape[:-1])
        for corner in np.ndindex(*(2,) * points.shape[-1]):
            h = np.full(points.shape[:-1], seed * 7919 + octave * 104729, np.int64)
            w = np.ones(points.shape[:-1])
            for axis, c in enumerate(corner):
                h = (h ^ (cell[..., axis] + c) * (73856093, 19349663, 83492791)[axis]) * 1274126177 & 0x7FFFFFFF
                w = w * (f[..., axis] if c else 1.0 - f[..., axis])
            value += w * ((h >> 8) & 0xFFFF) / 32767.5
        total += weight * (value - 1.0)
        norm += weight
        weight *= 0.5
    return total / norm * 1.6
