"""The film: what a pixel keeps of its samples, their sums and then their means, column by column."""

from typing import NamedTuple

import numpy as np

from ..gi.photon_map import MOST_GATHERED
from ..gi.tree import DEEPEST
from ..kernel import called_kernel, kernel
from ..lights.direct import TALLY_COLUMNS
from ..scene.model import Camera
from ..scene.surface_at import is_finite
from ..trace.traverse import Stack, make_stack
from ..vector import LUMINANCE, add, luminance

# Columns of a film pixel. VARIANCE (of each channel) and TOTAL_VARIANCE (of luminance) are those of the pixel's mean.
DIRECT, INDIRECT, ALPHA, ALBEDO, NORMAL, DEPTH, VARIANCE, DROPPED, TOTAL_VARIANCE, TEXELS = 0, 3, 6, 7, 10, 13, 14, 17, 18, 19
# Meters: luminance that the clamp took, and that lies beyond the limits of diffuse bounces, reflections, glass and all; rays
# that met the triangle they left, and paths that ended in glass, a sample; how many samples there are.
CLAMPED, LEFT, SELF_HITS, ENDED_IN_GLASS, SAMPLES = 20, 21, 25, 26, 27
# Light by what scattered it first, base, gloss, glass; share of the occlusion rays that got away.
PARTS, OCCLUSION = 28, 37
# What the first sample met: number of the triangle, -1 for none, and the weights of its second and third corner.
TRIANGLE, WEIGHTS = 38, 39
# Luminance of the greatest single find, and its kind of path (see integrator).
BRIGHTEST, BRIGHTEST_KIND = 41, 42
# From the samples that are taken twice: variance of the pixel's mean that is left when its camera rays stand still, in all, and
# of the indirect light by what scattered it first. Right on average over pixels; most have no such sample.
WITHIN, WITHIN_BOUNCED = 43, 44
# Luminance of the indirect light by what scattered it first.
BOUNCED = 47
# The variance of the pixel's mean that its camera rays alone cause: what the two times of a sample have in common. While samples are
# added: the sum of their products, the sum of their sums, and how many there are.
BETWEEN, PAIR_SUMS, PAIRS = 50, 51, 52
# How often a cache was asked for light, and served, a sample.
ASKED, SERVED = 53, 54
FILM_COLUMNS = 55
OF_PIXEL = (DROPPED, TEXELS, SAMPLES, TRIANGLE, WEIGHTS, WEIGHTS + 1, BRIGHTEST, BRIGHTEST_KIND)
"""What is kept of a pixel as it is, not in the mean."""
TILE = 32
"""Largest side of a tile in pixels."""
# Then, for every light pass: light; the luminance that it would bring unhindered and brings; its variance as in WITHIN.
WITHIN_LIGHT = TALLY_COLUMNS
PASS_COLUMNS = TALLY_COLUMNS + 1


# Entries of the clock behind those of the light passes: bounced light by what scattered it first (three), the second time of
# samples that are taken twice, and all cycles.
CLOCK_BOUNCED, CLOCK_PAIRS, CLOCK_ALL = 0, 3, 4


def clock_entries(slots: int) -> int:
    return slots + CLOCK_ALL + 1


def coarse_share(film: np.ndarray) -> float:
    """Share of the pixels where a depth map's texels are larger than they are."""
    return float((film[..., TEXELS] < 1.0).mean())


def film_beauty(film: np.ndarray) -> np.ndarray:
    """All light of film pixels [..., columns], [..., 3]."""
    return film[..., DIRECT : DIRECT + 3] + film[..., INDIRECT : INDIRECT + 3]


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


class PathResult(NamedTuple):
    """Radiance of one sample, and what its camera ray met first; hit 0 when that was nothing, triangle -1.

    direct: light found by the camera ray, and straight from the lights at the first surface; indirect: all the rest
    bounced: luminance of the indirect light by what scattered it first: base, gloss, glass; total: of all light but what the
    camera ray met
    paired: whether the sample was taken twice; bounced_again and total_again are those of the second time
    clamped: luminance that the clamp took off; left: luminance that lies beyond the limits of diffuse bounces, reflections,
    glass and all, found by following a few paths further; ended_in_glass: paths that the limit of glass ended
    self_hits: rays that met the very triangle they left; occlusion: share of the occlusion rays that got away
    brightest: luminance of the greatest single find, and brightest_kind its kind of path
    asked, served: how often a cache was asked for light, and had it
    """

    direct: tuple
    indirect: tuple
    hit: float
    albedo: tuple
    normal: tuple
    position: tuple
    depth: float
    triangle: int
    b1: float
    b2: float
    bounced: tuple
    total: float
    paired: bool
    bounced_again: tuple
    total_again: float
    clamped: float
    left: tuple
    ended_in_glass: float
    self_hits: float
    occlusion: float
    brightest: float
    brightest_kind: int
    asked: float
    served: float


@kernel
def clear_sample(memory):
    """Make the memory ready for the next sample."""
    for slot in range(len(memory.tally)):
        for c in range(TALLY_COLUMNS):
            memory.tally[slot, c] = memory.again[slot, c] = 0.0
    for part in range(3):
        for c in range(3):
            memory.parts[part, c] = memory.parts_again[part, c] = 0.0


@kernel
def keep_sample(memory, path, sums):
    """Add a sample, a `PathResult` with what the memory holds of it, to the sums of its pixel, which have the columns of the film. A
    sample that is not finite or is negative is left out and counted in column DROPPED."""
    first = sums[SAMPLES] == 0.0
    sums[SAMPLES] += 1.0
    beauty = add(path.direct, path.indirect)
    if not is_finite(beauty) or min(beauty[0], beauty[1], beauty[2]) < 0.0:
        sums[DROPPED] += 1.0
        return
    for c in range(3):
        sums[DIRECT + c] += path.direct[c]
        sums[INDIRECT + c] += path.indirect[c]
        sums[VARIANCE + c] += beauty[c] * beauty[c]
        sums[LEFT + c] += path.left[c]
    sums[LEFT + 3] += path.left[3]
    sums[TOTAL_VARIANCE] += luminance(beauty) ** 2
    sums[ASKED] += path.asked
    sums[SERVED] += path.served
    sums[CLAMPED] += path.clamped
    sums[SELF_HITS] += path.self_hits
    sums[ENDED_IN_GLASS] += path.ended_in_glass
    if path.brightest > sums[BRIGHTEST]:
        sums[BRIGHTEST], sums[BRIGHTEST_KIND] = path.brightest, path.brightest_kind
    if first:
        sums[TRIANGLE], sums[WEIGHTS], sums[WEIGHTS + 1] = path.triangle, path.b1, path.b2
    for part in range(3):
        sums[BOUNCED + part] += path.bounced[part]
        for c in range(3):
            sums[PARTS + 3 * part + c] += memory.parts[part, c]
    for slot in range(len(memory.tally)):
        at = FILM_COLUMNS + slot * PASS_COLUMNS
        for c in range(TALLY_COLUMNS):
            sums[at + c] += memory.tally[slot, c]
    if path.paired:
        _keep_pair(memory, path, sums)
    if path.hit > 0.0:
        sums[ALPHA] += 1.0
        for c in range(3):
            sums[ALBEDO + c] += path.albedo[c]
            sums[NORMAL + c] += path.normal[c]
        sums[DEPTH] += path.depth
        sums[OCCLUSION] += path.occlusion


@called_kernel
def _keep_pair(memory, path, sums):
    """Add half the squared differences of a sample that was taken twice: the variance with the camera ray held still."""
    sums[WITHIN] += 0.5 * (path.total - path.total_again) ** 2
    met = luminance(path.direct) + luminance(path.indirect) - path.total
    sums[BETWEEN] += (path.total + met) * (path.total_again + met)
    sums[PAIR_SUMS] += path.total + path.total_again + 2.0 * met
    sums[PAIRS] += 1.0
    for part in range(3):
        sums[WITHIN_BOUNCED + part] += 0.5 * (path.bounced[part] - path.bounced_again[part]) ** 2
    for slot in range(len(memory.tally)):
        change = 0.0
        for c, weight in enumerate((0.2126, 0.7152, 0.0722)):
            change += weight * (memory.tally[slot, c] - memory.again[slot, c])
        sums[FILM_COLUMNS + slot * PASS_COLUMNS + WITHIN_LIGHT] += 0.5 * change * change


@called_kernel
def write_means(memory, columns, count, pairs, film):
    """The film's values of a tile's pixels from their sums."""
    for i in range(count):
        _write_pixel(memory.pixels[i], len(memory.tally), pairs, film[i // columns, i % columns])


@kernel
def _write_pixel(sums, slots, pairs, pixel):
    kept = sums[SAMPLES] - sums[DROPPED]
    share = 1.0 / max(1.0, kept)
    # As if all samples had been taken twice; and of the mean of all of them.
    of_pairs = share * share / pairs if pairs > 0.0 else 0.0
    for k in range(FILM_COLUMNS):
        pixel[k] = sums[k] * (of_pairs if WITHIN <= k < BOUNCED else share)
    for c in range(3):
        pixel[VARIANCE + c] = variance_of_mean(sums[VARIANCE + c], (sums[DIRECT + c] + sums[INDIRECT + c]) * share, kept)
    mean = luminance((sums[DIRECT] + sums[INDIRECT], sums[DIRECT + 1] + sums[INDIRECT + 1], sums[DIRECT + 2] + sums[INDIRECT + 2])) * share
    # Products about the pixel's mean, which holds one of the two itself: hence the factor.
    products = sums[BETWEEN] - mean * sums[PAIR_SUMS] + mean * mean * sums[PAIRS]
    pixel[BETWEEN] = products * of_pairs * kept / (kept - 1.0) if kept > 1.0 else 0.0
    pixel[TOTAL_VARIANCE] = variance_of_mean(sums[TOTAL_VARIANCE], mean, kept)
    pixel[DEPTH] = sums[DEPTH] / sums[ALPHA] if sums[ALPHA] > 0.0 else np.inf
    pixel[OCCLUSION] = sums[OCCLUSION] / sums[ALPHA] if sums[ALPHA] > 0.0 else 1.0
    for k in OF_PIXEL:
        pixel[k] = sums[k]
    for slot in range(slots):
        at = FILM_COLUMNS + slot * PASS_COLUMNS
        for c in range(TALLY_COLUMNS):
            pixel[at + c] = sums[at + c] * share
        pixel[at + WITHIN_LIGHT] = sums[at + WITHIN_LIGHT] * of_pairs


def sums_of(film: np.ndarray, slots: int, pairs: float) -> np.ndarray:
    """The sums float64 [pixels, columns] of a tile's film: what `write_means` has made means of, as far as 32 bits hold it. `pairs` as there."""
    pixel = film.reshape(-1, film.shape[-1]).astype(np.float64)
    kept = np.maximum(pixel[:, SAMPLES] - pixel[:, DROPPED], 1.0)[:, None]
    of_pairs = kept**2 * pairs
    sums = pixel * kept
    sums[:, WITHIN:BOUNCED] = pixel[:, WITHIN:BOUNCED] * of_pairs
    beauty = sums[:, DIRECT : DIRECT + 3] + sums[:, INDIRECT : INDIRECT + 3]

    def squares(variance: np.ndarray, mean: np.ndarray) -> np.ndarray:
        known = np.where(np.isfinite(variance), variance, 0.0)  # one sample has no spread
        return kept * (known * (kept - 1.0) + mean * mean)

    sums[:, VARIANCE : VARIANCE + 3] = squares(pixel[:, VARIANCE : VARIANCE + 3], beauty / kept)
    mean = (beauty / kept) @ LUMINANCE
    sums[:, TOTAL_VARIANCE] = squares(pixel[:, TOTAL_VARIANCE, None], mean[:, None])[:, 0]
    products = pixel[:, BETWEEN] * (of_pairs * (kept - 1.0) / kept)[:, 0]
    sums[:, BETWEEN] = products + mean * sums[:, PAIR_SUMS] - mean**2 * sums[:, PAIRS]
    there = sums[:, ALPHA]
    sums[:, DEPTH] = np.where(there > 0.0, np.where(np.isfinite(pixel[:, DEPTH]), pixel[:, DEPTH], 0.0) * there, 0.0)
    sums[:, OCCLUSION] = np.where(there > 0.0, pixel[:, OCCLUSION] * there, 0.0)
    for k in OF_PIXEL:
        sums[:, k] = pixel[:, k]
    for slot in range(slots):
        at = FILM_COLUMNS + slot * PASS_COLUMNS + WITHIN_LIGHT
        sums[:, at] = pixel[:, at] * of_pairs[:, 0]
    return sums


@kernel
def variance_of_mean(squares, mean, count):
    """Variance of the mean of `count` numbers from the sum of their squares (Bessel); a single one tells nothing."""
    return max(0.0, squares / count - mean * mean) / (count - 1) if count > 1 else np.inf


class Memory(NamedTuple):
    """Working memory of one thread: the traversals' stack; what gathers photons; of a sample its light passes [slots, TALLY_COLUMNS] and its parts
    [3, 3], and the same of its second time; the cycles spent, by light pass and then as CLOCK_… say; and of each pixel of a tile its
    sums, how many samples it takes next, and its noise."""

    stack: Stack
    near: np.ndarray
    tally: np.ndarray
    again: np.ndarray
    parts: np.ndarray
    parts_again: np.ndarray
    clock: np.ndarray
    clock_again: np.ndarray
    pixels: np.ndarray
    more: np.ndarray
    noise: np.ndarray


def make_memory(slots: int) -> Memory:
    tally, clock = np.zeros((slots, TALLY_COLUMNS)), np.zeros(clock_entries(slots))
    pixels = np.zeros((TILE * TILE, film_columns(slots)))
    parts = np.zeros((3, 3))
    near, count = np.zeros((MOST_GATHERED + 2 * DEEPEST, 4)), TILE * TILE
    again = tally.copy(), parts, parts.copy(), clock, clock.copy()
    return Memory(make_stack(), near, tally, *again, pixels, np.zeros(count, np.int64), np.zeros(count))
