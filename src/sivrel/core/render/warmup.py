"""Compiling the kernels ahead of the first render, with progress."""

from collections.abc import Callable
from typing import Any

import numpy as np
from numba.core import event

from ..edits.edits import Edits, with_edits
from ..gi.ways import PREPARING, SEEN
from ..kernel import KERNELS
from ..kernel_cache import thin_out
from ..scene.model import Camera, Light, Mesh, Scene, Surface
from .frame import Frame, render_tiles
from .prepare import points_seen, prepare
from .reach import what_reaches
from .recipe import Recipe, with_values


def is_warm() -> bool:
    """Whether the kernels are compiled and loaded in this process."""
    from .integrator import trace_paths

    return bool(trace_paths.signatures)


def warm_up(progress: Callable[[int, int, str], None] | None = None) -> None:
    """Compile every kernel, or load it from the cache; calls `progress(compiled, total, name)` after each one."""
    listener = _Progress(progress) if progress else None
    if listener:
        event.register("numba:compile", listener)
    try:
        _render_smallest_scene()
    finally:
        if listener:
            event.unregister("numba:compile", listener)
    thin_out()


class _Progress(event.Listener):  # type: ignore[misc]
    def __init__(self, progress: Callable[[int, int, str], None]) -> None:
        self.progress = progress
        self.names: set[str] = set()

    def on_start(self, started: Any) -> None:
        pass

    def on_end(self, ended: Any) -> None:
        compiled = ended.data["dispatcher"]
        # Numba's own helpers are not counted. A kernel may be compiled for two types.
        if compiled in KERNELS:
            self.names.add(compiled.py_func.__qualname__)
            self.progress(len(self.names), len(KERNELS), compiled.py_func.__name__)


def _render_smallest_scene() -> None:
    corners = np.array([[[-1, -1, 0], [1, -1, 0], [1, 1, 0]]], np.float32)
    up = np.broadcast_to(np.array([0, 0, 1], np.float32), (1, 3, 3))
    mesh = Mesh("triangle", corners, up, np.zeros((1, 3, 2), np.float32), np.zeros(1, np.uint32))
    scene = Scene("warm-up", [mesh], [Surface()], [Light("sky", "dome")])
    camera = Camera("camera", np.array([[1.0, 0, 0, 0], [0, 1, 0, 0], [0, 0, 1, 3]]), 0.5)
    scene.cameras.append(camera)
    recipe = with_values(Recipe(), {"sampling.max": 1, "shadows.resolution": 16})
    # Kernels outside the pixel loop: a depth map, and light reach.
    edits = with_edits(Edits(), {"light.lamp.kind": "point", "light.lamp.at": "0,0,1", "light.lamp.shadows.way": "depth_map"})
    ready = prepare(scene, recipe, edits)
    for target in (0.0, 50.0):
        render_tiles(ready.arrays, camera, with_values(recipe, {"sampling.noise_target": target}), Frame(2, 2), lambda *_: None)
    what_reaches(ready, (2, 2), 1.0, 1.0)
    _prepare_every_way(scene, recipe)
    points_seen(ready.arrays, camera)


def _prepare_every_way(scene: Scene, recipe: Recipe) -> None:
    small = {f"{way.key}.{name}": value for way in PREPARING.values() for name, value in way.small.items()}
    for way in SEEN.values():
        if way.make is not None:
            prepare(scene, with_values(recipe, {**small, "gi.seen": way.key}), frame=Frame(8, 8))
