"""Many lights, and glow against aim: what each costs in time and in noise."""

import time

import numpy as np

from sivrel.core.render.film import DIRECT, film_columns
from sivrel.core.render.frame import Frame, assemble
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tiles import render_tiles
from sivrel.core.render.warmup import warm_up
from sivrel.core.scene.model import Camera, Light, Mesh, Scene, Surface

COUNTS = (1, 10, 100, 1000)
SIZE = (96, 54)


def _floor(half: float = 20.0, z: float = 0.0, surface: int = 0, down: bool = False, aimed: bool = False) -> Mesh:
    corners = np.array([(-half, -half, z), (half, -half, z), (half, half, z), (-half, half, z)], np.float32)
    order = [(0, 2, 1), (0, 3, 2)] if down else [(0, 1, 2), (0, 2, 3)]
    normal = np.array([0.0, 0.0, -1.0 if down else 1.0], np.float32)
    uvs = np.zeros((2, 3, 2), np.float32)
    return Mesh.of(
        f"plane {z}", corners[np.array(order)], np.broadcast_to(normal, (2, 3, 3)).copy(), uvs, np.full(2, surface, np.uint32), aimed=aimed
    )


def _lanterns(count: int) -> list[Light]:
    rng = np.random.default_rng(7)
    places = np.column_stack([rng.uniform(-10, 10, (count, 2)), rng.uniform(0.5, 3.0, count)])
    power = 400.0 / count
    return [Light(f"lantern {k}", "sphere", (power,) * 3, tuple(map(float, p)), radius=0.05) for k, p in enumerate(places)]


def _measured(scene: Scene, **settings: object) -> tuple[float, float]:
    """(seconds of one thread, noise: root mean variance over the mean) of a scene's direct light."""
    recipe = with_values(Recipe(), {"gi.seen": "off", "sampling.max": 16, **{k.replace("__", "."): v for k, v in settings.items()}})
    ready, tiles = prepare(scene, recipe), {}
    begun = time.perf_counter()
    render_tiles(ready.arrays, ready.camera, recipe, Frame(*SIZE), tiles.__setitem__, threads=1)
    seconds = time.perf_counter() - begun
    film = assemble(Frame(*SIZE), film_columns(ready.arrays.slots), tiles)
    return seconds, float(np.sqrt(film[..., 14].mean()) / film[..., DIRECT].mean())


def lanterns() -> str:
    """1 to 1000 lanterns over a floor, all evaluated or four chosen through the tree: seconds, and noise in equal time."""
    warm_up()
    camera = Camera("over", np.array([[1.0, 0, 0, 0], [0, 0.6, -0.8, -6.0], [0, 0.8, 0.6, 6.0]]), 0.7)
    result = []
    for count in COUNTS:
        scene = Scene("lanterns", [_floor()], [Surface("plain", (0.6,) * 3, ior=1.0)], _lanterns(count), [camera])
        every, chosen = _measured(scene), _measured(scene, lights__seen="chosen", lights__draws=4)
        equal = every[1] * np.sqrt(every[0]) / (chosen[1] * np.sqrt(chosen[0]))
        result.append(f"{count}: all {every[0]:.2f} s, chosen {chosen[0]:.2f} s, error in equal time {equal:.2f} to 1")
    return "; ".join(result)


def glow() -> str:
    """A panel of 2 cm at 2 m that merely glows, against the same aimed at: error in equal time."""
    warm_up()
    camera = Camera("down", np.array([[1.0, 0, 0, 0], [0, 1.0, 0, 0], [0, 0, 1.0, 1.0]]), 0.5)
    errors = {}
    for aimed in (False, True):
        surfaces = [Surface("plain", (0.6,) * 3, ior=1.0), Surface("panel", (0.0,) * 3, ior=1.0, emission=(1e4,) * 3)]
        scene = Scene("panel", [_floor(), _floor(0.01, 2.0, 1, True, aimed)], surfaces, [], [camera])
        seconds, noise = _measured(scene, sampling__max=256)
        errors[aimed] = noise * np.sqrt(seconds)
    return f"aiming leaves {errors[False] / errors[True]:.0f} times less error in equal time"
