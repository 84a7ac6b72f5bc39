"""How far renders are off: noise and bias apart, as the eye weighs them, against a long render by brute force in two halves."""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from ..diagnose.grid import Grid
from ..diagnose.stand import Stand
from ..measure.ledger import relative_weights
from ..measure.noise import LUMINANCE
from ..render.frame import Frame

MOST = 1.0
"""Times its brightness that a pixel counts as off at most: a few fireflies do not decide."""
BLOCK = 4
"""Pixels a side of the cells in which bias is told from chance."""


@dataclass(frozen=True)
class Error:
    """Root mean squares, relative to the brightness about each.

    noise: what another seed would change; bias: what no more samples clear, with its standard error; light: ratio of the mean light to the
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
    """A long render of a region by brute force. colours: of its two halves, which share no chance, [rows, columns, 3]; error: of their mean, as
    `Error.noise`; seconds it took in all."""

    colours: tuple[np.ndarray, np.ndarray]
    error: float
    seconds: float

    @property
    def colour(self) -> np.ndarray:
        return (self.colours[0] + self.colours[1]) / 2.0

    @property
    def lights(self) -> tuple[np.ndarray, np.ndarray]:
        return self.colours[0] @ LUMINANCE, self.colours[1] @ LUMINANCE


def reference(stand: Stand, frame: Frame, seconds: float) -> Reference | None:
    """Brute force of a frame's window, refined until it has taken `seconds` in all, and kept; None when cancelled."""
    grid = Grid(frame.width, frame.height, frame.width, frame.height, frame.window)
    truth, ready, recipe = stand.coarse(grid)
    left = seconds - truth.seconds
    if left > 0.1 * seconds or truth.samples == 0:
        if not truth.refine(ready, recipe, max(left, 0.1), stand.cancel):
            return None
        stand.keep_coarse(truth, ready, recipe)
    x0, y0, x1, y1 = frame.window
    one, other = (truth.sum[k, y0:y1, x0:x1] / max(1, truth.taken[k]) for k in (0, 1))
    lights = one @ LUMINANCE, other @ LUMINANCE
    return Reference((one, other), float(np.sqrt(variance_between(*lights, (lights[0] + lights[1]) / 2.0).mean() / 2.0)), truth.seconds)


def variance_between(one: np.ndarray, other: np.ndarray, around: np.ndarray, mean: float | None = None) -> np.ndarray:
    """Variance [rows, columns] of each of two renders' luminances that share nothing but the shot, by what they differ in; relative to luminances
    `around`, as the eye weighs them. `mean`: of the whole picture, where they are a part of it."""
    return np.minimum(relative_weights(around, mean).reshape(one.shape) * (one - other) ** 2, MOST**2) / 2.0


def _pooled(image: np.ndarray) -> np.ndarray:
    """Means of cells of BLOCK x BLOCK pixels, those at the far edges of fewer."""
    rows, columns = (np.arange(0, n, BLOCK) for n in image.shape)
    sums = np.add.reduceat(np.add.reduceat(image, rows, axis=0), columns, axis=1)
    return sums / np.outer(np.diff(np.append(rows, image.shape[0])), np.diff(np.append(columns, image.shape[1])))


def error_of(one: np.ndarray, other: np.ndarray, held: Reference) -> Error:
    """How far two renders of one recipe with seeds of their own are off, from their luminances: noise by what they differ in, pixel by pixel; bias
    by what cells of some pixels are off in both, as products with halves of the reference that share nothing, so that chance drops out on
    average."""
    r1, r2 = held.lights
    around = (r1 + r2) / 2.0
    noise = float(np.sqrt(variance_between(one, other, around).mean()))
    one, other, r1, r2 = (_pooled(light) for light in (one, other, r1, r2))
    root = np.sqrt(_pooled(relative_weights(around).reshape(around.shape)))

    def off(light: np.ndarray, against: np.ndarray) -> np.ndarray:
        return np.clip(root * (light - against), -MOST, MOST)

    products = (off(one, r1) * off(other, r2) + off(one, r2) * off(other, r1)) / 2.0
    squared, spread = float(products.mean()), float(products.std()) / products.size**0.5
    bias = max(0.0, squared) ** 0.5
    # What is below its own standard error has that as its bound.
    bias_error = min(spread**0.5, spread / (2.0 * bias)) if bias > 0.0 else spread**0.5
    light = float((one + other).mean() / max((r1 + r2).mean(), 1e-12))
    return Error(noise, bias, bias_error, light)
