"""Light that arrives along given rays, traced like the pixels' own paths: for caches that are prepared before pixels."""

from typing import NamedTuple

import numpy as np

from ..gi.ways import BEYOND, lookup_address
from ..scene.arrays import SceneArrays
from ..spread import spread
from ..task import Task
from .film import ALBEDO, ALPHA, DEPTH, PARTS, SAMPLES, TILE, film_beauty
from .frame import Frame, path_settings
from .integrator import trace_paths
from .memory import MemoryOfThread, make_memory
from .recipe import Recipe

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


class GatherWork(NamedTuple):
    """Rays to be traced as if each had been scattered by a diffuse surface, as `Work`: given for a part are its rays, float64 [n, 6], origin and unit
    direction. beyond: the way of finding light that is used everywhere, the recipe's own if empty; changes: added to path settings; first: number of
    the first ray."""

    scene: SceneArrays
    recipe: Recipe
    frame: Frame
    beyond: str
    changes: dict[str, int]
    samples: int
    first: int

    def worker(self) -> "GatherWorker":
        return GatherWorker(self)


class GatherWorker:
    """Traces rays."""

    def __init__(self, work: GatherWork) -> None:
        self.work = work
        settings = path_settings(work.recipe, work.scene, work.frame)
        if work.beyond:
            way, lookup = BEYOND[work.beyond].code, lookup_address(work.beyond, work.scene, make_memory(1))
            settings = settings._replace(seen=way, beyond=way, seen_lookup=lookup, beyond_lookup=lookup)
        more = {name: getattr(settings, name) + change for name, change in work.changes.items()}
        self.settings = settings._replace(pairs=0.0, gi_rays=1, glossy_rays=1, occlusion_rays=0, **more)
        self.own = MemoryOfThread(work.scene.slots)

    def do(self, part: int, given: np.ndarray, cancel: np.ndarray) -> Arrived | None:
        """What arrives along the rays of a part."""
        memory, count, samples = self.own.memory, len(given), self.work.samples
        memory.pixels[:count] = 0.0
        pixels = np.repeat(np.arange(count), samples)
        jobs = np.stack([pixels, np.tile(np.arange(samples), count)], axis=1)
        place = np.array([self.work.first + part * AT_ONCE, 0, max(count, 1)])
        given = np.ascontiguousarray(given)
        if not trace_paths(self.work.scene, self.settings, memory, NO_CAMERA, WIDE, 1, place, jobs, self.work.frame.seed, cancel, given):
            return None
        sums, share = memory.pixels[:count], 1.0 / np.maximum(memory.pixels[:count, SAMPLES], 1.0)
        met = np.maximum(sums[:, ALPHA], 1.0)
        return Arrived(
            film_beauty(sums) * share[:, None],
            sums[:, PARTS : PARTS + 3] * share[:, None],
            sums[:, ALBEDO : ALBEDO + 3] / met[:, None],
            np.where(sums[:, ALPHA] > 0.0, sums[:, DEPTH] / met, np.inf),
        )


def gather(work: GatherWork, rays: np.ndarray, *, threads: int = 1, task: Task | None = None) -> Arrived:
    """Trace rays float64 [n, 6]. The result of a ray depends only on the work and its number. Raises as `Task.check`."""
    n = len(rays)
    arrived = Arrived(np.zeros((n, 3)), np.zeros((n, 3)), np.zeros((n, 3)), np.full(n, np.inf))

    def deliver(part: int, result: Arrived) -> None:
        rows = slice(part * AT_ONCE, part * AT_ONCE + len(result.distance))
        for column, values in zip(arrived, result, strict=True):
            column[rows] = values

    parts = {part: rays[part * AT_ONCE : (part + 1) * AT_ONCE] for part in range(-(-n // AT_ONCE))}
    spread(work, parts, deliver, threads=threads, task=task)
    return arrived
