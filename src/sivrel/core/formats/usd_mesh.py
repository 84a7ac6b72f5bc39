"""One UsdGeomMesh as triangles in scene space: polygons triangulated, normals and coordinates expanded to corners."""

from typing import Any, Literal

import numpy as np
from pxr import Usd, UsdGeom

from ..scene.indexed import IndexedTriangles, indexed
from ..scene.model import Mesh
from ..scene.subdivide import Cage, around_faces, at_boundary
from .faces import normal_matrix, triangulate


class MeshError(ValueError):
    """Why a mesh can't be used, as the end of a sentence that begins with its path."""


def read_mesh(mesh: UsdGeom.Mesh, matrix: np.ndarray, time: Usd.TimeCode, to_be_mirrored: bool = False) -> Mesh:
    """The mesh in scene space (`matrix` is 4 x 4 for columns), or in its own where that is the identity: then with triangles that run clockwise where
    it is `to_be_mirrored` by its placements. `surfaces` holds each triangle's face number.

    Raises MeshError when indices or points are broken.
    """
    points = array_of(mesh.GetPointsAttr().Get(time), 3)
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
        raise MeshError("is too far away or too large; check its transform")

    holes = set(mesh.GetHoleIndicesAttr().Get(time) or [])
    corners, faces = triangulate(points, counts, indices, holes)
    if len(corners) == 0:
        raise MeshError("has no faces with three corners or more")
    triangles = world[indices[corners]]

    # A left-handed orientation and a mirroring transform each flip the front of a face.
    mirrored = np.linalg.det(matrix[:3, :3]) < 0.0
    inwards = (mesh.GetOrientationAttr().Get(time) == UsdGeom.Tokens.leftHanded) != mirrored
    turned = inwards != to_be_mirrored
    normals = _normals(mesh, corners, faces, indices, len(points), matrix, time)
    facets = np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
    if inwards:
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
    fallback = np.repeat(unit_length(facets)[:, None, :], 3, axis=1)
    normals = np.where(lengths > 1e-20, normals / np.maximum(lengths, 1e-20), fallback)

    uvs = _coordinates(mesh, corners, faces, indices, len(points), time)
    if turned:
        triangles, normals, uvs = triangles[:, ::-1], normals[:, ::-1], uvs[:, ::-1]
    geometry = indexed(triangles, normals, uvs)
    unit = float(np.cbrt(abs(np.linalg.det(matrix[:3, :3]))))
    return Mesh(
        str(mesh.GetPath()),
        geometry,
        faces.astype(np.uint32),
        bool(mesh.GetDoubleSidedAttr().Get(time)),
        cage=_cage(mesh, world, counts, indices, holes, turned, geometry, faces, time, unit),
    )


BOUNDARIES: dict[str, Literal["none", "edges", "edges_and_corners"]] = {
    "none": "none", "edgeOnly": "edges", "edgeAndCorner": "edges_and_corners",
}  # fmt: skip


def _cage(
    mesh: Any, world: np.ndarray, counts: np.ndarray, indices: np.ndarray, holes: set[int], turned: bool, geometry: IndexedTriangles,
    faces: np.ndarray, time: Any, unit: float,
) -> Cage | None:  # fmt: skip
    """The cage of a subdivision surface (UsdGeomMesh, "subdivisionScheme"), or None for a mesh of polygons, and for a scheme that its faces do not
    fit. A mesh that does not say its scheme, and has normals, counts as polygons: the schema's fallback would drop them."""
    scheme = mesh.GetSubdivisionSchemeAttr()
    if scheme.Get(time) not in ("catmullClark", "loop") or (not scheme.HasAuthoredValue() and len(mesh.GetNormalsAttr().Get(time) or [])):
        return None
    if counts.min() < 3 or (scheme.Get(time) == "loop" and counts.max() > 3):
        return None
    face, following, _ = around_faces(counts)
    if (indices == indices[following]).any():
        return None  # a face that touches itself
    hole = np.isin(np.arange(len(counts)), list(holes))
    boundary = BOUNDARIES.get(str(mesh.GetInterpolateBoundaryAttr().Get(time)), "edges_and_corners")
    edges, sharpness = _creases(mesh, len(world), time)
    corners = np.array(mesh.GetCornerIndicesAttr().Get(time) or [], np.int64)
    sharp = np.array(mesh.GetCornerSharpnessesAttr().Get(time) or [], float)
    if len(corners) != len(sharp):
        corners, sharp = corners[:0], sharp[:0]
    known = (corners >= 0) & (corners < len(world)) & np.isfinite(sharp)
    uvs = _coordinates(mesh, np.arange(len(indices))[:, None], face, indices, len(world), time)[:, 0]
    cage = Cage(
        world, counts, indices, uvs, np.arange(len(counts)), hole, edges, sharpness, corners[known], sharp[known],
        "loop" if scheme.Get(time) == "loop" else "catmull_clark", boundary, turned, geometry, faces,
    )  # fmt: skip
    cage.unit = unit
    if boundary == "none":
        cage.hole |= at_boundary(cage)
    return cage


def _creases(mesh: Any, points: int, time: Any) -> tuple[np.ndarray, np.ndarray]:
    """(ends [n, 2], sharpness [n]) of the edges of all creases, which have one sharpness each, or one for every edge; none where their numbers do
    not add up."""
    along = np.array(mesh.GetCreaseIndicesAttr().Get(time) or [], np.int64)
    lengths = np.array(mesh.GetCreaseLengthsAttr().Get(time) or [], np.int64)
    sharp = np.array(mesh.GetCreaseSharpnessesAttr().Get(time) or [], float)
    none = np.zeros((0, 2), np.int64), np.zeros(0)
    if not len(lengths) or lengths.min() < 2 or lengths.sum() != len(along) or len(sharp) not in (len(lengths), int((lengths - 1).sum())):
        return none
    if along.min() < 0 or along.max() >= points or not np.isfinite(sharp).all():
        return none
    last = np.cumsum(lengths) - 1
    first = np.setdiff1d(np.arange(len(along)), last)
    return np.column_stack([along[first], along[first + 1]]), sharp if len(sharp) == len(first) else np.repeat(sharp, lengths - 1)


def array_of(values: object, width: int) -> np.ndarray:
    return np.array(values if values is not None else [], np.float64).reshape(-1, width)


def unit_length(v: np.ndarray) -> np.ndarray:
    return v / np.maximum(np.linalg.norm(v, axis=-1, keepdims=True), 1e-30)


def _is_smooth(mesh: UsdGeom.Mesh, time: Usd.TimeCode) -> bool:
    """A subdivision cage is shaded smoothly; a polygon mesh without normals is faceted."""
    return mesh.GetSubdivisionSchemeAttr().Get(time) != UsdGeom.Tokens.none


def _spread(
    values: np.ndarray, interpolation: str, corners: np.ndarray, faces: np.ndarray, indices: np.ndarray, point_count: int
) -> np.ndarray | None:
    """Values [n, corners, width] at the `corners` [n, corners] of every face, or None if their number does not match."""
    needed = {
        UsdGeom.Tokens.constant: (1, np.zeros_like(corners)),
        UsdGeom.Tokens.uniform: (int(faces.max()) + 1, np.broadcast_to(faces[:, None], corners.shape)),
        UsdGeom.Tokens.vertex: (point_count, indices[corners]),
        UsdGeom.Tokens.varying: (point_count, indices[corners]),
        UsdGeom.Tokens.faceVarying: (len(indices), corners),
    }
    count, at = needed.get(interpolation, (1 << 62, corners))
    return values[at] if len(values) >= count else None


def _normals(
    mesh: Any, corners: np.ndarray, faces: np.ndarray, indices: np.ndarray, point_count: int, matrix: np.ndarray, time: Any
) -> np.ndarray | None:
    if _is_smooth(mesh, time) and mesh.GetSubdivisionSchemeAttr().HasAuthoredValue():
        return None  # UsdGeomMesh: normals of a subdivision surface are not used
    primvar = UsdGeom.PrimvarsAPI(mesh).GetPrimvar("normals")
    if primvar and primvar.HasValue():
        values, interpolation = array_of(primvar.ComputeFlattened(time), 3), primvar.GetInterpolation()
    else:
        values, interpolation = array_of(mesh.GetNormalsAttr().Get(time), 3), mesh.GetNormalsInterpolation()
    if len(values) == 0 or not np.isfinite(values).all():
        return None
    spread = _spread(values, interpolation, corners, faces, indices, point_count)
    if spread is None:
        return None
    return spread @ normal_matrix(matrix).T


def _coordinates(mesh: Any, corners: np.ndarray, faces: np.ndarray, indices: np.ndarray, point_count: int, time: Any) -> np.ndarray:
    """Texture coordinates from the primvar `st`, or from the first of its type; zeros when there are none."""
    api = UsdGeom.PrimvarsAPI(mesh)
    candidates = [api.FindPrimvarWithInheritance("st")]
    candidates += [p for p in api.GetPrimvarsWithValues() if "texCoord2" in str(p.GetTypeName().role).lower()]
    candidates += [p for p in api.GetPrimvarsWithValues() if "texCoord2" in str(p.GetTypeName())]
    for primvar in candidates:
        if primvar and primvar.HasValue():
            values = array_of(primvar.ComputeFlattened(time), 2)
            spread = _spread(values, primvar.GetInterpolation(), corners, faces, indices, point_count)
            if spread is not None and np.isfinite(spread).all():
                return spread
    return np.zeros((*corners.shape, 2))
