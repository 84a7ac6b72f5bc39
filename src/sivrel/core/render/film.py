"""From paths to pixels: one tile of the film, and the names of its passes."""

import numpy as np

from ..kernel import called_kernel, kernel
from ..scene.model import Camera
from ..scene.surface_at import is_finite
from ..trace.sampler import pixel_key, sample_2d
from ..vector import add, dot, row3, subtract
from .integrator import PIXEL, camera_ray, trace_path

# Columns of a film pixel.
DIRECT, INDIRECT, ALPHA, ALBEDO, NORMAL, DEPTH, VARIANCE, DROPPED = 0, 3, 6, 7, 10, 13, 14, 17
FILM_COLUMNS = 18


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
def render_tile(scene, settings, camera, width, height, x0, y0, x1, y1, samples, seed, stack, cancel, film):
    """Render pixels [x0, x1) x [y0, y1) of a `width` x `height` frame into `film` float32 [rows, columns, FILM_COLUMNS].

    `cancel` is uint8 [1]; when it turns non-zero the tile is left unfinished and the result is False.
    Samples that are not finite or are negative are left out of the mean and counted in column DROPPED.
    """
    eye_axis = row3(camera, 2, 0)
    eye = row3(camera, 3, 0)
    for y in range(y0, y1):
        for x in range(x0, x1):
            if cancel[0] != 0:
                return False
            key = pixel_key(seed, y * width + x)
            direct, indirect = (0.0, 0.0, 0.0), (0.0, 0.0, 0.0)
            albedo, normal = (0.0, 0.0, 0.0), (0.0, 0.0, 0.0)
            squares = (0.0, 0.0, 0.0)
            hits, depth, kept = 0.0, 0.0, 0
            for sample in range(samples):
                u, v = sample_2d(key, sample, PIXEL)
                fx = (x + 0.5 + _tent(u)) / width * 2.0 - 1.0
                fy = 1.0 - (y + 0.5 + _tent(v)) / height * 2.0
                origin, d = camera_ray(camera, fx, fy, key, sample)
                path = trace_path(scene, settings, stack, key, sample, origin, d)
                beauty = add(path.direct, path.indirect)
                if not is_finite(beauty) or min(beauty[0], beauty[1], beauty[2]) < 0.0:
                    continue
                kept += 1
                direct, indirect = add(direct, path.direct), add(indirect, path.indirect)
                squares = (
                    squares[0] + beauty[0] * beauty[0],
                    squares[1] + beauty[1] * beauty[1],
                    squares[2] + beauty[2] * beauty[2],
                )
                if path.hit > 0.0:
                    hits += 1.0
                    albedo, normal = add(albedo, path.albedo), add(normal, path.normal)
                    depth -= dot(subtract(path.position, eye), eye_axis)
            pixel = film[y - y0, x - x0]
            share = 1.0 / max(1, kept)
            for c in range(3):
                pixel[DIRECT + c] = direct[c] * share
                pixel[INDIRECT + c] = indirect[c] * share
                pixel[ALBEDO + c] = albedo[c] * share
                pixel[NORMAL + c] = normal[c] * share
                mean = (direct[c] + indirect[c]) * share
                spread = max(0.0, squares[c] * share - mean * mean)
                # Variance of the mean (Bessel); a single sample tells nothing about it.
                pixel[VARIANCE + c] = spread / (kept - 1) if kept > 1 else np.inf
            pixel[ALPHA] = hits * share
            pixel[DEPTH] = depth / hits if hits > 0.0 else np.inf
            pixel[DROPPED] = samples - kept
    return True
