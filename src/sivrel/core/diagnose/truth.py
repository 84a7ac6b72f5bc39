"""What the picture would be without shortcuts: brute force on the coarse grid, refined for as long as there is time, and kept."""

from typing import Any

import numpy as np
from scipy import ndimage

from ..caches import Cache, hash_of
from ..measure.noise import LUMINANCE
from ..render.film import camera_array
from ..render.frame import Cancel
from ..render.prepare import Prepared
from ..render.recipe import Recipe, to_json, with_values
from ..scene.edits import Edits
from .grid import Grid
from .patch import render_patch

KIND = "brute force"
DEEP = {"limits.diffuse_bounces": 24, "limits.reflections": 16, "limits.refractions": 32, "limits.total": 96}


def brute_force(recipe: Recipe) -> Recipe:
    """The recipe without its shortcuts: every bounce traced, deep limits, no clamp, traced shadows. Lights that cast no shadow by wish keep
    none; caustic photons stay, since paths hardly ever find what they find; and where lights are looked at alone, they stay alone."""
    values: dict[str, Any] = {
        "gi.seen": "off" if recipe.gi.seen == "off" else "brute_force",
        "gi.beyond": "brute_force",
        "limits.indirect_clamp": 0.0,
        "limits.ray_offset": 0.0,
        "sampling.noise_target": 0.0,
        "sampling.gi_rays": 1,
        "sampling.glossy_rays": 1,
        "shadows.rays": 1,
        "ambient.on_direct": 0.0,
        "ambient.samples": 0,
    }
    flat = recipe.flat()
    values |= {key: max(value, flat[key]) for key, value in DEEP.items()}
    if recipe.shadows.way == "depth_map":
        values["shadows.way"] = "traced"
    return with_values(recipe, values)


def traced_shadows(edits: Edits, scene_lights: list[Any]) -> dict[str, Any]:
    """Edits that let every light cast traced shadows that has a depth map of its own."""
    mapped = [name for name, edit in edits.lights.items() if edit.shadows.way == "depth_map"]
    mapped += [light.name for light in scene_lights if light.shadow.way == "depth_map" and light.name not in mapped]
    return {f"light.{name}.shadows.way": "traced" for name in mapped}


class Coarse:
    """A picture of the coarse cells, refined for as long as there is time, in two halves that share no chance.

    colour [rows, columns, 3] and variance of the mean luminance [rows, columns]; samples a cell. `first_seed`: of its random numbers.
    """

    def __init__(self, grid: Grid, first_seed: int = 50_000) -> None:
        self.grid, self.first_seed = grid, first_seed
        self.sum = np.zeros((2, grid.rows, grid.columns, 3))
        self.squares = np.zeros((2, grid.rows, grid.columns))
        self.taken = np.zeros(2, int)
        self.rounds, self.seconds = 0, 0.0

    def refine(self, ready: Prepared, recipe: Recipe, seconds: float, cancel: Cancel) -> bool:
        """Add samples for some seconds, with seeds of their own; False when cancelled."""
        cells = self.grid.cells_of(self.grid.window)
        whole = cells == (0, 0, self.grid.columns, self.grid.rows)
        x0, y0, x1, y1 = cells
        for half in (0, 1):
            frame = self.grid.frame(0, None if whole else cells)
            patch = render_patch(ready, recipe, frame, seconds / 2.0, cancel, first_seed=self.first_seed + 64 * self.rounds)
            if patch is None:
                return False
            self.sum[half, y0:y1, x0:x1] += patch.colour * patch.samples
            self.squares[half, y0:y1, x0:x1] += patch.variance * patch.samples**2
            self.taken[half] += patch.samples
            self.rounds, self.seconds = self.rounds + 1, self.seconds + patch.seconds
        return True

    @property
    def samples(self) -> int:
        return int(self.taken.sum())

    @property
    def colour(self) -> np.ndarray:
        return self.sum.sum(axis=0) / max(1, self.samples)

    @property
    def light(self) -> np.ndarray:
        return self.colour @ LUMINANCE.astype(float)

    @property
    def halves(self) -> tuple[np.ndarray, np.ndarray]:
        """Luminances of the two halves."""
        one, other = (self.sum[k] @ LUMINANCE.astype(float) / max(1, self.taken[k]) for k in (0, 1))
        return one, other

    @property
    def variance(self) -> np.ndarray:
        """A cell that was lucky has its neighbours' spread, by half."""
        own = self.squares.sum(axis=0) / max(1, self.samples) ** 2
        return np.maximum(own, 0.5 * ndimage.uniform_filter(own, 3, mode="nearest"))

    def cache(self, subject: str, depends: dict[str, str]) -> Cache:
        """What was rendered so far, as it is kept."""
        arrays = {"sum": self.sum, "squares": self.squares, "taken": self.taken}
        notes = {"seconds": self.seconds, "count": self.samples, "unit": "samples a cell", "rounds": self.rounds}
        return Cache(KIND, subject, depends, arrays, notes)

    def take(self, cache: Cache) -> None:
        """Go on from what was kept."""
        self.sum, self.squares, self.taken = (cache.arrays[name].copy() for name in ("sum", "squares", "taken"))
        self.seconds, self.rounds = float(cache.notes["seconds"]), int(cache.notes["rounds"])


def dependencies(ready: Prepared, recipe: Recipe, grid: Grid) -> dict[str, str]:
    """What brute force of a grid depends on, a hash by name."""
    arrays = ready.arrays
    return {
        "geometry": hash_of(ready.geometry.hash(), arrays.objects),
        "surfaces": ready.geometry.surfaces_hash(),
        "lights": hash_of(arrays.lights, arrays.portals, arrays.maps, arrays.tables),
        "camera": hash_of(camera_array(ready.camera, grid.columns, grid.rows), grid.columns, grid.rows, grid.window),
        "settings": hash_of(to_json(with_values(recipe, {"sampling.max": 1}))),
    }
