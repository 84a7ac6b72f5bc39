"""Light that arrives along given rays, traced like the pixels' own paths: for caches that are prepared before pixels."""

from typing import NamedTuple

import numpy as np

from ..errors import Cancelled
from ..scene.arrays import SceneArrays
from ..task import Task
from ..work_time import Pool
from .film import ALBEDO, ALPHA, DEPTH, PARTS, SAMPLES, TILE, film_beauty
from .integrator import PathSettings, trace_paths
from .memory import make_memory

AT_ONCE = TILE * TILE
NO_CAMERA = np.zeros((7, 3))
WIDE = 1 << 20


class Arrived(NamedTuple):
    """For each ray, averaged over its samples: incoming radiance float [n, 3], without the emission of what it hits; the
    part of it that the base of the surface scatters [n, 3]; how much that base reflects [n, 3]; the distance in metres [n], inf where it
    meets nothing."""

    light: np.ndarray
    by_base: np.ndarray
    base: np.ndarray
    distance: np.ndarray


def gather(
    scene: SceneArrays, settings: PathSettings, rays: np.ndarray, samples: int = 1, *, seed: int = 0, first: int = 0, threads: int = 1,
    task: Task | None = None,
) -> Arrived:  # fmt: skip
    """Trace rays float64 [n, 6], origin and unit direction, as if each had been scattered by a diffuse surface.

    The result of a ray depends only on the scene, the settings, the seed and its number, counted from `first`. Raises as
    `Task.check`.
    """
    task, n = task or Task(), len(rays)
    light, by_base, base, distance = np.zeros((n, 3)), np.zeros((n, 3)), np.zeros((n, 3)), np.full(n, np.inf)
    settings = settings._replace(pairs=0.0, gi_rays=1, glossy_rays=1, occlusion_rays=0)
    starts = range(0, n, AT_ONCE)
    stop = np.zeros(1, np.uint8)

    def work(thread: int) -> None:
        memory = make_memory(scene.slots)
        for number in range(thread, len(starts), threads):
            start = starts[number]
            part = np.ascontiguousarray(rays[start : start + AT_ONCE])
            count = len(part)
            memory.pixels[:count] = 0.0
            pixels = np.repeat(np.arange(count), samples)
            jobs = np.stack([pixels, np.tile(np.arange(samples), count)], axis=1)
            place = np.array([first + start, 0, max(count, 1)])
            if not trace_paths(scene, settings, memory, NO_CAMERA, WIDE, 1, place, jobs, seed, stop, part):
                return
            sums, share = memory.pixels[:count], 1.0 / np.maximum(memory.pixels[:count, SAMPLES], 1.0)
            rows = slice(start, start + count)
            light[rows] = film_beauty(sums) * share[:, None]
            by_base[rows] = sums[:, PARTS : PARTS + 3] * share[:, None]
            met = sums[:, ALPHA] > 0.0
            base[rows] = sums[:, ALBEDO : ALBEDO + 3] / np.maximum(sums[:, ALPHA], 1.0)[:, None]
            distance[rows] = np.where(met, sums[:, DEPTH] / np.maximum(sums[:, ALPHA], 1.0), np.inf)
            try:
                task.check()
            except Cancelled:
                stop[0] = 1  # for the other threads
                raise

    with Pool(threads) as pool:
        for job in [pool.submit(work, thread) for thread in range(threads)]:
            job.result()
    return Arrived(light, by_base, base, distance)
