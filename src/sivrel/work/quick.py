"""Quick pictures: of a whole region at once, coarse first, then finer."""

import math
import time
from collections.abc import Callable, Iterator
from typing import Any

import numpy as np

from ..core.gi.ways import EXTRAS
from ..core.render.filter import LIGHT, PARTS, filter_quickly, parts_of
from ..core.render.frame import Frame, assemble
from ..core.render.prepare import Prepared
from ..core.render.recipe import Recipe, with_values
from ..core.render.tiles import render_tiles
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


def without_caches(recipe: Recipe) -> Recipe:
    """The recipe with brute force in place of what must be prepared: for a look at a picture whose caches are not made yet."""
    made = {way.key for way in recipe.preparing()}
    plain: dict[str, Any] = {f"{way.key}.on": "no" for way in EXTRAS if way.key in made}
    plain |= {key: "brute_force" for key, way in {"gi.seen": recipe.gi.seen, "gi.beyond": recipe.gi.beyond}.items() if way in made}
    return with_values(recipe, plain)


def parts_at(ready: Prepared, recipe: Recipe, frame: Frame, samples: int, threads: int, task: Task) -> np.ndarray:
    """A frame at that many samples per pixel, as `filter_quickly` takes it, float32 [rows, columns, PARTS]. Raises Cancelled."""
    plain = with_values(recipe, {"sampling.max": samples, "sampling.noise_target": 0})
    tiles: dict[int, np.ndarray] = {}

    def keep(index: int, film: np.ndarray) -> None:
        tiles[index] = parts_of(film)

    render_tiles(ready.arrays, ready.camera, plain, frame, keep, threads=threads, task=task, shutter=ready.shutter)
    return assemble(frame, PARTS, tiles)


def spread(coarse: np.ndarray, of: Frame, frame: Frame, step: int, smooth: bool = False) -> np.ndarray:
    """A picture of coarser(frame, step) at the pixels of the finer frame's window: as blocks, or blended between their middles."""
    for axis, (first, last) in enumerate(((frame.window[1], frame.window[3]), (frame.window[0], frame.window[2]))):
        begin, count = of.window[1 - axis], coarse.shape[axis]
        if not smooth:
            coarse = np.take(coarse, np.arange(first, last) // step - begin, axis=axis)
            continue
        at = np.clip((np.arange(first, last) + 0.5) / step - 0.5 - begin, 0.0, count - 1.0)
        low = np.minimum(at.astype(int), max(0, count - 2))
        share = (at - low).astype(np.float32).reshape((-1, 1, 1) if axis == 0 else (1, -1, 1))
        coarse = np.take(coarse, low, axis=axis) * (1.0 - share) + np.take(coarse, np.minimum(low + 1, count - 1), axis=axis) * share
    return coarse


def sketch(ready: Prepared, recipe: Recipe, frame: Frame, step: int, threads: int, task: Task) -> np.ndarray:
    """One sample for each `step` x `step` pixels: `parts_at` the pixels of the coarser frame. Raises Cancelled."""
    return parts_at(ready, recipe, coarser(frame, step), 1, threads, task)


def finer_and_finer(
    ready: Prepared, recipe: Recipe, frame: Frame, step: int, threads: int, task: Task, timed: Callable[[float], None], filtering: bool = False
) -> Iterator[tuple[np.ndarray, float]]:
    """Pictures float32 [rows, columns, 3] of a frame's window, each with its samples per pixel: first one for each `step` x `step` pixels, then
    finer, then with more and more samples, up to the recipe's; filtered, if `filtering`. `timed` receives samples per second. Raises Cancelled."""
    pixels = (frame.window[2] - frame.window[0]) * (frame.window[3] - frame.window[1])

    def shown(parts: np.ndarray) -> np.ndarray:
        return filter_quickly(parts) if filtering else parts[..., LIGHT]

    while step > 1:
        coarse = sketch(ready, recipe, frame, step, threads, task)
        yield spread(shown(coarse), coarser(frame, step), frame, step, smooth=filtering), 1.0 / step**2
        step //= 2
    total, taken, round_ = np.zeros(0), 0, 0
    while taken < recipe.sampling.max:
        samples = min(max(1, taken), recipe.sampling.max - taken)
        begun = time.monotonic()
        seed = (frame.seed + round_) % (1 << 32)
        parts = parts_at(ready, recipe, Frame(frame.width, frame.height, frame.region, seed), samples, threads, task)
        timed(pixels * samples / max(time.monotonic() - begun, 1e-6))
        total = parts.astype(np.float64) * samples if taken == 0 else total + parts * samples
        taken, round_ = taken + samples, round_ + 1
        yield shown((total / taken).astype(np.float32)), float(taken)
