"""Measured renders: a part of a frame, or blocks that represent all of it."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from .. import machine
from ..measure.noise import LUMINANCE
from ..render.film import CLOCK_PAIRS, SAMPLES, clock_entries, film_beauty, film_columns
from ..render.frame import Frame, assemble, pair_share
from ..render.prepare import Prepared
from ..render.recipe import Recipe
from ..render.tiles import render_tiles
from ..task import Task
from ..work_time import work_time

BLOCK = 8
"""Side in pixels of the blocks that represent a frame."""
EVEN_SHARE = 0.4
"""Share of the blocks that are chosen regardless of their worth."""


@dataclass(frozen=True)
class Scattered(Frame):
    """A frame of which only some blocks (x0, y0, x1, y1) are rendered; weights: number of frame pixels that each block pixel represents."""

    blocks: tuple[tuple[int, int, int, int], ...] = ()
    weights: tuple[float, ...] = ()

    @property
    def pixels(self) -> int:
        return sum((x1 - x0) * (y1 - y0) for x0, y0, x1, y1 in self.blocks)

    def tiles(self) -> list[tuple[int, int, int, int]]:
        return list(self.blocks)


def scattered(frame: Frame, pixels: int, seed: int, worth: np.ndarray | None = None, side: int = BLOCK) -> Scattered:
    """About `pixels` of a frame's window in blocks of `side`, at even steps from a random start along a back-and-forth line (systematic
    sampling; Cochran 1977, "Sampling Techniques", chapter 8). With `worth`, [rows, columns] over the whole frame, important blocks are
    more likely and represent fewer pixels (Hansen & Hurwitz 1943, "On the Theory of Sampling from Finite Populations"). The whole window if it has no
    more."""
    x0, y0, x1, y1 = frame.window
    rows = [
        [(x, y, min(x + side, x1), min(y + side, y1)) for x in range(x0, x1, side)][:: 1 if (y - y0) // side % 2 == 0 else -1]
        for y in range(y0, y1, side)
    ]
    line = [box for row in rows for box in row]
    count = max(1, round(len(line) * pixels / frame.pixels))
    if count >= len(line):
        return Scattered(frame.width, frame.height, frame.region, frame.seed, frame.time, tuple(line), (1.0,) * len(line))
    chance = np.full(len(line), 1.0 / len(line))
    if worth is not None:
        middles = np.array([((left + right) / 2.0, (top + bottom) / 2.0) for left, top, right, bottom in line])
        at = (middles / [frame.width, frame.height] * [worth.shape[1], worth.shape[0]]).astype(int)
        own = np.maximum(worth[np.minimum(at[:, 1], worth.shape[0] - 1), np.minimum(at[:, 0], worth.shape[1] - 1)], 0.0)
        if own.sum() > 0.0:
            chance = EVEN_SHARE * chance + (1.0 - EVEN_SHARE) * own / own.sum()
    marks = (np.arange(count) + np.random.default_rng(seed).uniform()) / count
    places, times = np.unique(np.searchsorted(np.cumsum(chance), marks * (1.0 - 1e-12)), return_counts=True)
    weights = times / (count * chance[places])
    areas = np.array([(line[k][2] - line[k][0]) * (line[k][3] - line[k][1]) for k in places])
    weights = weights * frame.pixels / float((weights * areas).sum())
    blocks = tuple(line[k] for k in places)
    return Scattered(frame.width, frame.height, frame.region, frame.seed, frame.time, blocks, tuple(weights.tolist()))


@dataclass
class Taken:
    """The result of a render. films: float32 [rows, columns, film columns], one of the whole window, or one per block; seconds that its pixels
    would take for a whole frame; clock: the processor's cycles, as render_tiles fills it, and cycles: those of each film; weights: how
    many frame pixels each film pixel represents; once: share of the cycles that does not grow with the frame."""

    films: list[np.ndarray]
    seconds: float
    clock: np.ndarray
    cycles: list[float]
    weights: tuple[float, ...]
    once: float = 1.0

    @property
    def pixels(self) -> int:
        return sum(film.shape[0] * film.shape[1] for film in self.films)

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

    def mean(self, images: list[np.ndarray]) -> float:
        """The frame's mean of images [rows, columns], one per film."""
        areas = [weight * image.size for weight, image in zip(self.weights, images, strict=True)]
        return float(sum(area * image.mean() for area, image in zip(areas, images, strict=True)) / sum(areas))

    @property
    def samples(self) -> float:
        """Mean samples per pixel of the frame."""
        return self.mean([film[..., SAMPLES] for film in self.films])

    @property
    def frame_cycles(self) -> float:
        """Estimated cycles of the whole frame."""
        return self.once * float(sum(weight * own for weight, own in zip(self.weights, self.cycles, strict=True)))


def take(ready: Prepared, recipe: Recipe, frame: Frame, task: Task, threads: int = 0) -> Taken:
    """Render a frame, or blocks of it, on all cores or so many. Raises Cancelled."""
    clock, tiles, begun = np.zeros(clock_entries(ready.arrays.slots)), dict[int, np.ndarray](), work_time()
    cycles, before = dict[int, float](), 0.0

    def on_tile(index: int, film: np.ndarray) -> None:
        nonlocal before
        tiles[index], cycles[index], before = film, float(clock[-1]) - before, float(clock[-1])

    how: dict[str, Any] = {"threads": threads or machine.threads(), "clock": clock, "task": task, "shutter": ready.shutter}
    render_tiles(ready.arrays, ready.camera, recipe, frame, on_tile, **how)
    # The ledger's paired samples are a larger share of few pixels than of a whole frame.
    own, whole = pair_share(recipe, frame), pair_share(recipe, Frame(frame.width, frame.height))
    again = float(clock[len(ready.passes) + CLOCK_PAIRS] / max(clock[-1], 1.0))
    once = 1.0 - again * (1.0 - whole / own)
    seconds = (work_time() - begun) * once
    if isinstance(frame, Scattered):
        places = range(len(frame.blocks))
        return Taken([tiles[k] for k in places], seconds, clock, [cycles[k] for k in places], frame.weights, once)
    return Taken([assemble(frame, film_columns(ready.arrays.slots), tiles)], seconds, clock, [float(clock[-1])], (1.0,), once)
