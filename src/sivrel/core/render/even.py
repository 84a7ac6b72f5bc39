"""Render a frame evenly until a time limit: in rounds over the whole picture, each of which doubles the samples of every pixel."""

import math
import time
from collections.abc import Callable
from typing import Any

import numpy as np

from ..scene.arrays import SceneArrays
from ..scene.model import Camera
from ..task import Task
from .film import SAMPLES
from .frame import Frame
from .recipe import Recipe
from .tiles import render_tiles

MOST_SAMPLES = 1 << 16
SAFE = 0.97
"""Share of the remaining time that the last round may take."""
WORTH_IT = 0.02
"""Least share of samples that a last round must add to be worth it."""


def render_even(
    scene: SceneArrays,
    camera: Camera,
    recipe: Recipe,
    frame: Frame,
    seconds: float,
    on_tile: Callable[[int, np.ndarray], None],
    *,
    films: dict[int, np.ndarray] | None = None,
    task: Task | None = None,
    now: Callable[[], float] = time.monotonic,
    on_round: Callable[[int], None] = lambda samples: None,
    **how: Any,
) -> None:
    """Render all of `frame` until `seconds` have passed by the clock `now`, at least one sample per pixel. Raises Cancelled, which leaves some tiles
    a round ahead of others.

    `on_tile(index, film)` is called after each tile of a round, `on_round(samples)` when every pixel has that many. Rounds double the
    samples, since powers of two are the best distributed; the last takes what fits into the remaining time. `films`: by tile,
    the films of an earlier call with the same recipe and frame, to continue. A sample depends on scene, recipe and frame alone; how
    many there are depends on the clock.
    """
    begun, kept = now(), dict(films or {})
    count = len(frame.tiles())

    def keep(index: int, film: np.ndarray) -> None:
        kept[index] = film
        on_tile(index, film)

    level, rate = _least(kept, count), math.inf
    wanted = max(level, 1, *(_samples(film) for film in kept.values()), 1)
    while True:
        started, missing = now(), sum(wanted - (_samples(kept[k]) if k in kept else 0) for k in range(count)) / count
        done = [k for k, film in kept.items() if _samples(film) >= wanted]
        render_tiles(scene, camera, recipe, frame, keep, finished=done, before=kept, samples=wanted, task=task, **how)
        level = wanted
        on_round(level)
        if missing > 0.0:
            rate = (now() - started) / missing
        left = seconds - (now() - begun)
        fits = int(left * SAFE / rate) if rate > 0.0 and math.isfinite(rate) else (level if left > 0.0 else 0)
        more = min(level, fits, MOST_SAMPLES - level)
        if more < max(1.0, WORTH_IT * level):
            return
        wanted = level + more


def _samples(film: np.ndarray) -> int:
    """The fewest samples of any pixel of a tile."""
    return int(film[..., SAMPLES].min())


def _least(kept: dict[int, np.ndarray], count: int) -> int:
    return min(map(_samples, kept.values())) if len(kept) == count else 0
