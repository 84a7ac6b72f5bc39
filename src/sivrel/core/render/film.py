"""From paths to pixels: one tile of the film, and the names of its passes."""

from typing import NamedTuple

import numpy as np

from ..kernel import called_kernel, kernel
from ..lights.direct import TALLY_COLUMNS
from ..reference import by_reference
from ..scene.model import Camera
from ..scene.surface_at import is_finite
from ..shadows.depth_map import texels_per_pixel
from ..trace.sampler import pixel_key, sample_2d
from ..trace.simd import cycles
from ..trace.traverse import Stack, make_stack
from ..vector import add, dot, luminance, multiply, row3, subtract
from .integrator import PIXEL, camera_ray, trace_path

# Columns of a film pixel; VARIANCE and BOUNCED_VARIANCE are those of the pixel's mean.
DIRECT, INDIRECT, ALPHA, ALBEDO, NORMAL, DEPTH, VARIANCE, DROPPED, BOUNCED_VARIANCE, TEXELS = 0, 3, 6, 7, 10, 13, 14, 17, 18, 19
# Meters: luminance that the clamp took, and that lies beyond the limits of diffuse bounces, reflections and all; rays that
# met the triangle they left, a sample; and the number of the object that the first sample saw, -1 for none.
CLAMPED, LEFT, SELF_HITS, OBJECT = 20, 21, 24, 25
FILM_COLUMNS = 26
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


@called_kernel
def render_tile(scene_arrays, path_settings, camera, width, height, x0, y0, x1, y1, samples, seed, thread_memory, cancel, film):
    """Render pixels [x0, x1) x [y0, y1) of a `width` x `height` frame into `film` float32 [rows, columns, film_columns].

    `thread_memory` is one thread's make_memory(); its clock takes the processor's cycles that each light costs, and all
    of them last. `cancel` is uint8 [1]; when it turns non-zero the tile is left unfinished and
    the result is False.
    Samples that are not finite or are negative are left out of the mean and counted in column DROPPED.
    """
    scene, settings, memory = by_reference(scene_arrays), by_reference(path_settings), by_reference(thread_memory)
    eye_axis = row3(camera, 2, 0)
    eye = row3(camera, 3, 0)
    tally, sums = memory.tally, memory.sums
    slots = len(tally)
    begun = cycles()
    for y in range(y0, y1):
        for x in range(x0, x1):
            if cancel[0] != 0:
                return False
            key = pixel_key(seed, y * width + x)
            direct, indirect = (0.0, 0.0, 0.0), (0.0, 0.0, 0.0)
            albedo, normal = (0.0, 0.0, 0.0), (0.0, 0.0, 0.0)
            squares, bounced = (0.0, 0.0, 0.0), 0.0
            hits, depth, kept, texels = 0.0, 0.0, 0, np.inf
            clamped, left, self_hits, seen_object = 0.0, (0.0, 0.0, 0.0), 0.0, np.int64(-1)
            sums[:] = 0.0
            for sample in range(samples):
                u, v = sample_2d(key, sample, PIXEL)
                fx = (x + 0.5 + _tent(u)) / width * 2.0 - 1.0
                fy = 1.0 - (y + 0.5 + _tent(v)) / height * 2.0
                origin, d = camera_ray(camera, fx, fy, key, sample)
                tally[:] = 0.0
                path = trace_path(scene, settings, memory, key, sample, origin, d)
                beauty = add(path.direct, path.indirect)
                if not is_finite(beauty) or min(beauty[0], beauty[1], beauty[2]) < 0.0:
                    continue
                kept += 1
                direct, indirect = add(direct, path.direct), add(indirect, path.indirect)
                squares = add(squares, multiply(beauty, beauty))
                bounced += luminance(path.indirect) ** 2
                clamped, left, self_hits = clamped + path.clamped, add(left, path.left), self_hits + path.self_hits
                if kept == 1:
                    seen_object = path.object
                for slot in range(slots):
                    for c in range(TALLY_COLUMNS):
                        sums[slot, c] += tally[slot, c]
                    sums[slot, LIGHT_VARIANCE] += luminance((tally[slot, 0], tally[slot, 1], tally[slot, 2])) ** 2
                if path.hit > 0.0:
                    hits += 1.0
                    albedo, normal = add(albedo, path.albedo), add(normal, path.normal)
                    along = -dot(subtract(path.position, eye), eye_axis)
                    depth += along
                    if len(scene.maps) > 0:
                        pixel_size = 2.0 * camera[4, 0] / width * (1.0 if camera[4, 2] > 0.0 else along)
                        texels = min(texels, texels_per_pixel(scene, path.position, pixel_size))
            pixel = film[y - y0, x - x0]
            share = 1.0 / max(1, kept)
            for c in range(3):
                pixel[DIRECT + c] = direct[c] * share
                pixel[INDIRECT + c] = indirect[c] * share
                pixel[ALBEDO + c] = albedo[c] * share
                pixel[NORMAL + c] = normal[c] * share
                pixel[VARIANCE + c] = _variance(squares[c], (direct[c] + indirect[c]) * share, kept)
            pixel[ALPHA] = hits * share
            pixel[DEPTH] = depth / hits if hits > 0.0 else np.inf
            pixel[DROPPED] = samples - kept
            pixel[BOUNCED_VARIANCE] = _variance(bounced, luminance(indirect) * share, kept)
            pixel[TEXELS] = texels
            pixel[CLAMPED], pixel[SELF_HITS], pixel[OBJECT] = clamped * share, self_hits * share, seen_object
            for c in range(3):
                pixel[LEFT + c] = left[c] * share
            for slot in range(slots):
                first = FILM_COLUMNS + slot * PASS_COLUMNS
                for c in range(TALLY_COLUMNS):
                    pixel[first + c] = sums[slot, c] * share
                mean = luminance((sums[slot, 0], sums[slot, 1], sums[slot, 2])) * share
                pixel[first + LIGHT_VARIANCE] = _variance(sums[slot, LIGHT_VARIANCE], mean, kept)
    memory.clock[slots] += float(cycles() - begun)
    return True


@kernel
def _variance(squares, mean, count):
    """Variance of the mean of `count` numbers from the sum of their squares (Bessel); a single one tells nothing."""
    return max(0.0, squares / count - mean * mean) / (count - 1) if count > 1 else np.inf


class Memory(NamedTuple):
    """Working memory of one thread: the traversals' stack, the light passes of a sample and of a pixel, and the cycles
    spent on each light and in all."""

    stack: Stack
    tally: np.ndarray
    sums: np.ndarray
    clock: np.ndarray


def make_memory(slots: int) -> Memory:
    return Memory(make_stack(), np.zeros((slots, TALLY_COLUMNS)), np.zeros((slots, PASS_COLUMNS)), np.zeros(slots + 1))
