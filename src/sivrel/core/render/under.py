"""The surface under a pixel: where a lamp, a card or a portal is put when the picture is clicked."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..pack.objects import packed_meshes
from ..scene.triangles import corners_at, objects_at
from ..trace.traverse import closest_hits
from .preparation import camera_rays
from .prepare import Prepared

FAR = np.float32(1e30)


@dataclass(frozen=True)
class Surface:
    """object: name of the mesh; position in metres; normal: unit, of the triangle, on the camera's side; distance from the camera in metres."""

    object: str
    position: np.ndarray
    normal: np.ndarray
    distance: float


def surface_under(prepared: Prepared, size: tuple[int, int], x: float, y: float) -> Surface | None:
    """The first surface under pixel (x, y) of a frame of `size`, glass included; None where the ray leaves the scene."""
    origins, ways = camera_rays(prepared.camera, *size, np.array([x]), np.array([y]))
    hits, distances = closest_hits(prepared.arrays.bvh, origins.astype(np.float32), ways.astype(np.float32), np.float32(0.0), FAR)
    if not distances[0] < 0.999 * FAR:
        return None
    origin, way = origins[0], ways[0]
    a, b, c = corners_at(prepared.arrays, hits)[0]
    normal = np.cross(b - a, c - a)
    normal /= max(float(np.linalg.norm(normal)), 1e-30)
    name = packed_meshes(prepared.scene)[int(objects_at(prepared.arrays, hits)[0])].name
    return Surface(name, origin + way * float(distances[0]), normal if normal @ way < 0.0 else -normal, float(distances[0]))


def placed(kind: str, surface: Surface) -> dict[str, Any]:
    """Where something that is added stands on a surface, and which way it faces, as values of edits without their name. Flat lamps lie
    just before the surface and face away from it; round ones float before it; cards and portals lie on it, facing the camera's side."""
    gap = {"sphere": 0.15, "point": 0.15, "cylinder": 0.15}.get(kind, max(0.002, 0.002 * surface.distance))
    at = surface.position + surface.normal * gap
    if kind in ("sphere", "point", "cylinder"):
        return {"at": at}
    return {"at": at, "towards": at + surface.normal}
