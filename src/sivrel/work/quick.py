"""Quick pictures: of a whole region at once, coarse first, then finer."""

import math
import time
from collections.abc import Callable, Iterator

import numpy as np

from ..core.render.film import film_beauty
from ..core.render.frame import Frame, assemble, render_tiles
from ..core.render.prepare import Prepared
from ..core.render.recipe import Recipe, with_values
from ..core.task import Task

COARSEST = 16


def coarser(frame: Frame, step: int) -> Frame:
    """A frame with one pixel for each `step` x `step` of another; its region covers at least the other's."""
    region = None
    if frame.region:
        x0, y0, x1, y1 = frame.region
        region = (x0 // step, y0 // step, math.ceil(x1 / step), math.ceil(y1 / step))
    return Frame(math.ceil(frame.width / step), math.ceil(frame.height / step), region, frame.seed)


def step_for(frame: Frame, most_pixels: float) -> int:
    """The least power of two by which to coarsen a frame to at most that many pixels."""
    x0, y0, x1, y1 = frame.window
    step = 1
    while (x1 - x0) * (y1 - y0) / step**2 > most_pixels and step < COARSEST:
        step *= 2
    return step


def beauty_of(ready: Prepared, recipe: Recipe, frame: Frame, samples: int, threads: int, task: Task) -> np.ndarray:
    """Beauty float32 [rows, columns, 3] of a frame at that many samples per pixel. Raises Cancelled."""
    plain = with_values(recipe, {"sampling.max": samples, "sampling.noise_target": 0})
    tiles: dict[int, np.ndarray] = {}

    def keep(index: int, film: np.ndarray) -> None:
        tiles[index] = film_beauty(film)

    render_tiles(ready.arrays, ready.camera, plain, frame, keep, threads=threads, task=task)
    return assemble(frame, 3, tiles)


def spread(coarse: np.ndarray, of: Frame, frame: Frame, step: int) -> np.ndarray:
    """A picture of coarser(frame, step) at the pixels of the finer frame's window."""
    x0, y0, x1, y1 = frame.window
    left, top = of.window[:2]
    rows, columns = np.arange(y0, y1) // step - top, np.arange(x0, x1) // step - left
    return coarse[rows[:, None], columns[None, :]]


def sketch(ready: Prepared, recipe: Recipe, frame: Frame, step: int, threads: int, task: Task) -> np.ndarray:
    """One sample for each `step` x `step` pixels, at the pixels of the window. Raises Cancelled."""
    of = coarser(frame, step)
    return spread(beauty_of(ready, recipe, of, 1, threads, task), of, frame, step)


def finer_and_finer(
    ready: Prepared, recipe: Recipe, frame: Frame, step: int, threads: int, task: Task, timed: Callable[[float], None]
) -> Iterator[tuple[np.ndarray, float]]:
    """Pictures float32 [rows, columns, 3] of a frame's window, each with its samples per pixel: first one for each `step` x `step` pixels, then
    finer, then with more and more samples, up to the recipe's. `timed` receives samples per second. Raises Cancelled."""
    pixels = (frame.window[2] - frame.window[0]) * (frame.window[3] - frame.window[1])
    while step > 1:
        yield sketch(ready, recipe, frame, step, threads, task), 1.0 / step**2
        step //= 2
    total, taken, round_ = np.zeros(0), 0, 0
    while taken < recipe.sampling.max:
        samples = min(max(1, taken), recipe.sampling.max - taken)
        begun = time.monotonic()
        seed = (frame.seed + round_) % (1 << 32)
        picture = beauty_of(ready, recipe, Frame(frame.width, frame.height, frame.region, seed), samples, threads, task)
        timed(pixels * samples / max(time.monotonic() - begun, 1e-6))
        total = picture.astype(np.float64) * samples if taken == 0 else total + picture * samples
        taken, round_ = taken + samples, round_ + 1
        yield (total / taken).astype(np.float32), float(taken)
