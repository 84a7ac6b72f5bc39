"""The picture without shortcuts: brute force on the coarse grid, refined for as long as there is time, and stored."""

from dataclasses import replace
from typing import Any

import numpy as np
from scipy import ndimage

from ..caches import Cache, hash_of
from ..edits.edits import Edits
from ..measure.noise import LUMINANCE
from ..render.film import camera_array
from ..render.prepare import Prepared
from ..render.recipe import Recipe, to_json, with_values
from ..scene.arrays import RAYS
from ..shadows.ways import BY_KEY as SHADOW_WAYS
from ..task import Task
from ..work_time import work_time
from .grid import Grid
from .patch import Patch, render_patch

KIND, FORMAT = "brute force", 2
RAYS_OF_BASE = 4
"""Scattered rays of a sample's first point: among 1, 2 and 4 this has the least noise in equal time, by a fifth (docs/benchmarks.md)."""
OF_CHANCE = {"sampling.noise_target": 0.0, "sampling.seconds": 0.0, "sampling.gi_rays": RAYS_OF_BASE, "sampling.glossy_rays": 1, "shadows.rays": 1}
"""Settings of brute force that change the noise only, and not the expected light."""
UNBIASED = {"guiding.on": "no", "bidirectional.on": "no"}
"""The same, but kept as the recipe has them: they are faster on some shots and slower on others."""
FIRST_SAMPLES, MOST_SAMPLES = 4, 512
"""Samples per cell of the first rounds, and the most of a later one."""
MOST_ROUNDS = 128
"""Most rounds that are stored separately: some ten diagnoses of a view."""
DEEP = {"limits.diffuse_bounces": 24, "limits.reflections": 16, "limits.refractions": 32, "limits.total": 96}


def brute_force(recipe: Recipe) -> Recipe:
    """The recipe without its shortcuts: every bounce traced, deep limits, no clamp, traced shadows. Lights whose shadows are off on purpose keep
    none; caustic photons stay, since paths hardly ever find that light; and without bounced light it stays off."""
    values: dict[str, Any] = {
        "gi.seen": "off" if recipe.gi.seen == "off" else "brute_force",
        "gi.beyond": "brute_force",
        "limits.indirect_clamp": 0.0,
        "limits.ray_offset": 0.0,
        **OF_CHANCE,
        "ambient.on_direct": 0.0,
        "ambient.samples": 0,
    }
    flat = recipe.flat()
    values |= {key: max(value, flat[key]) for key, value in DEEP.items()}
    if SHADOW_WAYS[recipe.shadows.way].approximates:
        values["shadows.way"] = "traced"
    return with_values(recipe, values)


def traced_shadows(edits: Edits, scene_lights: list[Any]) -> dict[str, Any]:
    """Edits that trace the shadows of all lights with an approximating way of their own."""
    found = [name for name, edit in edits.lights.items() if SHADOW_WAYS[edit.shadows.way or "traced"].approximates]
    found += [light.name for light in scene_lights if SHADOW_WAYS[light.shadow.way or "traced"].approximates and light.name not in found]
    return {f"light.{name}.shadows.way": "traced" for name in found}


class Coarse:
    """A picture of the coarse cells, refined for as long as there is time, in two halves with independent noise.

    sum [2 halves, rows, columns, 3], squares: of colours and of variances, by the samples `taken`; planes, sizes: luminances [rows, columns] and
    samples a cell of each round, by turns of either half. `first_seed`: of its random numbers; each round has its own.
    """

    def __init__(self, grid: Grid, first_seed: int = 50_000) -> None:
        self.grid, self.first_seed = grid, first_seed
        self.sum = np.zeros((2, grid.rows, grid.columns, 3))
        self.squares = np.zeros((2, grid.rows, grid.columns))
        self.taken = np.zeros(2, int)
        self.planes: list[np.ndarray] = []
        self.sizes: list[int] = []
        self.seconds = 0.0

    def refine(self, ready: Prepared, recipe: Recipe, seconds: float, task: Task) -> None:
        """Add samples for some seconds, in rounds of about a sixth of that, until there are enough rounds. Raises Cancelled."""
        if len(self.planes) >= MOST_ROUNDS:
            return
        begun, size, done = work_time(), FIRST_SAMPLES, 0
        while True:
            for _ in range(2):
                self._add(round_of(self, ready, recipe, len(self.planes), size, task))
            done += 2 * size
            spent = work_time() - begun
            left, pace = seconds - spent, spent / done
            if left < pace * size:
                break
            size = int(np.clip(min(left / 2.0, seconds / 6.0) / pace, FIRST_SAMPLES, MOST_SAMPLES))
        self.seconds += spent

    def _add(self, patch: Patch) -> None:
        half, (x0, y0, x1, y1) = len(self.planes) % 2, self.cells
        self.sum[half, y0:y1, x0:x1] += patch.colour * patch.samples
        self.squares[half, y0:y1, x0:x1] += patch.variance * patch.samples**2
        self.taken[half] += patch.samples
        self.planes.append(whole(self.grid, patch.light))
        self.sizes.append(patch.samples)

    @property
    def cells(self) -> tuple[int, int, int, int]:
        return self.grid.cells_of(self.grid.window)

    @property
    def samples(self) -> int:
        return int(self.taken.sum())

    @property
    def light(self) -> np.ndarray:
        """Luminance [rows, columns]."""
        return self.sum.sum(axis=0) @ LUMINANCE.astype(float) / max(1, self.samples)

    @property
    def halves(self) -> tuple[np.ndarray, np.ndarray]:
        """Luminances of the two halves."""
        one, other = (self.sum[k] @ LUMINANCE.astype(float) / max(1, self.taken[k]) for k in (0, 1))
        return one, other

    @property
    def variance(self) -> np.ndarray:
        """Half of a cell's variance comes from its neighbours, in case it is too low by chance."""
        own = self.squares.sum(axis=0) / max(1, self.samples) ** 2
        return np.maximum(own, 0.5 * ndimage.uniform_filter(own, 3, mode="nearest"))

    def cache(self, subject: str, depends: dict[str, str]) -> Cache:
        """The renders so far, as stored."""
        arrays = {"sum": self.sum, "squares": self.squares, "taken": self.taken, "planes": np.array(self.planes), "sizes": np.array(self.sizes)}
        return Cache(KIND, subject, depends, arrays, {"seconds": self.seconds, "count": self.samples, "unit": "samples a cell"})

    def take(self, cache: Cache) -> None:
        """Continue from stored renders."""
        self.sum, self.squares, self.taken = (cache.arrays[name].copy() for name in ("sum", "squares", "taken"))
        self.planes, self.sizes = list(cache.arrays["planes"]), cache.arrays["sizes"].tolist()
        self.seconds = float(cache.notes["seconds"])


def round_of(coarse: Coarse, ready: Prepared, recipe: Recipe, number: int, samples: int, task: Task) -> Patch:
    """Render a round of a coarse picture, with one shadow ray a light: the round's number alone decides its random numbers. Raises
    Cancelled."""
    grid = coarse.grid
    cells = None if coarse.cells == (0, 0, grid.columns, grid.rows) else coarse.cells
    lights = ready.arrays.lights.copy()
    lights[:, RAYS] = np.minimum(lights[:, RAYS], 1.0)
    single = replace(ready, arrays=ready.arrays._replace(lights=lights))
    return render_patch(single, recipe, grid.frame(0, cells), 0.0, task, samples=samples, first_seed=coarse.first_seed + number)


def whole(grid: Grid, plane: np.ndarray) -> np.ndarray:
    """A plane of the window's cells, float32 [rows, columns], as one of all cells; 0 outside."""
    (x0, y0, x1, y1), full = grid.cells_of(grid.window), np.zeros((grid.rows, grid.columns), np.float32)
    full[y0:y1, x0:x1] = plane
    return full


def dependencies(ready: Prepared, recipe: Recipe, grid: Grid) -> dict[str, str]:
    """Dependencies of brute force of a grid, a hash by name."""
    arrays = ready.arrays
    return {
        "geometry": hash_of(ready.geometry.hash(), arrays.objects),
        "surfaces": ready.geometry.surfaces_hash(),
        "lights": hash_of(arrays.lights, arrays.portals, arrays.maps, arrays.tables),
        "camera": hash_of(camera_array(ready.camera, grid.columns, grid.rows), grid.columns, grid.rows, grid.window),
        "settings": hash_of(to_json(with_values(recipe, {"sampling.max": 1})), FORMAT),
    }
