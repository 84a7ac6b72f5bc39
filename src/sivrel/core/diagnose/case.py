"""A picture under diagnosis: its light and what chance leaves in it, what is known of its surfaces, and what was measured while it was made."""

import functools
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from scipy import ndimage

from ..edits.edits import Edits
from ..measure.difference import PIXELS_PER_DEGREE
from ..measure.ledger import NOT_LIGHTS
from ..measure.noise import DARK, LUMINANCE
from ..measure.verdict import where_in
from ..pack.lights import GLOW, OTHERS
from ..pictures.exr import Picture
from ..render.recipe import Recipe
from ..scene.model import Shadow
from ..survey.finding import short
from .eye import THRESHOLD, contrast, contrast_of_noise, grain_factor, times_threshold
from .finding import Box, Finding
from .grid import Grid, grid_of
from .paired_render import Apart, PairedRender
from .truth import Coarse

LAPLACIAN = np.array([[1.0, -2.0, 1.0], [-2.0, 4.0, -2.0], [1.0, -2.0, 1.0]])
WINDOW = 17
MOSTLY = 0.7
BRIGHT, MOST_RARE = 16.0, 0.08
"""Times the variance about it from which on a pixel is one of the bright ones, and the share of them from which on they are not rare."""
GUIDES = ("albedo", "normal", "depth", "object", "position")


@dataclass
class Case:
    """picture, with its passes; exposure that it is looked at with; recipe, edits: None where it was made elsewhere
    ledger, meters, maps: as `core.rendered.Render.measured` has them, empty where nothing was measured; seconds, pixel_seconds: of the render,
    None where they are not known; filtered, smear: its filtered twin [rows, columns, 3] and how much was taken, where there is one
    radii: automatic distances of its caches in metres, by setting; glowing: objects that glow and are not aimed at, brightest first;
    maps of lights that have one of their own; echo: the recipe as it is on the coarse grid, with the same caches and brute force's random numbers
    """

    picture: Picture
    exposure: float = 0.0
    recipe: Recipe | None = None
    edits: Edits | None = None
    ledger: list[dict[str, Any]] = field(default_factory=list)
    meters: dict[str, Any] = field(default_factory=dict)
    maps: list[dict[str, Any]] = field(default_factory=list)
    seconds: float | None = None
    pixel_seconds: float | None = None
    filtered: np.ndarray | None = None
    smear: np.ndarray | None = None
    radii: dict[str, float] = field(default_factory=dict)
    glowing: list[str] = field(default_factory=list)
    own_shadows: dict[str, Shadow] = field(default_factory=dict)
    paired: PairedRender | None = None
    per_degree: float = PIXELS_PER_DEGREE

    @functools.cached_property
    def light(self) -> np.ndarray:
        """Luminance float64 [rows, columns]; what is no number counts as black."""
        return np.nan_to_num(self.picture.beauty[..., :3].astype(np.float64) @ LUMINANCE.astype(np.float64), nan=0.0, posinf=0.0, neginf=0.0)

    @functools.cached_property
    def variance(self) -> np.ndarray | None:
        """Variance of the pixels' mean luminance [rows, columns], where it was measured; an upper bound, as channels rise together."""
        plane = self.picture.passes.get("variance")
        if plane is None or not np.isfinite(plane).all():
            return None
        return (np.sqrt(np.maximum(plane.astype(np.float64), 0.0)) @ LUMINANCE) ** 2

    @property
    def weak(self) -> bool:
        """Whether the picture is all there is: no measured spread, no passes of its surfaces."""
        return self.variance is None and not any(name in self.picture.passes for name in GUIDES)

    @property
    def mean(self) -> float:
        return float(self.light.mean())

    @property
    def floor(self) -> float:
        """Luminance that counts as the eye's floor."""
        return DARK * self.mean + 1e-12

    @functools.cached_property
    def grid(self) -> Grid:
        return grid_of(self.picture.frame)

    @property
    def samples(self) -> float:
        """Samples a pixel, in the mean."""
        taken = self.picture.passes.get("samples")
        return float(taken.mean()) if taken is not None else float(self.recipe.sampling.max if self.recipe else 16)

    @property
    def lights(self) -> list[str]:
        """Lights that rays are aimed at and that have a row of their own in the ledger."""
        return [row["name"] for row in self.ledger if row["name"] not in (*NOT_LIGHTS, GLOW, OTHERS)]

    def against(self, truth: Coarse) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Luminance of the coarse cells, brute force's, and the variance of what they differ by: of the picture itself, or of its echo, whichever
        says it with less chance there."""
        own = self.error**2 if self.variance is None else self.variance
        light, spread = self.grid.pool(self.light), self.grid.pool_error(own) + truth.variance
        if self.paired is None:
            return light, truth.light, spread
        apart = self.paired.apart(truth)
        echoed = self.by_echo(truth, apart)
        return np.where(echoed, truth.light + apart.value, light), truth.light, np.where(echoed, apart.variance, spread)

    def by_echo(self, truth: Coarse, apart: Apart) -> np.ndarray:
        """bool [rows, columns]: where the paired render's difference from brute force has less chance in it than the picture's, with what is near;
        everywhere where the picture's spread was not measured."""
        if self.variance is None:
            return np.ones(truth.light.shape, bool)
        near = [ndimage.uniform_filter(v, 5, mode="nearest") for v in (apart.variance, self.grid.pool_error(self.variance) + truth.variance)]
        return near[0] < near[1]

    @functools.cached_property
    def bright_are_rare(self) -> bool:
        """Whether few pixels have a spread far beyond that of their neighbours; after a handful of samples many have."""
        if self.variance is None:
            return True
        return float((self.variance > BRIGHT * ndimage.median_filter(self.variance, 5, mode="nearest")).mean()) < MOST_RARE

    @functools.cached_property
    def error(self) -> np.ndarray:
        """Standard error of the pixels' luminance, without the bright ones where those are rare, [rows, columns]: as it was measured, else
        estimated."""
        return self.error_of(self.bright_are_rare)

    def error_of(self, rare: bool) -> np.ndarray:
        """The same, with the bright pixels left out or not: two renders are held to each other in one way."""
        if self.variance is None:
            return estimated_error(self.light)
        pooled = (ndimage.median_filter if rare else ndimage.uniform_filter)(self.variance, 5, mode="nearest")
        return np.sqrt(np.maximum(pooled, 0.0))  # (a running mean may end a hair below zero)

    @functools.cached_property
    def smooth(self) -> np.ndarray:
        """bool [rows, columns]: pixels whose neighbours lie on the same surface, turned alike: what differs there is light. Everywhere true
        where nothing is known of surfaces."""
        passes, flat = self.picture.passes, np.ones(self.light.shape, bool)
        if "object" in passes:
            plane = passes["object"][..., 0]
            flat &= ndimage.maximum_filter(plane, 3) == ndimage.minimum_filter(plane, 3)
        if "normal" in passes:
            turn = sum(ndimage.maximum_filter(passes["normal"][..., c], 3) - ndimage.minimum_filter(passes["normal"][..., c], 3) for c in range(3))
            flat &= turn < 0.2
        if "albedo" in passes:
            plane = passes["albedo"] @ LUMINANCE
            flat &= ndimage.maximum_filter(plane, 3) - ndimage.minimum_filter(plane, 3) < 0.05
        return flat

    @functools.cached_property
    def flat(self) -> np.ndarray:
        """bool: cells of the window that are mostly smooth."""
        return (self.grid.pool(self.smooth.astype(float)) > MOSTLY) & self.grid.inside()

    def contrast_of(self, light: np.ndarray, against: np.ndarray) -> np.ndarray:
        return contrast(light, against, self.exposure)

    def bias_in(self, cells: np.ndarray, truth: Coarse) -> float:
        """Signed contrast, as shown, of the mean light of some cells against that of other light."""
        light, against, _ = self.against(truth)
        return float(self.contrast_of(light[cells].mean(), against[cells].mean()))

    def contrast_of_noise(self, error: np.ndarray) -> np.ndarray:
        """Contrast, as shown, of what differs by so much about the pixels' light."""
        return contrast_of_noise(ndimage.uniform_filter(self.light, 5, mode="nearest"), error, self.exposure)

    def grain_of(self, light: np.ndarray, error: np.ndarray) -> np.ndarray:
        """Times the eye's threshold, of grain of some standard error a pixel."""
        return contrast_of_noise(light, error, self.exposure) * self.grain_of_one

    @property
    def grain_of_one(self) -> float:
        """Times the eye's threshold, of grain of a contrast of one."""
        return grain_factor(self.per_degree) / THRESHOLD

    def seen(self, contrast: float, size: float) -> float:
        return times_threshold(contrast, size, self.per_degree)

    # Places.

    def object_in(self, mask: np.ndarray) -> str:
        """Name of the object that most of a mask of pixels lies on; empty where nothing is known."""
        if "object" not in self.picture.passes or not self.picture.objects:
            return ""
        numbers = self.picture.passes["object"][mask][:, 0].astype(int)
        numbers = numbers[(numbers >= 0) & (numbers < len(self.picture.objects))]
        return self.picture.objects[int(np.bincount(numbers).argmax())] if len(numbers) else ""

    def place(self, mask: np.ndarray) -> tuple[Box, float, str, str]:
        """Of a mask of pixels of the window: its box in pixels of the frame, its share of the picture, where that is in words, and its object."""
        rows, columns = np.nonzero(mask)
        x0, y0 = self.picture.frame.window[:2]
        box = (int(columns.min()) + x0, int(rows.min()) + y0, int(columns.max()) + 1 + x0, int(rows.max()) + 1 + y0)
        frame = self.picture.frame
        where = where_in((rows.mean() + y0) / frame.height, (columns.mean() + x0) / frame.width, float(mask.mean()))
        return box, float(mask.mean()), where, self.object_in(mask)

    def spread(self, cells: np.ndarray) -> np.ndarray:
        """A mask of coarse cells, of this grid or another of the frame, as one of the window's pixels."""
        x0, y0, x1, y1 = self.picture.frame.window
        down, across = cells.shape
        rows = np.minimum((np.arange(y0, y1) + 0.5) * down / self.grid.height, down - 1).astype(int)
        columns = np.minimum((np.arange(x0, x1) + 0.5) * across / self.grid.width, across - 1).astype(int)
        return cells[rows[:, None], columns[None, :]]

    def in_cells(self, mask: np.ndarray, share: float = 0.2) -> np.ndarray:
        """A mask of the window's pixels as one of coarse cells: those of which at least a share is in it."""
        return self.grid.pool(mask.astype(np.float64)) >= share


def tidied(mask: np.ndarray, by: int) -> np.ndarray:
    """A mask without what is narrower than some pixels, and without such holes: as one would draw it by hand."""
    around = np.pad(mask, 2 * by, mode="edge")
    plain = ndimage.binary_opening(ndimage.binary_closing(around, iterations=by), iterations=by)[2 * by : -2 * by, 2 * by : -2 * by]
    return plain if plain.any() else mask


def placed(case: Case, mask: np.ndarray, **known: Any) -> Finding:
    """A finding over a mask of pixels; `known` says the rest of it, `{there}` in its title and why the object and place in words."""
    box, share, where, name = case.place(mask)
    part = where if where.startswith(("in ", "over ")) else f"in the {where} part"
    there = f"on {short(name)}, {part}" if name else part
    for text in ("title", "why"):
        known[text] = known[text].replace("{there}", there).replace("{share}", f"{share * 100.0:.0f} %" if share >= 0.01 else "a spot")
    known.setdefault("about", name)
    return Finding(box=box, share=share, where=where, mask=case.in_cells(mask), weak=case.weak, **known)


def estimated_error(light: np.ndarray) -> np.ndarray:
    """Standard error of pixels from what neighbours differ by, [rows, columns]: the median absolute deviation of the finest differences (Donoho
    & Johnstone 1994, "Ideal spatial adaptation by wavelet shrinkage", section 4.2), those of Immerkaer 1996, "Fast Noise Variance Estimation".
    Where differences go on from a pixel to the next they are the surface's, not chance's, and count for less."""
    response = np.abs(ndimage.convolve(light, LAPLACIAN, mode="nearest")) / 6.0
    local = ndimage.percentile_filter(response, 50, WINDOW, mode="nearest") / 0.6745
    texture = ndimage.uniform_filter(_goes_on(light), WINDOW, mode="nearest")
    return local * np.clip(1.0 - texture, 0.0, 1.0)


def _goes_on(light: np.ndarray) -> np.ndarray:
    """How far fine differences go on from a pixel to the next, 0 to 1: those of chance do not."""
    fine = light - ndimage.uniform_filter(light, 5, mode="nearest")
    power = ndimage.uniform_filter(fine**2, WINDOW, mode="nearest") + 1e-20
    beside = sum(ndimage.uniform_filter(fine * np.roll(fine, 1, axis), WINDOW, mode="nearest") for axis in (0, 1)) / 2.0
    # Taking the mean of five away leaves chance anticorrelated by a little.
    return np.clip(1.6 * (beside / power + 0.05), 0.0, 1.0)
