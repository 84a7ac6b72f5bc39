"""One tile of a picture: its samples are taken in rounds, where the noise target asks for more."""

import math
from typing import NamedTuple

import numpy as np

from ..gi.off import OFF
from ..kernel import called_kernel, kernel
from ..scene.arrays import SceneArrays
from ..vector import luminance
from .film import (
    ALPHA,
    DIRECT,
    DROPPED,
    INDIRECT,
    SAMPLES,
    TEXELS,
    TOTAL_VARIANCE,
    TRIANGLE,
    VARIANCE,
    sums_of,
    variance_of_mean,
    write_means,
)
from .integrator import PathSettings, trace_paths
from .memory import Memory

NO_RAYS = np.zeros((0, 6))
MOST_JOBS = 16384
"""Samples that are traced in one go."""
NEIGHBOURS = 2
"""Pixels to each side by whose noise a pixel's samples are decided."""
FEW_FINDS = 24.0
"""Where so many samples have brought all the light of a neighbourhood, each as much, the variance counts twice; of fewer it counts the more."""
MIDDLE_GREY = 0.18
GAIN_SAMPLES = 16.0
EYE_FLOOR = 0.02
"""Luminance, at the camera's exposure, below which noise is judged against it: about a ninth of middle grey."""


class Sampling(NamedTuple):
    """How many samples pixels take: `least` first, then until the standard error is at most `target` of the luminance times
    `by_brightness` plus `floor`, or `most` are taken. target 0: always `most`. `by_gain`: until what one more sample takes off the
    variance is at most what it does at that error after GAIN_SAMPLES; samples then go by the root of the variance, which leaves least of it in all
    (Neyman 1934)."""

    least: int
    most: int
    target: float
    floor: float
    by_brightness: float
    by_gain: bool


def render_tile(
    scene: SceneArrays, settings: PathSettings, sampling: Sampling, camera: np.ndarray, size: tuple[int, int],
    box: tuple[int, int, int, int], seed: int, memory: Memory, cancel: np.ndarray, film: np.ndarray, before: np.ndarray | None = None,
) -> bool:  # fmt: skip
    """Render the pixels of `box` (x0, y0, x1, y1) of a frame of `size` into `film` float32 [rows, columns, film_columns].

    `memory` is one thread's make_memory(); its clock takes the processor's cycles spent on aiming at each light where the
    camera looks, and what the CLOCK_… entries name. `cancel` is uint8 [1]; when it turns non-zero the
    tile is left unfinished and the result is False. With `before`, the film of the same tile with fewer samples, those that are missing are added.
    """
    x0, y0, x1, y1 = box
    columns, count = x1 - x0, (x1 - x0) * (y1 - y0)
    memory.pixels[:count] = 0.0
    memory.pixels[:count, TEXELS], memory.pixels[:count, TRIANGLE] = np.inf, -1.0
    if before is not None:
        memory.pixels[:count] = sums_of(before, scene.slots, settings.pairs)
    wanted = sampling.least if sampling.target > 0.0 else sampling.most
    memory.more[:count] = np.maximum(wanted - memory.pixels[:count, SAMPLES], 0.0)
    place = np.array([x0, y0, columns])
    while True:
        while memory.more[:count].any():
            if not trace_paths(scene, settings, memory, camera, *size, place, _next_jobs(memory, count), seed, cancel, NO_RAYS):
                return False
        if sampling.target <= 0.0 or not _ask_for_more(memory, sampling, settings.seen != OFF, columns, count):
            break
    write_means(memory, columns, count, settings.pairs, film)
    return True


def _next_jobs(memory: Memory, count: int) -> np.ndarray:
    """int64 [n, 2]: the pixels of a tile, each as often as it takes samples next, and the numbers of those samples; taken off what the
    memory says is to come. So few at once that a switch that stops the render, which compiled code may look at once alone, is heard."""
    more = np.minimum(memory.more[:count], max(1, MOST_JOBS // count))
    memory.more[:count] -= more
    pixels = np.repeat(np.arange(count), more)
    before = np.repeat(np.cumsum(more) - more, more)
    taken = memory.pixels[:count, SAMPLES].astype(np.int64)
    return np.stack([pixels, taken[pixels] + np.arange(len(pixels)) - before], axis=1)


@kernel
def _relative_variance(sums, sampling):
    """Variance of a pixel's mean luminance over the square of what it is judged against."""
    kept = sums[SAMPLES] - sums[DROPPED]
    if kept < 2.0:
        return np.inf
    mean = luminance((sums[DIRECT] + sums[INDIRECT], sums[DIRECT + 1] + sums[INDIRECT + 1], sums[DIRECT + 2] + sums[INDIRECT + 2])) / kept
    # The channels of one path rise and fall together: their standard errors add.
    error = 0.0
    weights = (0.2126, 0.7152, 0.0722)
    for c in range(3):
        error += weights[c] * math.sqrt(variance_of_mean(sums[VARIANCE + c], (sums[DIRECT + c] + sums[INDIRECT + c]) / kept, kept))
    return (error / (sampling.by_brightness * mean + sampling.floor)) ** 2


@called_kernel
def _ask_for_more(memory, sampling, bounces, columns, count):
    """Set how many samples each pixel takes next, as many again as it has or none; whether any takes more.

    A pixel goes on while the noise of its neighbourhood, in the root mean square, is over the target. Its own samples have no say: those that
    missed a rare light look clean, and a pixel that stopped for that would be too dark (Kirk & Arvo 1991, "Unbiased Sampling Techniques for
    Image Synthesis"). And the fewer samples have brought the light of the neighbourhood, the less their variance is trusted; where they have
    brought none though light `bounces`, nothing is known yet.
    """
    rows = count // columns
    for i in range(count):
        memory.noise[i] = _relative_variance(memory.pixels[i], sampling)
    any_more = False
    for y in range(rows):
        for x in range(columns):
            i = y * columns + x
            total, near, light, squares, lit = 0.0, 0, 0.0, 0.0, False
            for ny in range(max(0, y - NEIGHBOURS), min(rows, y + NEIGHBOURS + 1)):
                for nx in range(max(0, x - NEIGHBOURS), min(columns, x + NEIGHBOURS + 1)):
                    j = ny * columns + nx
                    if j == i:
                        continue
                    sums = memory.pixels[j]
                    total += memory.noise[j]
                    near += 1
                    light += luminance((sums[DIRECT] + sums[INDIRECT], sums[DIRECT + 1] + sums[INDIRECT + 1], sums[DIRECT + 2] + sums[INDIRECT + 2]))
                    squares += sums[TOTAL_VARIANCE]
                    lit = lit or sums[ALPHA] > 0.0
            worst = total / near if near > 0 else np.inf
            taken = int(memory.pixels[i, SAMPLES])
            memory.more[i] = 0
            if sampling.by_gain:
                worst *= GAIN_SAMPLES / taken
            if light > 0.0:
                worst *= 1.0 + FEW_FINDS * squares / (light * light)
            elif lit and bounces:
                worst = np.inf
            if worst > sampling.target**2 and taken < sampling.most:
                # As many again: the points of a whole power of two are spread far more evenly than those of any other number.
                memory.more[i] = min(taken, sampling.most - taken)
                any_more = True
    return any_more
