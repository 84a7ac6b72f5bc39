"""What the picture would be without shortcuts: brute force on the coarse grid, refined for as long as there is time, and kept."""

from pathlib import Path
from typing import Any

import numpy as np
from scipy import ndimage

from ..caches import hash_of
from ..measure.noise import LUMINANCE
from ..render.film import camera_array
from ..render.frame import Cancel
from ..render.prepare import Prepared
from ..render.recipe import Recipe, to_json, with_values
from ..scene.edits import Edits
from .grid import Grid
from .patch import render_patch

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
        self.rounds = 0

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
            self.rounds += 1
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

    def save(self, path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        beside = path.with_name(f".{path.name}")
        with open(beside, "wb") as file:
            np.savez(file, sum=self.sum, squares=self.squares, taken=self.taken, rounds=self.rounds)
        beside.replace(path)

    def load(self, path: Path) -> None:
        """Take up what was kept, where it is there and whole."""
        try:
            with np.load(path) as kept:
                if kept["sum"].shape == self.sum.shape:
                    self.sum, self.squares, self.taken, self.rounds = kept["sum"], kept["squares"], kept["taken"], int(kept["rounds"])
        except (OSError, ValueError, KeyError):
            pass


def name_of(ready: Prepared, recipe: Recipe, grid: Grid) -> str:
    """By what a truth is known again: all that it depends on, hashed."""
    arrays = ready.arrays
    window = "" if grid.window == (0, 0, grid.width, grid.height) else str(grid.window)
    return hash_of(
        ready.geometry.hash(),
        ready.geometry.surfaces_hash(),
        arrays.lights,
        arrays.objects,
        arrays.portals,
        arrays.maps,
        arrays.tables,
        camera_array(ready.camera, grid.columns, grid.rows),
        f"{grid.columns}x{grid.rows} {window}",
        to_json(with_values(recipe, {"sampling.max": 1})),
    )
