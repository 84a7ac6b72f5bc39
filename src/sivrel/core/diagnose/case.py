"""A picture under diagnosis: its light and noise, its surfaces, and what was measured while it was rendered."""

import functools
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from scipy import ndimage

from ..edits.edits import Edits
from ..measure.difference import PIXELS_PER_DEGREE
from ..measure.ledger import NOT_LIGHTS
from ..measure.noise import DARK, LUMINANCE
from ..measure.verdict import where_in
from ..pack.lights import GLOW, is_shared
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
"""Variance of a bright pixel relative to its surroundings, and the share of them above which they are not rare."""
GUIDES = ("albedo", "normal", "depth", "object", "position")


@dataclass
class Case:
    """picture, with its passes; exposure it is shown with; recipe, edits: None if it was made elsewhere
    ledger, meters, maps: as `core.rendered.Render.measured` has them, empty if nothing was measured; seconds, pixel_seconds: of the render,
    None if unknown; filtered, smear: its filtered version [rows, columns, 3] and what the filter removed, if any
    radii: automatic distances of its caches in metres, by setting; glowing: objects that glow and are not aimed at, brightest first;
    maps of lights that have one of their own; paired: the recipe on the coarse grid, with the same caches and brute force's random numbers
    unfiltered: luminance before the noise filter [rows, columns], if `picture` is the filtered one
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
    unfiltered: np.ndarray | None = None

    @functools.cached_property
    def light(self) -> np.ndarray:
        """Luminance float64 [rows, columns]; not-a-number counts as black."""
        return np.nan_to_num(self.picture.beauty[..., :3].astype(np.float64) @ LUMINANCE.astype(np.float64), nan=0.0, posinf=0.0, neginf=0.0)

    @property
    def light_before_filter(self) -> np.ndarray:
        """Luminance [rows, columns] before the noise filter, where the case is of a filtered picture."""
        return self.light if self.unfiltered is None else self.unfiltered

    @functools.cached_property
    def variance(self) -> np.ndarray | None:
        """Variance of the pixels' mean luminance [rows, columns], if measured; an upper bound, since channels are correlated."""
        plane = self.picture.passes.get("variance")
        if plane is None or not np.isfinite(plane).all():
            return None
        return (np.sqrt(np.maximum(plane.astype(np.float64), 0.0)) @ LUMINANCE) ** 2

    @property
    def weak(self) -> bool:
        """Whether only the picture is known: no measured variance, no surface passes."""
        return self.variance is None and not any(name in self.picture.passes for name in GUIDES)

    @property
    def mean(self) -> float:
        return float(self.light.mean())

    @property
    def floor(self) -> float:
        """Luminance of the eye's floor."""
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
        return [row["name"] for row in self.ledger if row["name"] not in (*NOT_LIGHTS, GLOW) and not is_shared(row["name"])]

    @property
    def shares_passes(self) -> bool:
        """Whether there are so many lights that some share a row of the ledger."""
        return any(is_shared(row["name"]) for row in self.ledger)

    def against(self, truth: Coarse) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Luminance of the coarse cells, brute force's, and the variance of their difference: of the picture itself, or of its paired render,
        whichever has less noise there."""
        light, spread = self.grid.pool(self.light), self.cell_variance + truth.variance
        if self.paired is None:
            return light, truth.light, spread
        apart = self.paired.apart(truth)
        echoed = self.by_echo(truth, apart)
        return np.where(echoed, truth.light + apart.value, light), truth.light, np.where(echoed, apart.variance, spread)

    @functools.cached_property
    def cell_variance(self) -> np.ndarray:
        """Variance of the luminance of the coarse cells. What the noise filter gets wrong is alike in neighbouring pixels, so a cell has it whole."""
        own = self.error**2 if self.variance is None else self.variance
        return self.grid.pool_error(own) if self.unfiltered is None else self.grid.pool(own)

    def by_echo(self, truth: Coarse, apart: Apart) -> np.ndarray:
        """bool [rows, columns]: where the paired render's difference from brute force is less noisy than the picture's, with its surroundings;
        everywhere if the picture's variance was not measured."""
        if self.variance is None:
            return np.ones(truth.light.shape, bool)
        near = [ndimage.uniform_filter(v, 5, mode="nearest") for v in (apart.variance, self.cell_variance + truth.variance)]
        return near[0] < near[1]

    @functools.cached_property
    def bright_are_rare(self) -> bool:
        """Whether few pixels have a variance far beyond their neighbours'; after a handful of samples many have."""
        if self.variance is None:
            return True
        return float((self.variance > BRIGHT * ndimage.median_filter(self.variance, 5, mode="nearest")).mean()) < MOST_RARE

    @functools.cached_property
    def error(self) -> np.ndarray:
        """Standard error of the pixels' luminance, without bright ones if these are rare, [rows, columns]: as measured, or else
        estimated."""
        return self.error_of(self.bright_are_rare)

    def error_of(self, rare: bool) -> np.ndarray:
        """The same, with or without bright pixels: two renders must be compared in the same way."""
        if self.variance is None:
            return estimated_error(self.light)
        pooled = (ndimage.median_filter if rare else ndimage.uniform_filter)(self.variance, 5, mode="nearest")
        error = np.sqrt(np.maximum(pooled, 0.0))  # (a running mean may be slightly negative)
        # After the noise filter only a part of the error differs from pixel to pixel: the rest is smear.
        return error if self.unfiltered is None else np.minimum(error, estimated_error(self.light))

    @functools.cached_property
    def smooth(self) -> np.ndarray:
        """bool [rows, columns]: pixels whose neighbours are on the same surface with the same normal: differences there are light. True everywhere
        if surfaces are unknown."""
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
        """Signed displayed contrast of the mean light of some cells against other light."""
        light, against, _ = self.against(truth)
        return float(self.contrast_of(light[cells].mean(), against[cells].mean()))

    def contrast_of_noise(self, error: np.ndarray) -> np.ndarray:
        """Displayed contrast of a difference of that size about the pixels' light."""
        return contrast_of_noise(ndimage.uniform_filter(self.light, 5, mode="nearest"), error, self.exposure)

    def grain_of(self, light: np.ndarray, error: np.ndarray) -> np.ndarray:
        """Visibility of grain with some standard error per pixel, in thresholds of the eye."""
        return contrast_of_noise(light, error, self.exposure) * self.grain_of_one

    @property
    def grain_of_one(self) -> float:
        """Visibility of grain with a contrast of one, in thresholds of the eye."""
        return grain_factor(self.per_degree) / THRESHOLD

    def seen(self, contrast: float, size: float) -> float:
        return times_threshold(contrast, size, self.per_degree)

    # Places.

    def object_in(self, mask: np.ndarray) -> str:
        """Name of the object under most of a mask of pixels; empty if unknown."""
        if "object" not in self.picture.passes or not self.picture.objects:
            return ""
        numbers = self.picture.passes["object"][mask][:, 0].astype(int)
        numbers = numbers[(numbers >= 0) & (numbers < len(self.picture.objects))]
        return self.picture.objects[int(np.bincount(numbers).argmax())] if len(numbers) else ""

    def place(self, mask: np.ndarray) -> tuple[Box, float, str, str]:
        """Of a mask of pixels of the window: its box in pixels of the frame, its share of the picture, its place in words, and its object."""
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


def as_filtered(case: Case, image: np.ndarray, smear: np.ndarray | None, error: np.ndarray | None) -> Case:
    """The case of a picture's filtered version: image [rows, columns, 3], with smear and error as `core.render.filter.Filtered` has them."""
    passes = {name: plane for name, plane in case.picture.passes.items() if name not in ("variance", "fireflies", "half")}
    passes["beauty"] = np.concatenate([image[..., :3], case.picture.beauty[..., 3:]], axis=2)
    if error is not None:
        passes["variance"] = np.repeat(error[..., None].astype(np.float64) ** 2, 3, axis=2)
    return replace(case, picture=replace(case.picture, passes=passes), filtered=image, smear=smear, unfiltered=case.light)


def tidied(mask: np.ndarray, by: int) -> np.ndarray:
    """A mask without parts and holes narrower than some pixels, as one would draw it by hand."""
    around = np.pad(mask, 2 * by, mode="edge")
    plain = ndimage.binary_opening(ndimage.binary_closing(around, iterations=by), iterations=by)[2 * by : -2 * by, 2 * by : -2 * by]
    return plain if plain.any() else mask


def placed(case: Case, mask: np.ndarray, **known: Any) -> Finding:
    """A finding over a mask of pixels; `known` holds its other fields; `{there}` in its title and why becomes the object and place."""
    box, share, where, name = case.place(mask)
    part = where if where.startswith(("in ", "over ")) else f"in the {where} part"
    there = f"on {short(name)}, {part}" if name else part
    for text in ("title", "why"):
        known[text] = known[text].replace("{there}", there).replace("{share}", f"{share * 100.0:.0f} %" if share >= 0.01 else "a spot")
    known.setdefault("about", name)
    return Finding(box=box, share=share, where=where, mask=case.in_cells(mask), weak=case.weak, **known)


def estimated_error(light: np.ndarray) -> np.ndarray:
    """Standard error of pixels from the differences of neighbours, [rows, columns]: the median absolute deviation of the finest differences (Donoho
    & Johnstone 1994, "Ideal spatial adaptation by wavelet shrinkage", section 4.2), those of Immerkaer 1996, "Fast Noise Variance Estimation".
    Where differences are correlated between pixels they belong to the surface, not to noise, and count less."""
    response = np.abs(ndimage.convolve(light, LAPLACIAN, mode="nearest")) / 6.0
    local = ndimage.percentile_filter(response, 50, WINDOW, mode="nearest") / 0.6745
    texture = ndimage.uniform_filter(_goes_on(light), WINDOW, mode="nearest")
    return local * np.clip(1.0 - texture, 0.0, 1.0)


def _goes_on(light: np.ndarray) -> np.ndarray:
    """Correlation of fine differences between neighbouring pixels, 0 to 1: that of noise is 0."""
    fine = light - ndimage.uniform_filter(light, 5, mode="nearest")
    power = ndimage.uniform_filter(fine**2, WINDOW, mode="nearest") + 1e-20
    beside = sum(ndimage.uniform_filter(fine * np.roll(fine, 1, axis), WINDOW, mode="nearest") for axis in (0, 1)) / 2.0
    # Subtracting the mean of five leaves noise slightly anticorrelated.
    return np.clip(1.6 * (beside / power + 0.05), 0.0, 1.0)
