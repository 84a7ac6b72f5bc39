"""Rays per second against Embree's Python binding, and the speed of the build."""

import statistics
import time

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh

from sivrel.core.formats.scenes import read_scene
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.scene.triangles import stored_corners
from sivrel.core.trace.bvh import build_bvh
from sivrel.core.trace.traverse import any_hits, closest_hits
from sivrel.demo.shots import find_shot

ROUNDS = 9
RAYS = 300_000
NEAR, FAR = np.float32(0.0), np.float32(1e30)


def _timed(work) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def rays() -> str:
    """Rays from random places in the kitchen in random directions, one thread, Embree and ours in turn."""
    scene = pack_scene(read_scene(find_shot("demo:keepers-kitchen")))
    rng = np.random.default_rng(1)
    origins = rng.uniform((0.2, 0.1, 0.2), (4.2, 2.2, 3.6), (RAYS, 3)).astype(np.float32)
    directions = rng.normal(size=(RAYS, 3)).astype(np.float32)
    directions /= np.linalg.norm(directions, axis=1, keepdims=True)
    embree = rtcore_scene.EmbreeScene()
    TriangleMesh(embree, stored_corners(scene))
    pairs = {
        "closest hit": (
            lambda: closest_hits(scene.bvh, origins, directions, NEAR, FAR),
            lambda: embree.run(origins, directions, query="INTERSECT"),
        ),
        "any hit": (
            lambda: any_hits(scene.bvh, origins, directions, NEAR, FAR),
            lambda: embree.run(origins, directions, query="OCCLUDED"),
        ),
    }
    result = []
    for name, (ours, theirs) in pairs.items():
        ours(), theirs()
        times = [(_timed(ours), _timed(theirs)) for _ in range(ROUNDS)]
        ratio = statistics.median(b / a for a, b in times)
        rates = [RAYS / statistics.median(t[k] for t in times) / 1e6 for k in (0, 1)]
        result.append(f"{name} {ratio:.2f} of Embree ({rates[0]:.2f} against {rates[1]:.2f} million rays/s)")
    return "; ".join(result)


def build() -> str:
    """A million triangles in clusters of many sizes, one thread."""
    rng = np.random.default_rng(2)
    centres = rng.normal(0.0, 20.0, (1000, 1, 1, 3)) + rng.normal(0.0, 0.5, (1, 1000, 1, 3))
    triangles = (centres + rng.normal(0.0, 0.02, (1000, 1000, 3, 3))).reshape(-1, 3, 3).astype(np.float32)
    build_bvh(triangles[:100])
    seconds = statistics.median(_timed(lambda: build_bvh(triangles)) for _ in range(3))
    return f"{len(triangles) / seconds / 1e3:.0f} thousand triangles/s"
