"""How well a way of finding bounced light agrees with brute force, measured at sample points of this shot."""

import math

import numpy as np

from ..gi.hemisphere import stratified_directions
from ..gi.way import NOT_SERVED, Spot, Way
from ..gi.ways import look_up_at, lookup_address
from ..kernel import called_kernel
from ..numba_byref import by_passing_reference, by_reference
from ..surfaces.preview import Look
from ..vector import LUMINANCE
from .memory import make_memory
from .preparation import Points, Preparation

SPOTS, RINGS, SLICES = 48, 10, 26


@called_kernel
def _look_up(scene_arrays, memory_arrays, address, points, surfaces, normals, triangles, weights, found):
    """found float64 [n, 4] receives the irradiance of bounced light at visible points, and whether the way had an answer."""
    scene, memory = by_reference(scene_arrays), by_reference(memory_arrays)
    black = (0.0, 0.0, 0.0)
    for k in range(len(points)):
        normal = (normals[k, 0], normals[k, 1], normals[k, 2])
        spot = Spot(
            (points[k, 0], points[k, 1], points[k, 2]), (surfaces[k, 0], surfaces[k, 1], surfaces[k, 2]),
            normal, normal, Look((0.5, 0.5, 0.5), 1.0, 0.0, 1.0, False, black, 0.0, 0.0),
            np.uint32(triangles[k]), np.float32(weights[k, 0]), np.float32(weights[k, 1]), math.inf, True, 0, np.uint32(k), 0, 0,
        )  # fmt: skip
        light, served = look_up_at(address, (scene, memory, by_passing_reference(spot), 0))
        found[k, 0], found[k, 1], found[k, 2] = light
        found[k, 3] = 1.0 if served != NOT_SERVED else 0.0


def look_up(job: Preparation, way: Way, points: Points) -> tuple[np.ndarray, np.ndarray]:
    """Irradiance [n, 3] that a way finds at points the camera sees, and where it had an answer, bool [n]."""
    memory, found = make_memory(job.arrays.slots), np.zeros((len(points.positions), 4))
    address = lookup_address(way.key, job.arrays, memory)
    _look_up(job.arrays, memory, address, points.positions, points.surfaces, points.normals, points.triangles, points.weights, found)
    return found[:, :3], found[:, 3] > 0.0


def irradiance(job: Preparation, points: Points, beyond: str) -> tuple[np.ndarray, np.ndarray]:
    """Irradiance [n, 3] by bounced light at points, gathered by rays over the whole hemisphere, and its standard error [n] in luminance.
    The rays are the same at every call."""
    n, each = len(points.positions), RINGS * SLICES
    random = np.random.default_rng([job.frame.seed, 11])
    d, _, _ = stratified_directions(points.normals, RINGS, SLICES, random)
    above = np.einsum("krsc,kc->krs", d, points.surfaces) > 0.0
    origins = np.broadcast_to((points.positions + points.surfaces * job.offset)[:, None, None], d.shape)
    job.rays = 1 << 28
    light, _ = job.gather(origins.reshape(-1, 3), d.reshape(-1, 3), beyond)
    light = light.reshape(n, RINGS, SLICES, 3) * above[..., None]
    bright = light @ LUMINANCE
    # The spread within each ring only: the difference between rings is not noise.
    error = math.pi * np.sqrt(bright.var(axis=2, ddof=1).mean(axis=1) / each)
    return math.pi * light.mean(axis=(1, 2)), error


def check_against_brute_force(job: Preparation, way: Way) -> dict[str, float] | None:
    """Compare the light that a way finds at visible points with brute force at the same points.

    mean: relative error of the total light; mean_error: its standard error; spread: root mean square error of single
    points beyond the noise of the check, over the mean light; spots: number of points. Light is weighted by albedo.
    With a final gather, the gathered light is checked. None where nothing is lit.
    """
    points = job.points_seen(max(1, round(math.sqrt(job.frame.width * job.frame.height / (4.0 * SPOTS)))))
    if not len(points.positions):
        return None
    chosen = np.unique(np.linspace(0, len(points.positions) - 1, SPOTS).astype(int))
    points = Points(*(column[chosen] for column in points))
    truth, error = irradiance(job, points, "brute_force")
    _, reflected = job.look_at(points.positions, points.surfaces, "off")
    if job.looked_up_beyond(way.key):
        found, _ = irradiance(job, points, way.key)
        # The same rays for both, so their common noise cancels; about half of the noise is left.
        error = error * math.sqrt(0.5)
    else:
        found, served = look_up(job, way, points)
        if not served.any():
            return None
        found, truth, error, reflected = found[served], truth[served], error[served], reflected[served]
    # Weighted by albedo.
    off, mean = ((found - truth) * reflected) @ LUMINANCE, float(((truth * reflected) @ LUMINANCE).mean())
    error = error * (reflected @ LUMINANCE)
    if mean <= 0.0:
        return None
    return {
        "spots": len(off),
        "mean": float(off.mean()) / mean,
        "mean_error": float(np.sqrt((error**2).sum())) / len(off) / mean,
        "spread": float(np.sqrt(max(0.0, (off**2 - error**2).mean()))) / mean,
    }
