"""Renders that are measured: a part of a frame, or blocks of it that stand for the whole."""

import os
import time
from dataclasses import dataclass

import numpy as np

from ..measure.noise import LUMINANCE
from ..render.film import SAMPLES, clock_entries, film_beauty, film_columns
from ..render.frame import Cancel, Frame, assemble, render_tiles
from ..render.prepare import Prepared
from ..render.recipe import Recipe

BLOCK = 16
"""Pixels a side of the blocks that stand for a frame."""


@dataclass(frozen=True)
class Scattered(Frame):
    """A frame of which only some blocks (x0, y0, x1, y1) are rendered."""

    blocks: tuple[tuple[int, int, int, int], ...] = ()

    @property
    def pixels(self) -> int:
        return sum((x1 - x0) * (y1 - y0) for x0, y0, x1, y1 in self.blocks)

    def tiles(self) -> list[tuple[int, int, int, int]]:
        return list(self.blocks)


def scattered(frame: Frame, pixels: int, seed: int) -> Scattered:
    """About `pixels` of a frame's window in blocks, spread evenly over it: every kth of those in a line to and fro, from a start by chance
    (systematic sampling; Cochran 1977, "Sampling Techniques", chapter 8). All of it where it has no more."""
    x0, y0, x1, y1 = frame.window
    rows = [
        [(x, y, min(x + BLOCK, x1), min(y + BLOCK, y1)) for x in range(x0, x1, BLOCK)][:: 1 if (y - y0) // BLOCK % 2 == 0 else -1]
        for y in range(y0, y1, BLOCK)
    ]
    line = [box for row in rows for box in row]
    step = max(1.0, len(line) * BLOCK * BLOCK / max(pixels, 1))
    start = np.random.default_rng(seed).uniform(0.0, step)
    places = np.arange(start, len(line), step).astype(int)
    return Scattered(frame.width, frame.height, frame.region, frame.seed, tuple(line[k] for k in (places if len(places) else [len(line) // 2])))


@dataclass
class Taken:
    """What a render gave. films: float32 [rows, columns, film columns], one of the whole window, or one of each block; seconds that its pixels
    took; clock: the processor's cycles, as render_tiles fills it; pixels: how many."""

    films: list[np.ndarray]
    seconds: float
    clock: np.ndarray
    pixels: int

    @property
    def film(self) -> np.ndarray:
        return self.films[0]

    @property
    def colours(self) -> list[np.ndarray]:
        """Linear colour [rows, columns, 3] of each film."""
        return [film_beauty(film).astype(np.float64) for film in self.films]

    @property
    def lights(self) -> list[np.ndarray]:
        """Luminance [rows, columns] of each film."""
        return [colour @ LUMINANCE for colour in self.colours]

    @property
    def samples(self) -> float:
        """Samples a pixel in the mean."""
        return float(sum(film[..., SAMPLES].sum() for film in self.films)) / self.pixels


def take(ready: Prepared, recipe: Recipe, frame: Frame, cancel: Cancel) -> Taken | None:
    """Render a frame, or blocks of it, on all cores; None when cancelled."""
    clock, tiles, begun = np.zeros(clock_entries(ready.arrays.slots)), dict[int, np.ndarray](), time.monotonic()
    if not render_tiles(ready.arrays, ready.camera, recipe, frame, tiles.__setitem__, threads=os.cpu_count() or 1, clock=clock, cancel=cancel):
        return None
    seconds = time.monotonic() - begun
    if isinstance(frame, Scattered):
        films = [tiles[k] for k in range(len(frame.blocks))]
    else:
        films = [assemble(frame, film_columns(ready.arrays.slots), tiles)]
    return Taken(films, seconds, clock, frame.pixels)
