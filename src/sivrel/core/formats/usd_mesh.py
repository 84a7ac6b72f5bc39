"""One UsdGeomMesh as triangles in scene space: polygons cut up, normals and coordinates spread to the corners."""

import numpy as np
from pxr import Usd, UsdGeom

from ..scene.model import Mesh


class MeshError(ValueError):
    """Why a mesh can't be used, as the end of a sentence that begins with its path."""


def read_mesh(mesh: UsdGeom.Mesh, matrix: np.ndarray, time: Usd.TimeCode) -> Mesh:
    """The mesh in scene space (`matrix` is 4 x 4 for columns). `surfaces` holds each triangle's face number.

    Raises MeshError when indices or points are broken.
    """
    points = _array(mesh.GetPointsAttr().Get(time), 3)
    counts = np.array(mesh.GetFaceVertexCountsAttr().Get(time) or [], np.int64)
    indices = np.array(mesh.GetFaceVertexIndicesAttr().Get(time) or [], np.int64)
    if len(counts) == 0 or len(points) == 0:
        raise MeshError("has no faces")
    if counts.min() < 0 or counts.sum() != len(indices):
        raise MeshError("has face counts that do not add up to its indices")
    if indices.min() < 0 or indices.max() >= len(points):
        raise MeshError(f"has face indices beyond its {len(points)} points")
    if not np.isfinite(points).all():
        raise MeshError("has points that are not numbers")
    world = points @ matrix[:3, :3].T + matrix[:3, 3]
    if not np.isfinite(world).all() or np.abs(world).max() > 1e15:
        raise MeshError("lies beyond all measure; check its transform")

    holes = set(mesh.GetHoleIndicesAttr().Get(time) or [])
    corners, faces = triangulate(points, counts, indices, holes)
    if len(corners) == 0:
        raise MeshError("has no faces with three corners or more")
    triangles = world[indices[corners]]

    # A left-handed orientation and a mirroring transform each turn the front of a face to its other side.
    mirrored = np.linalg.det(matrix[:3, :3]) < 0.0
    turned = (mesh.GetOrientationAttr().Get(time) == UsdGeom.Tokens.leftHanded) != mirrored
    normals = _normals(mesh, corners, faces, indices, len(points), matrix, time)
    facets = np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
    if turned:
        facets = -facets
    if normals is None:
        if _is_smooth(mesh, time):
            vertex_normals = np.zeros((len(points), 3))
            for k in range(3):
                np.add.at(vertex_normals, indices[corners[:, k]], facets)
            normals = vertex_normals[indices[corners]]
        else:
            normals = np.repeat(facets[:, None, :], 3, axis=1)
    lengths = np.linalg.norm(normals, axis=2, keepdims=True)
    fallback = np.repeat(_unit(facets)[:, None, :], 3, axis=1)
    normals = np.where(lengths > 1e-20, normals / np.maximum(lengths, 1e-20), fallback)

    uvs = _coordinates(mesh, corners, faces, indices, len(points), time)
    if turned:
        triangles, normals, uvs = triangles[:, ::-1], normals[:, ::-1], uvs[:, ::-1]
    return Mesh(
        str(mesh.GetPath()),
        np.ascontiguousarray(triangles, np.float32),
        np.ascontiguousarray(normals, np.float32),
        np.ascontiguousarray(uvs, np.float32),
        faces.astype(np.uint32),
        bool(mesh.GetDoubleSidedAttr().Get(time)),
    )


def triangulate(points: np.ndarray, counts: np.ndarray, indices: np.ndarray, holes: set[int] | None = None) -> tuple[np.ndarray, np.ndarray]:
    """Corners int64 [n, 3] (positions in `indices`) and faces int64 [n] of the triangles that fill the polygons.

    Triangles stand as they are, quads are cut along the diagonal that keeps both halves upright, larger polygons by
    ears (Meisters 1975, "Polygons Have Ears").
    """
    starts = np.concatenate([[0], np.cumsum(counts)[:-1]])
    usable = counts >= 3
    if holes:
        usable[[h for h in holes if 0 <= h < len(counts)]] = False
    corners, faces = [], []
    three = np.flatnonzero(usable & (counts == 3))
    corners.append(starts[three, None] + np.arange(3))
    faces.append(three)
    four = np.flatnonzero(usable & (counts == 4))
    if len(four):
        at = starts[four, None] + np.arange(4)
        p = points[indices[at]]
        halves = [np.cross(p[:, i] - p[:, 0], p[:, j] - p[:, 0]) for i, j in ((1, 2), (2, 3))]
        upright = np.einsum("ij,ij->i", halves[0], halves[1]) >= 0.0
        cut = np.where(upright[:, None], np.array([0, 1, 2, 0, 2, 3]), np.array([1, 2, 3, 1, 3, 0]))
        corners.append(np.take_along_axis(at, cut, axis=1).reshape(-1, 3))
        faces.append(np.repeat(four, 2))
    for face in np.flatnonzero(usable & (counts > 4)):
        span = np.arange(starts[face], starts[face] + counts[face])
        cut = _ears(points[indices[span]])
        corners.append(span[cut])
        faces.append(np.full(len(cut), face))
    return np.concatenate(corners).astype(np.int64), np.concatenate(faces).astype(np.int64)


def _ears(p: np.ndarray) -> np.ndarray:
    """Triangles int [n - 2, 3] of the simple polygon p [n, 3]."""
    n = len(p)
    following = np.roll(p, -1, axis=0)
    normal = np.cross(p, following).sum(axis=0)  # Newell's normal
    drop = int(np.argmax(np.abs(normal)))
    flat = np.delete(p, drop, axis=1) * (1.0 if (normal[drop] > 0.0) != (drop == 1) else -1.0)
    flat = flat if (normal[drop] > 0.0) != (drop == 1) else flat * [-1.0, 1.0]

    def area(a: int, b: int, c: int) -> float:
        u, v = flat[b] - flat[a], flat[c] - flat[a]
        return float(u[0] * v[1] - u[1] * v[0])

    left = list(range(n))
    cut: list[tuple[int, ...]] = []
    while len(left) > 3:
        for k in range(len(left)):
            a, b, c = left[k - 1], left[k], left[(k + 1) % len(left)]
            others = [q for q in left if q not in (a, b, c)]
            if area(a, b, c) > 0.0 and not any(area(a, b, q) >= 0.0 and area(b, c, q) >= 0.0 and area(c, a, q) >= 0.0 for q in others):
                break
        else:
            k = 1  # a degenerate polygon: any cut serves
        cut.append((left[k - 1], left[k], left[(k + 1) % len(left)]))
        left.pop(k)
    cut.append(tuple(left))
    return np.array(cut)


def is_closed(vertices: np.ndarray) -> bool:
    """Whether triangles float32 [n, 3, 3] bound a volume: every edge belongs to two of them, once each way."""
    _, corner = np.unique(vertices.reshape(-1, 3), axis=0, return_inverse=True)
    corner = corner.reshape(-1, 3).astype(np.int64)
    edges = np.concatenate([corner[:, [k, (k + 1) % 3]] for k in range(3)])
    edges = edges[edges[:, 0] != edges[:, 1]]
    count = int(corner.max()) + 1
    there, back = edges[:, 0] * count + edges[:, 1], edges[:, 1] * count + edges[:, 0]
    return bool(np.array_equal(np.sort(there), np.sort(back)))


def _array(values: object, width: int) -> np.ndarray:
    return np.array(values if values is not None else [], np.float64).reshape(-1, width)


def _unit(v: np.ndarray) -> np.ndarray:
    return v / np.maximum(np.linalg.norm(v, axis=-1, keepdims=True), 1e-30)


def _is_smooth(mesh: UsdGeom.Mesh, time: Usd.TimeCode) -> bool:
    """A subdivision cage is shaded smoothly; a polygon mesh without normals is faceted."""
    return mesh.GetSubdivisionSchemeAttr().Get(time) != UsdGeom.Tokens.none


def _spread(values, interpolation, corners, faces, indices, point_count) -> np.ndarray | None:
    """Values [n, 3, width] at the corners of every triangle, or None when their number does not fit."""
    needed = {
        UsdGeom.Tokens.constant: (1, np.zeros_like(corners)),
        UsdGeom.Tokens.uniform: (int(faces.max()) + 1, np.repeat(faces[:, None], 3, axis=1)),
        UsdGeom.Tokens.vertex: (point_count, indices[corners]),
        UsdGeom.Tokens.varying: (point_count, indices[corners]),
        UsdGeom.Tokens.faceVarying: (len(indices), corners),
    }
    count, at = needed.get(interpolation, (1 << 62, corners))
    return values[at] if len(values) >= count else None


def _normals(mesh, corners, faces, indices, point_count, matrix, time) -> np.ndarray | None:
    if _is_smooth(mesh, time) and mesh.GetSubdivisionSchemeAttr().HasAuthoredValue():
        return None  # UsdGeomMesh: normals of a subdivision surface are not used
    primvar = UsdGeom.PrimvarsAPI(mesh).GetPrimvar("normals")
    if primvar and primvar.HasValue():
        values, interpolation = _array(primvar.ComputeFlattened(time), 3), primvar.GetInterpolation()
    else:
        values, interpolation = _array(mesh.GetNormalsAttr().Get(time), 3), mesh.GetNormalsInterpolation()
    if len(values) == 0 or not np.isfinite(values).all():
        return None
    spread = _spread(values, interpolation, corners, faces, indices, point_count)
    if spread is None:
        return None
    # Normals go by the inverse transpose; the cofactor matrix is that, and it keeps degenerate scales finite.
    m = matrix[:3, :3]
    cofactor = np.array([np.cross(m[1], m[2]), np.cross(m[2], m[0]), np.cross(m[0], m[1])])
    sign = 1.0 if np.linalg.det(m) >= 0.0 else -1.0
    return sign * (spread @ cofactor.T)


def _coordinates(mesh, corners, faces, indices, point_count, time) -> np.ndarray:
    """Texture coordinates from the primvar `st`, or from the first of its type; zeros when there are none."""
    api = UsdGeom.PrimvarsAPI(mesh)
    candidates = [api.FindPrimvarWithInheritance("st")]
    candidates += [p for p in api.GetPrimvarsWithValues() if "texCoord2" in str(p.GetTypeName().role).lower()]
    candidates += [p for p in api.GetPrimvarsWithValues() if "texCoord2" in str(p.GetTypeName())]
    for primvar in candidates:
        if primvar and primvar.HasValue():
            values = _array(primvar.ComputeFlattened(time), 2)
            spread = _spread(values, primvar.GetInterpolation(), corners, faces, indices, point_count)
            if spread is not None and np.isfinite(spread).all():
                return spread
    return np.zeros((len(corners), 3, 2))
