"""Small renders for a diagnosis: a part of the frame, coarse or fine, for as long as there is time, with its noise."""

from dataclasses import dataclass

import numpy as np

from .. import machine
from ..measure.noise import LUMINANCE
from ..render import film as columns
from ..render.film import film_beauty, film_columns
from ..render.frame import Frame, assemble
from ..render.passes import film_passes
from ..render.prepare import Prepared
from ..render.recipe import Recipe, with_values
from ..render.tiles import render_tiles
from ..task import Task
from ..work_time import work_time

FIRST_SAMPLES, MOST_SAMPLES = 4, 256
"""Samples per pixel of the first round, and the most of a later one."""
FOUND = [columns.BRIGHTEST, columns.BRIGHTEST_KIND]
OF_THE_FIRST = [*FOUND, columns.TRIANGLE, columns.WEIGHTS, columns.WEIGHTS + 1, columns.TEXELS]
"""Columns of a film that are not averaged over samples."""


@dataclass
class Patch:
    """Part of a frame. colour: mean linear [rows, columns, 3]; variance: of the mean luminance [rows, columns]; samples taken a pixel;
    seconds they took; film: the mean of the films, for passes; halves: luminances of its even and odd rounds, with independent noise, if there
    was more than one."""

    frame: Frame
    colour: np.ndarray
    variance: np.ndarray
    samples: int
    seconds: float
    film: np.ndarray
    halves: tuple[np.ndarray, np.ndarray] | None = None

    @property
    def light(self) -> np.ndarray:
        """Luminance [rows, columns]."""
        return self.colour @ LUMINANCE

    @property
    def rate(self) -> float:
        """Seconds a sample of a pixel."""
        return self.seconds / max(1, self.samples * self.light.size)

    def passes(self, ready: Prepared) -> dict[str, np.ndarray]:
        return film_passes(self.film, ready.passes, ready.arrays)


def render_patch(
    ready: Prepared, recipe: Recipe, frame: Frame, seconds: float, task: Task, *, samples: int = 0, first_seed: int = 1000, most: int = 1 << 20
) -> Patch:  # fmt: skip
    """Render a frame in rounds of more and more samples until `seconds` have passed, or with exactly `samples` at once. Raises
    Cancelled. The same seeds are used in the same order, so that two patches of one frame differ only by what was changed."""
    begun, total, taken, round_ = work_time(), np.zeros(0), 0, 0
    first, variance = np.zeros(0), np.zeros(0)
    parts, of_parts = [np.zeros(0), np.zeros(0)], [0, 0]
    while True:
        n = samples or min(MOST_SAMPLES, FIRST_SAMPLES * 2**round_, most - taken)
        plain = with_values(recipe, {"sampling.max": n, "sampling.noise_target": 0})
        tiles: dict[int, np.ndarray] = {}
        of = Frame(frame.width, frame.height, frame.region, (first_seed + round_) % (1 << 32))
        render_tiles(ready.arrays, ready.camera, plain, of, tiles.__setitem__, threads=machine.threads(), task=task, shutter=ready.shutter)
        film = assemble(of, film_columns(ready.arrays.slots), tiles).astype(np.float64)
        own = film[..., columns.TOTAL_VARIANCE] * n * n
        if taken == 0:
            first, total, variance = film, film * n, own
        else:
            brightest = np.where((film[..., columns.BRIGHTEST] > first[..., columns.BRIGHTEST])[..., None], film[..., FOUND], first[..., FOUND])
            total, variance = total + film * n, variance + own
            first[..., FOUND] = brightest
        bright = film_beauty(film) @ LUMINANCE * n
        half = 0 if of_parts[0] <= of_parts[1] else 1
        parts[half] = bright if of_parts[half] == 0 else parts[half] + bright
        of_parts[half] += n
        taken, round_ = taken + n, round_ + 1
        spent = work_time() - begun
        following = min(MOST_SAMPLES, FIRST_SAMPLES * 2**round_, most - taken)
        # Another round starts if at least half of it fits.
        if samples or taken >= most or spent + 0.5 * spent / taken * following > seconds:
            break
    mean = total / taken
    mean[..., OF_THE_FIRST] = first[..., OF_THE_FIRST]
    mean[..., columns.SAMPLES] = taken
    halves = (parts[0] / of_parts[0], parts[1] / of_parts[1]) if min(of_parts) > 0 else None
    return Patch(frame, film_beauty(mean), variance / taken**2, taken, work_time() - begun, mean, halves)
