"""Compiling the kernels ahead of the first render, with progress."""

import contextlib
import functools
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numba.core import event

from ..edits.edits import Edits, with_edits
from ..gi.ways import PREPARING, SEEN
from ..kernel import KERNELS
from ..kernel_cache import thin_out
from ..scene.model import Camera, Light, Mesh, Scene, Surface
from .frame import Frame
from .prepare import points_seen, prepare
from .reach import what_reaches
from .recipe import Recipe, with_values
from .tiles import render_tiles


def is_warm() -> bool:
    """Whether the kernels are compiled and loaded in this process."""
    from .integrator import trace_paths

    return bool(trace_paths.signatures)


@dataclass(frozen=True)
class Stage:
    """Kernels that are compiled together. key: of a way that needs them, or one of the others below; title: in words; weight: share of the
    whole compile time (measured on two cores), to estimate the time left."""

    key: str
    title: str
    weight: float
    compile: Callable[[], None]


def warm_up(progress: Callable[[int, int, str], None] | None = None) -> None:
    """Compile every kernel, or load it from the cache; calls `progress(compiled, total, name)` after each one."""
    with compiling(progress):
        for stage in STAGES.values():
            stage.compile()
    thin_out()


@contextlib.contextmanager
def compiling(progress: Callable[[int, int, str], None] | None) -> Iterator[None]:
    """Report each kernel that is compiled meanwhile, in any thread."""
    listener = _Progress(progress) if progress else None
    if listener:
        event.register("numba:compile", listener)
    try:
        yield
    finally:
        if listener:
            event.unregister("numba:compile", listener)


def stages_of(recipe: Recipe, edits: Edits) -> list[str]:
    """Keys of the stages that a render by a recipe needs, in the order of STAGES."""
    maps = recipe.shadows.way == "depth_map" or any(light.shadows.way == "depth_map" for light in edits.lights.values())
    needed = {PATHS, *(way.key for way in recipe.preparing()), *([DEPTH_MAPS] if maps else [])}
    return [key for key in STAGES if key in needed]


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


PATHS, DEPTH_MAPS, REACH = "paths", "depth_maps", "reach"


def _smallest_scene() -> tuple[Scene, Camera, Recipe]:
    corners = np.array([[[-1, -1, 0], [1, -1, 0], [1, 1, 0]]], np.float32)
    up = np.broadcast_to(np.array([0, 0, 1], np.float32), (1, 3, 3))
    mesh = Mesh.of("triangle", corners, up, np.zeros((1, 3, 2), np.float32), np.zeros(1, np.uint32))
    scene = Scene("warm-up", [mesh], [Surface()], [Light("sky", "dome")])
    camera = Camera("camera", np.array([[1.0, 0, 0, 0], [0, 1, 0, 0], [0, 0, 1, 3]]), 0.5)
    scene.cameras.append(camera)
    return scene, camera, with_values(Recipe(), {"sampling.max": 1, "shadows.resolution": 16})


def _compile_paths() -> None:
    scene, camera, recipe = _smallest_scene()
    ready = prepare(scene, recipe, Edits())
    for target in (0.0, 50.0):
        render_tiles(ready.arrays, camera, with_values(recipe, {"sampling.noise_target": target}), Frame(2, 2), lambda *_: None)


def _compile_depth_maps() -> None:
    scene, _, recipe = _smallest_scene()
    prepare(scene, recipe, with_edits(Edits(), {"light.lamp.kind": "point", "light.lamp.at": "0,0,1", "light.lamp.shadows.way": "depth_map"}))


def _compile_reach() -> None:
    scene, camera, recipe = _smallest_scene()
    ready = prepare(scene, recipe, Edits())
    what_reaches(ready, (2, 2), 1.0, 1.0)
    points_seen(ready.arrays, camera)


def _compile_way(key: str) -> None:
    """The kernels that make, load and check the cache of a way, for all places where it can be used."""
    scene, _, recipe = _smallest_scene()
    small = {f"{way.key}.{name}": value for way in PREPARING.values() for name, value in way.small.items() if way.key == key}
    seen = key if key in SEEN else "brute_force"
    prepare(scene, with_values(recipe, {**small, "gi.seen": seen}), frame=Frame(8, 8))


WEIGHTS = {
    PATHS: 0.46, DEPTH_MAPS: 0.03, REACH: 0.06, "irradiance_cache": 0.09, "photon_map": 0.1, "baked": 0.07, "radiance_cache": 0.05, "caustics": 0.05,
    "guiding": 0.06, "bidirectional": 0.03,
}  # fmt: skip
"""Shares of the compile time."""
STAGES = {
    stage.key: stage
    for stage in (
        Stage(PATHS, "light paths", WEIGHTS[PATHS], _compile_paths),
        Stage(DEPTH_MAPS, "depth maps", WEIGHTS[DEPTH_MAPS], _compile_depth_maps),
        Stage(REACH, "light reach", WEIGHTS[REACH], _compile_reach),
        *(Stage(way.key, way.title, WEIGHTS.get(way.key, 0.05), functools.partial(_compile_way, way.key)) for way in PREPARING.values()),
    )
}
"""All stages in the order in which a user can need them."""


class Warming:
    """Compiles the stages in order; a stage that something waits for is compiled at once by `need`.

    The thread that compiles behind has the priority of the others: with a lower one, on a busy machine, it would hardly run while it holds the
    interpreter or a stage, and the whole process would wait for it.

    report(title, left): what is being compiled behind, and about how many seconds all of it will take; an empty title when it is done.
    """

    def __init__(self, report: Callable[[str, float], None] = lambda title, left: None) -> None:
        self.report, self.ended = report, set[str]()
        self.locks = {key: threading.Lock() for key in STAGES}
        self.waiting, self.begun = 0, time.monotonic()

    def need(self, keys: Iterable[str], say: Callable[[str], None] = lambda title: None) -> None:
        """Compile some stages now, unless they are compiled already; `say(title)` names each that has to be waited for."""
        for key in keys:
            if key not in self.ended:
                say(STAGES[key].title)
                self.waiting += 1
                try:
                    self._compile(key)
                finally:
                    self.waiting -= 1

    def compile_rest(self) -> None:
        """Compile what is left, behind everything else: while a stage is needed elsewhere, no other begins."""
        for stage in STAGES.values():
            while self.waiting:
                time.sleep(0.1)
            if stage.key not in self.ended:
                self.report(stage.title, self.seconds_left())
                self._compile(stage.key)
        self.report("", 0.0)
        thin_out()

    def seconds_left(self) -> float:
        """About how long the stages that are left will take, by what those before took; 0 while none is compiled."""
        made = sum(STAGES[key].weight for key in self.ended)
        left = sum(stage.weight for key, stage in STAGES.items() if key not in self.ended)
        return (time.monotonic() - self.begun) * left / made if made else 0.0

    def _compile(self, key: str) -> None:
        with self.locks[key]:
            if key not in self.ended:
                STAGES[key].compile()
                self.ended.add(key)
