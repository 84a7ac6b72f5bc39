"""Whole renders: the draft, two threads against one, the click, the first compile."""

import math
import os
import statistics
import subprocess
import sys
import tempfile
import time

import numpy as np

from sivrel.core.formats.scenes import read_scene
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.render.film import film_columns
from sivrel.core.render.filter import filter_noise
from sivrel.core.render.frame import Frame, assemble
from sivrel.core.render.passes import film_passes
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tile import EYE_FLOOR
from sivrel.core.render.tiles import render_tiles
from sivrel.core.render.warmup import warm_up
from sivrel.demo.shots import find_shot

DRAFT = with_values(Recipe(), {"sampling.max": 8, "limits.diffuse_bounces": 4})


def _kitchen():
    warm_up()
    scene = read_scene(find_shot("demo:keepers-kitchen"))
    arrays = pack_scene(scene)

    def render(threads: int) -> float:
        begun = time.perf_counter()
        render_tiles(arrays, scene.camera(), DRAFT, Frame(480, 270), lambda *_: None, threads=threads)
        return time.perf_counter() - begun

    return render


def draft() -> str:
    """The kitchen at 480x270, 8 samples, 4 bounces, everything warm."""
    render = _kitchen()
    times = [render(os.cpu_count() or 1) for _ in range(5)]
    return f"{statistics.median(times):.2f} s on {os.cpu_count()} cores (of {min(times):.2f} to {max(times):.2f})"


def threads() -> str:
    """The same draft on one and two threads, in turn."""
    render = _kitchen()
    return f"{statistics.median(render(1) / render(2) for _ in range(5)):.2f} times one thread"


def adaptive() -> str:
    """Time of a noise target over that of even samples at the same error, on demo shots, against two long renders.

    Error: mean square of the luminance relative to what the eye takes, as `sampling.noise_target` means it; as the product
    with two references of different seeds, so that their own noise drops out on average. Times at equal error follow from
    error² x time, which a longer render leaves as it is. Time is the processor's: other programs do not count in it.
    """
    warm_up()
    result = []
    for name, target in (("keepers-kitchen", 40.0), ("slipway", 12.0), ("lamp-room", 30.0)):
        shot = _Shot(name)
        first, second = shot.luminance(7, max=512)[1], shot.luminance(8, max=512)[1]
        scale = (first + second) / 2.0 + EYE_FLOOR / 2**shot.camera.exposure
        costs = []
        for sampling in ({"max": 64}, {"max": 512, "min": 8, "noise_target": target}):
            seconds, seen = shot.luminance(0, **sampling)
            costs.append(float(np.mean((seen - first) * (seen - second) / scale**2)) * seconds)
        result.append(f"{name} {costs[1] / costs[0]:.2f}")
    return "; ".join(result) + " of the time at equal error"


class _Shot:
    """A demo shot, small, to measure errors on."""

    def __init__(self, name: str) -> None:
        self.scene = read_scene(find_shot(f"demo:{name}"))
        self.camera, self.arrays = self.scene.camera(), pack_scene(self.scene)

    def passes(self, seed: int, size: tuple[int, int] = (160, 90), **sampling: float) -> tuple[float, dict[str, np.ndarray]]:
        """(seconds of the processor, passes) of a render."""
        recipe = with_values(Recipe(), {f"sampling.{key}": value for key, value in sampling.items()})
        frame, tiles = Frame(*size, seed=seed), {}
        begun = time.process_time()
        render_tiles(self.arrays, self.camera, recipe, frame, tiles.__setitem__, threads=os.cpu_count() or 1)
        seconds = time.process_time() - begun
        return seconds, film_passes(assemble(frame, film_columns(self.arrays.slots), tiles), [], self.arrays)

    def luminance(self, seed: int, **sampling: float) -> tuple[float, np.ndarray]:
        seconds, passes = self.passes(seed, **sampling)
        return seconds, passes["beauty"][..., :3] @ np.array([0.2126, 0.7152, 0.0722])


def noise_filter() -> str:
    """Error of a filtered draft over that of an unfiltered one that took as long as draft and filter together, on all demo shots.

    Error: root mean square of the linear values relative to the reference's luminance with the eye's floor, each pixel counted up to
    one, so that a few fireflies do not decide; against one long render.
    """
    warm_up()
    result = []
    for name in ("keepers-kitchen", "slipway", "lamp-room"):
        shot, size = _Shot(name), (240, 135)
        reference = shot.passes(7, size, max=1024)[1]["beauty"][..., :3]
        scale = (reference @ np.array([0.2126, 0.7152, 0.0722]))[..., None] + EYE_FLOOR / 2**shot.camera.exposure

        def error(image: np.ndarray, reference: np.ndarray = reference, scale: np.ndarray = scale) -> float:
            return float(np.sqrt(np.mean(np.minimum(((image - reference) / scale) ** 2, 1.0))))

        seconds, passes = shot.passes(0, size, max=16)
        filter_noise(passes)  # compiled by now
        begun = time.process_time()
        filtered = filter_noise(passes)
        longer = 16 * (seconds + time.process_time() - begun) / seconds
        unfiltered = shot.passes(0, size, max=math.ceil(longer))[1]["beauty"][..., :3]
        result.append(f"{name} {error(filtered.image) / error(unfiltered):.2f} (smeared {filtered.smeared:.1%})")
    return "; ".join(result) + " of the unfiltered error at equal time"


def cold_compile() -> str:
    """A new process with an empty kernel cache, to the first pixel."""
    with tempfile.TemporaryDirectory() as cache:
        begun = time.perf_counter()
        script = "from sivrel.core.render.warmup import warm_up; warm_up()"
        subprocess.run([sys.executable, "-c", script], env={**os.environ, "XDG_CACHE_HOME": cache}, check=True)
        return f"{time.perf_counter() - begun:.0f} s"
