"""From paths to pixels: one tile of the film, and the names of its passes."""

import math
from typing import NamedTuple

import numpy as np

from ..kernel import called_kernel, kernel
from ..lights.direct import TALLY_COLUMNS
from ..reference import by_reference
from ..scene.arrays import SceneArrays
from ..scene.model import Camera
from ..scene.surface_at import is_finite
from ..shadows.depth_map import texels_per_pixel
from ..trace.sampler import pixel_key, sample_2d
from ..trace.simd import cycles
from ..trace.traverse import Stack, make_stack
from ..vector import add, dot, luminance, row3, subtract
from .integrator import PIXEL, PathSettings, camera_ray, trace_path

# Columns of a film pixel; VARIANCE and BOUNCED_VARIANCE are those of the pixel's mean.
DIRECT, INDIRECT, ALPHA, ALBEDO, NORMAL, DEPTH, VARIANCE, DROPPED, BOUNCED_VARIANCE, TEXELS = 0, 3, 6, 7, 10, 13, 14, 17, 18, 19
# Meters: luminance that the clamp took, and that lies beyond the limits of diffuse bounces, reflections and all; rays that
# met the triangle they left, a sample; and the number of the object that the first sample saw, -1 for none.
CLAMPED, LEFT, SELF_HITS, OBJECT, SAMPLES = 20, 21, 24, 25, 26
FILM_COLUMNS = 27
TILE = 32
"""Largest side of a tile in pixels."""
NEIGHBOURS = 2
"""Pixels to each side whose noise counts too when a pixel's samples are decided: a dark pixel beside a grainy one may
only have been lucky."""
EYE_FLOOR = 0.02
"""Luminance, at the camera's exposure, below which noise is judged against it: about a ninth of middle grey."""
# Then, for every light pass: light; the luminance that it would bring unhindered and brings; variance of its luminance.
LIGHT_VARIANCE = TALLY_COLUMNS
PASS_COLUMNS = TALLY_COLUMNS + 1


def coarse_share(film: np.ndarray) -> float:
    """Share of the pixels where a depth map's texels are larger than they are."""
    return float((film[..., TEXELS] < 1.0).mean())


def film_columns(slots: int) -> int:
    """Columns of a film with `slots` light passes."""
    return FILM_COLUMNS + slots * PASS_COLUMNS


def camera_array(camera: Camera, width: int, height: int) -> np.ndarray:
    """The camera as float64 [7, 3] for a picture of `width` x `height` pixels: axes x, y, z, position; half sizes of
    the film and whether it is orthographic; shift; lens radius and focus. The width of view is kept."""
    array = np.zeros((7, 3))
    array[:4] = camera.to_world.T
    array[4] = camera.half_width, camera.half_width * height / width, camera.orthographic
    array[5, :2] = camera.shift
    array[6, :2] = camera.lens_radius, camera.focus
    return array


@kernel
def _tent(u):
    """A number with the density 1 - |x| on [-1, 1]: the reconstruction filter, by sampling it."""
    return np.sqrt(2.0 * u) - 1.0 if u < 0.5 else 1.0 - np.sqrt(2.0 - 2.0 * u)


class Sampling(NamedTuple):
    """How many samples pixels take: `least` first, then until the standard error is at most `target` of the luminance (with
    `floor` added), or `most` are taken. target 0: always `most`."""

    least: int
    most: int
    target: float
    floor: float


def render_tile(
    scene: SceneArrays, settings: PathSettings, sampling: Sampling, camera: np.ndarray, size: tuple[int, int],
    box: tuple[int, int, int, int], seed: int, memory: "Memory", cancel: np.ndarray, film: np.ndarray,
) -> bool:  # fmt: skip
    """Render the pixels of `box` (x0, y0, x1, y1) of a frame of `size` into `film` float32 [rows, columns, film_columns].

    `memory` is one thread's make_memory(); its clock takes the processor's cycles spent on aiming at each light where the
    camera looks, on everything after the first scattering, and in all. `cancel` is uint8 [1]; when it turns non-zero the
    tile is left unfinished and the result is False.
    """
    x0, y0, x1, y1 = box
    columns, count = x1 - x0, (x1 - x0) * (y1 - y0)
    memory.pixels[:count] = 0.0
    memory.pixels[:count, TEXELS] = np.inf
    memory.more[:count] = sampling.least if sampling.target > 0.0 else sampling.most
    while True:
        if not _take_samples(scene, settings, memory, camera, *size, x0, y0, columns, count, seed, cancel):
            return False
        if sampling.target <= 0.0 or not _ask_for_more(memory, sampling, columns, count):
            break
    _write_means(memory, columns, count, film)
    return True


@called_kernel
def _take_samples(scene_arrays, path_settings, thread_memory, camera, width, height, x0, y0, columns, count, seed, cancel):
    """Add to each of the `count` pixels of a tile the samples that it takes next; its sums have the columns of the film.

    Samples that are not finite or are negative are left out and counted in column DROPPED. False when cancelled.
    """
    scene, settings, memory = by_reference(scene_arrays), by_reference(path_settings), by_reference(thread_memory)
    begun = cycles()
    eye_axis, eye = row3(camera, 2, 0), row3(camera, 3, 0)
    tally, slots = memory.tally, len(memory.tally)
    for i in range(count):
        if cancel[0] != 0:
            return False
        sums, x, y = memory.pixels[i], x0 + i % columns, y0 + i // columns
        key = pixel_key(seed, y * width + x)
        first = int(sums[SAMPLES])
        sums[SAMPLES] += memory.more[i]
        for sample in range(first, first + memory.more[i]):
            u, v = sample_2d(key, sample, PIXEL)
            fx = (x + 0.5 + _tent(u)) / width * 2.0 - 1.0
            fy = 1.0 - (y + 0.5 + _tent(v)) / height * 2.0
            origin, d = camera_ray(camera, fx, fy, key, sample)
            tally[:] = 0.0
            path = trace_path(scene, settings, memory, key, sample, origin, d)
            beauty = add(path.direct, path.indirect)
            if not is_finite(beauty) or min(beauty[0], beauty[1], beauty[2]) < 0.0:
                sums[DROPPED] += 1.0
                continue
            for c in range(3):
                sums[DIRECT + c] += path.direct[c]
                sums[INDIRECT + c] += path.indirect[c]
                sums[VARIANCE + c] += beauty[c] * beauty[c]
                sums[LEFT + c] += path.left[c]
            sums[BOUNCED_VARIANCE] += luminance(path.indirect) ** 2
            sums[CLAMPED] += path.clamped
            sums[SELF_HITS] += path.self_hits
            if sample == 0:
                sums[OBJECT] = path.object
            for slot in range(slots):
                at = FILM_COLUMNS + slot * PASS_COLUMNS
                for c in range(TALLY_COLUMNS):
                    sums[at + c] += tally[slot, c]
                sums[at + LIGHT_VARIANCE] += luminance((tally[slot, 0], tally[slot, 1], tally[slot, 2])) ** 2
            if path.hit > 0.0:
                sums[ALPHA] += 1.0
                for c in range(3):
                    sums[ALBEDO + c] += path.albedo[c]
                    sums[NORMAL + c] += path.normal[c]
                along = -dot(subtract(path.position, eye), eye_axis)
                sums[DEPTH] += along
                if len(scene.maps) > 0:
                    pixel_size = 2.0 * camera[4, 0] / width * (1.0 if camera[4, 2] > 0.0 else along)
                    sums[TEXELS] = min(sums[TEXELS], texels_per_pixel(scene, path.position, pixel_size))
    memory.clock[slots + 1] += float(cycles() - begun)
    return True


@kernel
def _relative_variance(sums, floor):
    """Variance of a pixel's mean luminance over the square of that luminance (with `floor` added)."""
    kept = sums[SAMPLES] - sums[DROPPED]
    if kept < 2.0:
        return np.inf
    mean = luminance((sums[DIRECT] + sums[INDIRECT], sums[DIRECT + 1] + sums[INDIRECT + 1], sums[DIRECT + 2] + sums[INDIRECT + 2])) / kept
    # The channels of one path rise and fall together: their standard errors add.
    error = 0.0
    weights = (0.2126, 0.7152, 0.0722)
    for c in range(3):
        error += weights[c] * math.sqrt(_variance(sums[VARIANCE + c], (sums[DIRECT + c] + sums[INDIRECT + c]) / kept, kept))
    return (error / (mean + floor)) ** 2


@called_kernel
def _ask_for_more(memory, sampling, columns, count):
    """Set how many samples each pixel takes next, as many again as it has or none; whether any takes more.

    A pixel goes on while its own noise, or that of its neighbourhood in the root mean square, is over the target. Stopping
    by an estimate from the same samples errs a little to the dark (Kirk & Arvo 1991, "Unbiased Sampling Techniques for Image
    Synthesis"); the neighbourhood and the least count keep that below what is seen.
    """
    rows = count // columns
    for i in range(count):
        memory.noise[i] = _relative_variance(memory.pixels[i], sampling.floor)
    any_more = False
    for y in range(rows):
        for x in range(columns):
            i = y * columns + x
            total, near = 0.0, 0
            for ny in range(max(0, y - NEIGHBOURS), min(rows, y + NEIGHBOURS + 1)):
                for nx in range(max(0, x - NEIGHBOURS), min(columns, x + NEIGHBOURS + 1)):
                    total += memory.noise[ny * columns + nx]
                    near += 1
            worst = max(memory.noise[i], total / near)
            taken = int(memory.pixels[i, SAMPLES])
            memory.more[i] = 0
            if worst > sampling.target**2 and taken < sampling.most:
                # As many again: the points of a whole power of two are spread far more evenly than those of any other number.
                memory.more[i] = min(taken, sampling.most - taken)
                any_more = True
    return any_more


@called_kernel
def _write_means(memory, columns, count, film):
    """The film's values of a tile's pixels from their sums."""
    for i in range(count):
        _write_pixel(memory.pixels[i], len(memory.tally), film[i // columns, i % columns])


@kernel
def _write_pixel(sums, slots, pixel):
    kept = sums[SAMPLES] - sums[DROPPED]
    share = 1.0 / max(1.0, kept)
    for c in range(3):
        pixel[DIRECT + c] = sums[DIRECT + c] * share
        pixel[INDIRECT + c] = sums[INDIRECT + c] * share
        pixel[ALBEDO + c] = sums[ALBEDO + c] * share
        pixel[NORMAL + c] = sums[NORMAL + c] * share
        pixel[LEFT + c] = sums[LEFT + c] * share
        pixel[VARIANCE + c] = _variance(sums[VARIANCE + c], (sums[DIRECT + c] + sums[INDIRECT + c]) * share, kept)
    pixel[ALPHA], pixel[CLAMPED], pixel[SELF_HITS] = sums[ALPHA] * share, sums[CLAMPED] * share, sums[SELF_HITS] * share
    pixel[DEPTH] = sums[DEPTH] / sums[ALPHA] if sums[ALPHA] > 0.0 else np.inf
    indirect = luminance((sums[INDIRECT], sums[INDIRECT + 1], sums[INDIRECT + 2])) * share
    pixel[BOUNCED_VARIANCE] = _variance(sums[BOUNCED_VARIANCE], indirect, kept)
    pixel[TEXELS], pixel[OBJECT], pixel[SAMPLES], pixel[DROPPED] = sums[TEXELS], sums[OBJECT], sums[SAMPLES], sums[DROPPED]
    for slot in range(slots):
        at = FILM_COLUMNS + slot * PASS_COLUMNS
        for c in range(TALLY_COLUMNS):
            pixel[at + c] = sums[at + c] * share
        mean = luminance((sums[at], sums[at + 1], sums[at + 2])) * share
        pixel[at + LIGHT_VARIANCE] = _variance(sums[at + LIGHT_VARIANCE], mean, kept)


@kernel
def _variance(squares, mean, count):
    """Variance of the mean of `count` numbers from the sum of their squares (Bessel); a single one tells nothing."""
    return max(0.0, squares / count - mean * mean) / (count - 1) if count > 1 else np.inf


class Memory(NamedTuple):
    """Working memory of one thread: the traversals' stack, the light passes of a sample, the cycles spent on each light, on
    bounced light and in all; and of each pixel of a tile its sums, how many samples it takes next, and its noise."""

    stack: Stack
    tally: np.ndarray
    clock: np.ndarray
    pixels: np.ndarray
    more: np.ndarray
    noise: np.ndarray


def make_memory(slots: int) -> Memory:
    pixels = np.zeros((TILE * TILE, film_columns(slots)))
    return Memory(make_stack(), np.zeros((slots, TALLY_COLUMNS)), np.zeros(slots + 2), pixels, np.zeros(TILE * TILE, np.int64), np.zeros(TILE * TILE))
