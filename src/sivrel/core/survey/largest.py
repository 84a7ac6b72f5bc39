"""A scene of shared shapes as one that a survey can check triangle by triangle: with the placements that look largest."""

from dataclasses import replace

import numpy as np

from ..pack.geometry import pack_geometry
from ..pack.lights import pack_lights
from ..pack.objects import packed_meshes
from ..render.prepare import Geometry, Prepared
from ..scene.triangles import triangle_count
from .finding import SceneFinding, point

MOST_TRIANGLES = 1_500_000
"""Triangles of placements that are checked."""


def with_largest(ready: Prepared, most: int = MOST_TRIANGLES) -> tuple[Prepared, list[SceneFinding]]:
    """A prepared shot in which every triangle stands by itself, and a finding that says what was left out. It is the same shot where no shape is
    shared; otherwise the placements that look largest to the camera stay, with no more than `most` triangles."""
    placements = ready.arrays.bvh.placements
    if not len(placements.first):
        return ready, []
    meshes = packed_meshes(ready.scene)
    eye, sizes = ready.camera.to_world[:, 3], {}
    for k in placements.objects.tolist():
        low, high = meshes[k].box()
        nearest = np.linalg.norm(np.maximum(np.maximum(low - eye, eye - high), 0.0))
        sizes[k] = float(np.linalg.norm(high - low)) / max(float(nearest), 1e-6)
    left, out = most, set()
    for k in sorted(sizes, key=lambda k: -sizes[k]):
        if meshes[k].count <= left:
            left -= meshes[k].count
        else:
            out.add(k)
    scene = replace(ready.scene, meshes=[mesh for k, mesh in enumerate(meshes) if k not in out])
    arrays = pack_lights(pack_geometry(scene, most_copied=scene.triangle_count()), scene)
    return replace(ready, scene=scene, arrays=arrays, geometry=Geometry(arrays, "")), _left_out(ready, len(sizes), len(out), triangle_count(arrays))


def _left_out(ready: Prepared, placed: int, out: int, checked: int) -> list[SceneFinding]:
    if not out:
        return []
    low, high = ready.scene.bounds()
    return [
        SceneFinding(
            "checked in part", f"{placed - out:,} of {placed:,} objects that are placed several times were checked, those that look largest.",
            "The others have the same shapes; where they stand, what they touch and what they hide was not looked at.",
            harm=0.05, at=point((low + high) / 2.0), box=(point(low), point(high)),
            evidence={"checked_triangles": checked, "triangles": triangle_count(ready.arrays)},
        )
    ]  # fmt: skip
