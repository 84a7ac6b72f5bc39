"""Errors of renders: noise and bias separately, perceptually weighted, against a long brute-force render in two halves."""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from ..diagnose.grid import Grid
from ..diagnose.trial_renderer import TrialRenderer
from ..measure.noise import LUMINANCE, relative_weights
from ..render.frame import Frame
from .render import Taken

MOST = 1.0
"""Largest error of a pixel relative to its brightness, so that a few fireflies do not dominate."""
BLOCK = 4
"""Side in pixels of the cells in which bias is separated from noise."""


@dataclass(frozen=True)
class Error:
    """Root mean squares, relative to the local brightness.

    noise: what another seed would change; bias: what more samples do not remove, with its standard error; light: ratio of the mean light to the
    reference's.
    """

    noise: float
    bias: float
    bias_error: float
    light: float

    @property
    def total(self) -> float:
        """Of noise and bias."""
        return (self.noise**2 + self.bias**2) ** 0.5

    def as_dict(self) -> dict[str, Any]:
        return {**asdict(self), "total": self.total}


@dataclass
class Reference:
    """A long render of a region by brute force. colours: of its two halves, with independent noise, [rows, columns, 3]; error: of their mean, as
    `Error.noise`; seconds it took in total."""

    colours: tuple[np.ndarray, np.ndarray]
    error: float
    seconds: float

    @property
    def colour(self) -> np.ndarray:
        return (self.colours[0] + self.colours[1]) / 2.0

    @property
    def lights(self) -> tuple[np.ndarray, np.ndarray]:
        return self.colours[0] @ LUMINANCE, self.colours[1] @ LUMINANCE


def reference(renderer: TrialRenderer, frame: Frame, seconds: float) -> Reference:
    """Brute force of a frame's window, refined until it has taken `seconds` in total, and stored. Raises Cancelled."""
    grid = Grid(frame.width, frame.height, frame.width, frame.height, frame.window)
    truth, ready, recipe = renderer.coarse(grid)
    left = seconds - truth.seconds
    if left > 0.1 * seconds or truth.samples == 0:
        truth.refine(ready, recipe, max(left, 0.1), renderer.task)
        renderer.keep_coarse(truth, ready, recipe)
    x0, y0, x1, y1 = frame.window
    one, other = (truth.sum[k, y0:y1, x0:x1] / max(1, truth.taken[k]) for k in (0, 1))
    lights = one @ LUMINANCE, other @ LUMINANCE
    return Reference((one, other), float(np.sqrt(variance_between(*lights, (lights[0] + lights[1]) / 2.0).mean() / 2.0)), truth.seconds)


def variance_between(one: np.ndarray, other: np.ndarray, around: np.ndarray, mean: float | None = None) -> np.ndarray:
    """Variance [rows, columns] of each of two independent renders' luminances, from their difference; relative to luminances
    `around`, perceptually weighted. `mean`: of the whole picture, if they are a part of it."""
    return np.minimum(relative_weights(around, mean).reshape(one.shape) * (one - other) ** 2, MOST**2) / 2.0


def pooled(image: np.ndarray, side: int | tuple[int, int] = BLOCK) -> np.ndarray:
    """Means of cells of side x side pixels, or of that many rows and columns, those at the far edges of fewer."""
    rows, columns = (np.arange(0, n, step) for n, step in zip(image.shape, (side, side) if isinstance(side, int) else side, strict=True))
    sums = np.add.reduceat(np.add.reduceat(image, rows, axis=0), columns, axis=1)
    return sums / np.outer(np.diff(np.append(rows, image.shape[0])), np.diff(np.append(columns, image.shape[1])))


def noise_of_mean(one: np.ndarray, other: np.ndarray, around: np.ndarray) -> float:
    """Noise of the mean of two renders' luminances, from differences of neighbouring pixels: the mean of two pixels has the noise of twice
    the samples. Where few pixels hold most of it and are limited to MOST, noise falls by less than the root of the samples."""
    weights, apart = relative_weights(around).reshape(around.shape), one - other
    of_pairs = [np.minimum(pooled(weights, pair) * pooled(apart, pair) ** 2, MOST**2).mean() / 2.0 for pair in ((1, 2), (2, 1))]
    return float(np.mean(of_pairs) ** 0.5)


def error_of(one: np.ndarray, other: np.ndarray, held: Reference) -> Error:
    """The error of two renders of one recipe with different seeds, from their luminances: noise from their difference, pixel by pixel; bias
    from the common error of cells in both, as products with independent halves of the reference, so that noise cancels on
    average."""
    r1, r2 = held.lights
    around = (r1 + r2) / 2.0
    noise = float(np.sqrt(variance_between(one, other, around).mean()))
    root = np.sqrt(pooled(relative_weights(around).reshape(around.shape)))
    one, other, r1, r2 = (pooled(light) for light in (one, other, r1, r2))
    products = _products(root, one, other, r1, r2)
    bias, bias_error = _bias(*_mean(products.reshape(-1), np.ones(products.size)))
    light = float((one + other).mean() / max((r1 + r2).mean(), 1e-12))
    return Error(noise, bias, bias_error, light)


def squared_bias_of_blocks(
    pair: tuple[Taken, Taken], held: tuple[Taken, Taken], without: tuple[Taken, Taken], by_pixel: list[np.ndarray]
) -> tuple[float, float]:  # fmt: skip
    """Squared bias, which noise can make negative, and its standard error, of two renders of blocks against two by brute force, `held`,
    all independent. The error of two more by brute force, `without` bias, is subtracted cell by cell: rare paths in
    `held` show in both alike (control variates: Hammersley & Handscomb 1964, "Monte Carlo Methods", section 5.5). by_pixel: weights of the pixels
    of each block."""
    products, weights = [], []
    for k, of_pixels in enumerate(by_pixel):
        root, truths = np.sqrt(pooled(of_pixels)), [pooled(taken.lights[k]) for taken in held]
        own, control = (_products(root, *(pooled(taken.lights[k]) for taken in two), *truths) for two in (pair, without))
        products.append((own - control).reshape(-1))
        weights.append(np.full(own.size, held[0].weights[k] * of_pixels.size / own.size))
    return _mean(np.concatenate(products), np.concatenate(weights))


def _products(root: np.ndarray, one: np.ndarray, other: np.ndarray, r1: np.ndarray, r2: np.ndarray) -> np.ndarray:
    """By cell, products of two renders' errors against two references, whose mean is the squared bias."""
    return (_off(root, one, r1) * _off(root, other, r2) + _off(root, one, r2) * _off(root, other, r1)) / 2.0


def _off(root: np.ndarray, light: np.ndarray, against: np.ndarray) -> np.ndarray:
    return np.clip(root * (light - against), -MOST, MOST)


def _bias(squared: float, spread: float) -> tuple[float, float]:
    """The root of a square, and its standard error, which is also the bound for smaller values."""
    bias = max(0.0, squared) ** 0.5
    return bias, min(spread**0.5, spread / (2.0 * bias)) if bias > 0.0 else spread**0.5


def _mean(products: np.ndarray, weights: np.ndarray) -> tuple[float, float]:
    """The weighted mean of products [n], and its standard error."""
    weights = weights / weights.sum()
    mean = float(weights @ products)
    return mean, float((weights**2 @ (products - mean) ** 2) ** 0.5)
