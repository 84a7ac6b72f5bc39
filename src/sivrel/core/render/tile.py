"""One tile of a picture: its samples are taken in rounds, where the noise target asks for more."""

import math
from collections.abc import Sequence
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
"""Samples traced per call of the kernel."""
NEIGHBOURS = 2
"""Radius in pixels of the neighbourhood whose noise decides a pixel's samples."""
FEW_FINDS = 24.0
"""With this effective number of contributing samples in a neighbourhood, its variance counts twice; with fewer, more."""
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


class Traced(NamedTuple):
    """What the samples of a span of the shutter's time see: the scene, the recipe as the kernels read it, and the camera, `film.camera_over`."""

    scene: SceneArrays
    settings: PathSettings
    camera: np.ndarray


def render_tile(
    spans: Sequence[Traced], sampling: Sampling, size: tuple[int, int], box: tuple[int, int, int, int], seed: int, memory: Memory,
    cancel: np.ndarray, film: np.ndarray, before: np.ndarray | None = None,
) -> bool:  # fmt: skip
    """Render the pixels of `box` (x0, y0, x1, y1) of a frame of `size` into `film` float32 [rows, columns, film_columns].

    spans: of the shutter's time, equally long and in order; samples are spread evenly over them.

    `memory` is one thread's make_memory(); its clock receives the processor's cycles spent on aiming at each light where the
    camera looks, and on the CLOCK_… entries. `cancel` is uint8 [1]; when it becomes non-zero the
    tile is left unfinished and the result is False. With `before`, the film of the same tile with fewer samples, only the missing ones are traced.
    """
    x0, y0, x1, y1 = box
    columns, count = x1 - x0, (x1 - x0) * (y1 - y0)
    scene, settings = spans[0].scene, spans[0].settings
    memory.pixels[:count] = 0.0
    memory.pixels[:count, TEXELS], memory.pixels[:count, TRIANGLE] = np.inf, -1.0
    if before is not None:
        memory.pixels[:count] = sums_of(before, scene.slots, settings.pairs)
    wanted = sampling.least if sampling.target > 0.0 else sampling.most
    memory.more[:count] = np.maximum(wanted - memory.pixels[:count, SAMPLES], 0.0)
    place, starts = np.array([x0, y0, columns]), _starts(size[0], box, seed)
    while True:
        asked = memory.more[:count].copy()
        for k, span in enumerate(spans):
            if len(spans) > 1:
                memory.more[:count] = _of_span(k, len(spans), asked, starts)
            while memory.more[:count].any():
                if not trace_paths(*span[:2], memory, span.camera, *size, place, _next_jobs(memory, count), seed, cancel, NO_RAYS):
                    return False
        if sampling.target <= 0.0 or not _ask_for_more(memory, sampling, settings.seen != OFF, columns, count):
            break
    write_means(memory, columns, count, settings.pairs, film)
    return True


def _of_span(k: int, spans: int, asked: np.ndarray, starts: np.ndarray) -> np.ndarray:
    """How many of the samples that are asked for, int [n], fall into span number k: the same number in each, and where they are fewer than spans or
    leave a rest, each span has the same chance of one (systematic sampling from the `starts`, in [0, 1))."""
    return (np.floor(asked * (k + 1) / spans + starts) - np.floor(asked * k / spans + starts)).astype(asked.dtype)


def _starts(width: int, box: tuple[int, int, int, int], seed: int) -> np.ndarray:
    """A number in [0, 1) for each pixel of a tile, in 4096ths, which depends on the pixel and the seed alone."""
    y, x = np.mgrid[box[1] : box[3], box[0] : box[2]]
    mixed = (y * width + x).reshape(-1).astype(np.uint32) ^ np.uint32(seed * 0x9E3779B1 & 0xFFFFFFFF)
    for shift, factor in ((16, 0x7FEB352D), (15, 0x846CA68B)):  # as trace.sampler.hash32
        mixed = (mixed ^ (mixed >> np.uint32(shift))) * np.uint32(factor)
    return (mixed >> np.uint32(20)) / 4096.0


def _next_jobs(memory: Memory, count: int) -> np.ndarray:
    """int64 [n, 2]: the next samples of a tile: pixel and sample number; they are subtracted from what the
    memory has scheduled. Batches are small, since compiled code checks for cancelling once per batch."""
    more = np.minimum(memory.more[:count], max(1, MOST_JOBS // count))
    memory.more[:count] -= more
    pixels = np.repeat(np.arange(count), more)
    before = np.repeat(np.cumsum(more) - more, more)
    taken = memory.pixels[:count, SAMPLES].astype(np.int64)
    return np.stack([pixels, taken[pixels] + np.arange(len(pixels)) - before], axis=1)


@kernel
def _relative_variance(sums, sampling):
    """Variance of a pixel's mean luminance, relative to the square of its reference luminance."""
    kept = sums[SAMPLES] - sums[DROPPED]
    if kept < 2.0:
        return np.inf
    mean = luminance((sums[DIRECT] + sums[INDIRECT], sums[DIRECT + 1] + sums[INDIRECT + 1], sums[DIRECT + 2] + sums[INDIRECT + 2])) / kept
    # The channels of a path are fully correlated: their standard errors add.
    error = 0.0
    weights = (0.2126, 0.7152, 0.0722)
    for c in range(3):
        error += weights[c] * math.sqrt(variance_of_mean(sums[VARIANCE + c], (sums[DIRECT + c] + sums[INDIRECT + c]) / kept, kept))
    return (error / (sampling.by_brightness * mean + sampling.floor)) ** 2


@called_kernel
def _ask_for_more(memory, sampling, bounces, columns, count):
    """Schedule each pixel's next samples, as many as it has or none; returns whether any takes more.

    A pixel goes on while the noise of its neighbourhood, as a root mean square, is over the target. Its own samples do not decide: a pixel whose
    samples missed a rare light looks clean, and if it stopped for that it would be too dark (Kirk & Arvo 1991, "Unbiased Sampling Techniques for
    Image Synthesis"). The fewer samples contributed light in the neighbourhood, the less their variance is trusted; where none did
    although light `bounces`, the noise is unknown yet.
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
                # Doubling: a power of two of sample points is far better distributed than any other number.
                memory.more[i] = min(taken, sampling.most - taken)
                any_more = True
    return any_more
