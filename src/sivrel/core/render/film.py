"""The film: the columns that are stored for each pixel, first as sums over its samples, then as means."""

import math

import numpy as np

from ..kernel import called_kernel, kernel
from ..lights.direct import TALLY_COLUMNS
from ..scene.model import Camera
from ..vector import LUMINANCE, luminance

# Columns of a film pixel. VARIANCE (of each channel) and TOTAL_VARIANCE (of luminance) are those of the pixel's mean.
DIRECT, INDIRECT, ALPHA, ALBEDO, NORMAL, DEPTH, VARIANCE, DROPPED, TOTAL_VARIANCE, TEXELS = 0, 3, 6, 7, 10, 13, 14, 17, 18, 19
# Meters: luminance removed by the clamp, and cut off by the limits of diffuse bounces, reflections, glass and total; rays
# that hit the triangle they left, and paths that ended in glass, per sample; the number of samples.
CLAMPED, LEFT, SELF_HITS, ENDED_IN_GLASS, SAMPLES = 20, 21, 25, 26, 27
# Light by what scattered it first, base, gloss, glass; share of the occlusion rays that hit nothing near.
PARTS, OCCLUSION = 28, 37
# The first sample's hit: triangle number, -1 for none, and the barycentric weights of its second and third corner.
TRIANGLE, WEIGHTS = 38, 39
# Luminance of the brightest single contribution, and its kind of path (see path_state.AIMED).
BRIGHTEST, BRIGHTEST_KIND = 41, 42
# From the paired samples (traced twice): variance of the pixel's mean with its camera rays held fixed, in total and
# for the indirect light by what scattered it first. Unbiased over many pixels; most pixels have no paired sample.
WITHIN, WITHIN_BOUNCED = 43, 44
# Luminance of the indirect light by what scattered it first.
BOUNCED = 47
# The variance of the pixel's mean caused by its camera rays alone: the covariance of the two halves of a pair. While samples are
# being added: the sum of products, the sum of sums, and the number of pairs.
BETWEEN, PAIR_SUMS, PAIRS = 50, 51, 52
# How often a cache was asked for light, and served, a sample.
ASKED, SERVED = 53, 54
# The samples of odd number by themselves: their light, and their share of all. Filters are judged by the two halves.
HALF, HALF_COUNT = 55, 58
# Albedo and normal of the first surface that is neither glass nor a mirror, each times the share of the paths that met one.
GUIDE_ALBEDO, GUIDE_NORMAL, GUIDE_SHARE = 59, 62, 65
# Luminance of light by wide gloss that was looked up: as a few paths find it that are traced on, and as looked up.
GLOSS_TRACED, GLOSS_LOOKED_UP = 66, 67
FILM_COLUMNS = 68
OF_PIXEL = (DROPPED, TEXELS, SAMPLES, TRIANGLE, WEIGHTS, WEIGHTS + 1, BRIGHTEST, BRIGHTEST_KIND)
"""Columns that are stored as they are and not averaged."""
TILE = 32
"""Largest side of a tile in pixels."""
# Then, for every light pass: light; its luminance without and with shadow; its variance as in WITHIN.
WITHIN_LIGHT = TALLY_COLUMNS
PASS_COLUMNS = TALLY_COLUMNS + 1


# Clock entries after those of the light passes: bounced light by what scattered it first (three), the second half of
# paired samples, and all cycles.
CLOCK_BOUNCED, CLOCK_PAIRS, CLOCK_ALL = 0, 3, 4


def clock_entries(slots: int) -> int:
    return slots + CLOCK_ALL + 1


def coarse_share(film: np.ndarray) -> float:
    """Share of the pixels in which a depth map's texel is larger than the pixel."""
    return float((film[..., TEXELS] < 1.0).mean())


def film_beauty(film: np.ndarray) -> np.ndarray:
    """All light of film pixels [..., columns], [..., 3]."""
    return film[..., DIRECT : DIRECT + 3] + film[..., INDIRECT : INDIRECT + 3]


def guides_in(film: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Albedo and normal for the noise filter, [..., 3] each: where no path met such a surface, those of the first one."""
    share = film[..., GUIDE_SHARE, None]
    pairs = ((GUIDE_ALBEDO, ALBEDO), (GUIDE_NORMAL, NORMAL))
    albedo, normal = (np.where(share > 0.0, film[..., g : g + 3] / np.maximum(share, 1e-9), film[..., f : f + 3]) for g, f in pairs)
    return albedo, normal


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


def camera_over(opening: Camera, closing: Camera, width: int, height: int) -> np.ndarray:
    """The camera while its shutter is open, float64 [14, 3]: `camera_array` as it opens, then as it closes."""
    return np.concatenate([camera_array(camera, width, height) for camera in (opening, closing)])


@called_kernel
def write_means(memory, columns, count, pairs, film):
    """The film's values of a tile's pixels from their sums."""
    for i in range(count):
        _write_pixel(memory.pixels[i], memory.tally.shape[1], pairs, film[i // columns, i % columns])


@kernel
def film_number(number):
    """A triangle's number as the film stores it in 32 bits, without rounding: itself up to 2**24; above, its lower 23 bits are the digits of a float
    and the others its exponent."""
    value = float(number)
    if number >= 1 << 24:
        high = (number >> 23) - 1
        value = math.ldexp(float((1 << 23) + (number & ((1 << 23) - 1))), high)
    return value


def triangles_in(film: np.ndarray) -> np.ndarray:
    """int64 [...]: numbers of the triangles in a film [..., columns], -1 for none: the inverse of `film_number`."""
    values = film[..., TRIANGLE].astype(np.float64)
    digits, exponents = np.frexp(values)
    above = ((exponents.astype(np.int64) - 23) << 23) | (np.ldexp(digits, 24).astype(np.int64) & ((1 << 23) - 1))
    return np.where(values < 1 << 24, values, above).astype(np.int64)


@kernel
def _write_pixel(sums, slots, pairs, pixel):
    kept = sums[SAMPLES] - sums[DROPPED]
    share = 1.0 / max(1.0, kept)
    # Scaled to all samples being paired, and to the variance of their mean.
    of_pairs = share * share / pairs if pairs > 0.0 else 0.0
    for k in range(FILM_COLUMNS):
        pixel[k] = sums[k] * (of_pairs if WITHIN <= k < BOUNCED else share)
    for c in range(3):
        pixel[VARIANCE + c] = variance_of_mean(sums[VARIANCE + c], (sums[DIRECT + c] + sums[INDIRECT + c]) * share, kept)
    mean = luminance((sums[DIRECT] + sums[INDIRECT], sums[DIRECT + 1] + sums[INDIRECT + 1], sums[DIRECT + 2] + sums[INDIRECT + 2])) * share
    # Products about the pixel's mean, which contains one of the two itself: hence the factor.
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
    """The sums float64 [pixels, columns] of a tile's film: the inverse of `write_means`, to 32-bit precision. `pairs` as there."""
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
