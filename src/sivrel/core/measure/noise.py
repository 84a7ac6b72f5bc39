"""The noise of a picture, from the variance measured while rendering, and where it is not known yet."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.ndimage import uniform_filter

from ..pictures.exr import Picture

DARK = 0.05
"""The eye's floor, as a share of the mean luminance: below it grain is judged against the floor."""
LUMINANCE = np.array([0.2126, 0.7152, 0.0722], np.float32)
NEIGHBOURHOOD = 15
"""Window in pixels over which brightness and variance are averaged."""
FEW_FINDS = 12.0
"""Least number of contributing samples, in a neighbourhood or the picture, for the variance to be known: with n equal contributions the
variance has a relative error of about 1 / sqrt(n)."""
MOST_UNKNOWN = 0.5
"""Share of the lit picture with too few contributions above which no figure is given."""
TAIL = 0.99


@dataclass(frozen=True)
class Noise:
    """level: root mean square over the pixels of the standard error over the brightness of the neighbourhood, None if it is not known yet;
    tail: the level that a hundredth of the picture exceeds, averaged over a neighbourhood; unknown: share of the lit picture where too few samples
    contributed to know its noise; why: a sentence if the level is not known yet, else empty."""

    level: float | None
    tail: float
    unknown: float
    why: str = ""

    def as_dict(self) -> dict[str, Any]:
        return dict(self.__dict__)


def relative_weights(luminance: np.ndarray, mean: float | None = None) -> np.ndarray:
    """Weights for the variance of pixels by perceived brightness, flat, for luminances [rows, columns]; `mean`: of the whole picture,
    if they are a part of it.

    By the brightness of a pixel's neighbourhood: by its own, a pixel with an outlier would count too little, and one in which only
    the second half of a pair has an outlier too much.
    """
    around = uniform_filter(luminance, NEIGHBOURHOOD, mode="reflect").reshape(-1)
    return 1.0 / np.maximum(around + DARK * (luminance.mean() if mean is None else mean), 1e-12) ** 2


def measure_noise(picture: Picture, unfound: float = 0.0) -> Noise | None:
    """The noise of a picture: the expected difference of two renders with different seeds, over the root of two. `unfound`: relative variance of a
    pixel from light that hardly any sample has found, see measure/unfound.py. None if nothing was measured, or with one sample per pixel, which
    has no variance.

    Variances are averaged before taking the root: where few samples found light, most pixels look clean and few noisy, and the mean of
    their standard errors would be far too low. Scrambled Sobol samples have less error than their variance suggests, so this is an upper bound.
    """
    variance = picture.passes.get("variance")
    if variance is None or not np.isfinite(variance).all():
        return None
    light = picture.beauty[..., :3].astype(np.float64) @ LUMINANCE
    # The channels of a path are fully correlated: their standard errors add.
    spread = (np.sqrt(np.maximum(variance, 0.0)) @ LUMINANCE).astype(np.float64) ** 2
    if light.mean() <= 0.0:
        return Noise(None, 0.0, 1.0, "No sample has found light.")
    relative = spread * relative_weights(light).reshape(light.shape)
    level = float(np.sqrt(relative.mean()))
    tail = float(np.sqrt(np.quantile(uniform_filter(relative, NEIGHBOURHOOD, mode="reflect"), TAIL)))
    unknown = _share_unknown(picture, light, spread)
    carriers = float(relative.sum() ** 2 / max((relative**2).sum(), 1e-300))
    if unknown > MOST_UNKNOWN:
        return Noise(None, tail, unknown, f"Over {unknown * 100.0:.0f} % of the picture too few samples have found light.")
    if level > 0.0 and carriers < FEW_FINDS:
        rest = float(np.sqrt(np.mean(relative[relative <= np.quantile(relative, TAIL)])))
        few = "one pixel" if round(carriers) <= 1 else f"{carriers:.0f} pixels"
        return Noise(None, tail, unknown, f"Nearly all of it comes from {few} that found rare light; the rest has {rest:.1%}.")
    if unfound > level**2:
        bound = f"{unfound**0.5 * 100.0:.0f} %" if unfound < 1e4 else "any amount"
        return Noise(None, tail, unknown, f"Glow that hardly any sample has found may add {bound}: aim at it, or take more samples.")
    return Noise(level, tail, unknown)


def noise_in_words(noise: Noise) -> str:
    """The noise of a picture in a few words."""
    if noise.level is None:
        return f"not known yet: {noise.why}"
    tail = f", worst hundredth over {noise.tail:.0%}" if noise.tail > 2.0 * noise.level else ""
    unknown = f", not known yet over {noise.unknown:.0%} of the picture" if noise.unknown > 0.01 else ""
    return f"{noise.level:.1%} (root mean square{tail}{unknown})"


def noise_level(picture: Picture) -> float | None:
    """The level of `measure_noise`, also None if it is not known yet."""
    noise = measure_noise(picture)
    return None if noise is None else noise.level


def _share_unknown(picture: Picture, light: np.ndarray, spread: np.ndarray) -> float:
    """Share of non-empty pixels whose neighbourhood's light comes from fewer than FEW_FINDS samples."""
    if "samples" not in picture.passes:
        return 0.0
    samples = np.maximum(picture.passes["samples"][..., 0].astype(np.float64), 1.0)
    there = picture.beauty[..., 3] > 0.0
    if picture.recipe is not None and picture.recipe.gi.seen == "off":
        there = there & (light > 0.0)  # without bounces shade is black, which is certain
    if not there.any():
        return 0.0
    sums, squares = samples * light, samples * ((samples - 1.0) * spread + light**2)
    sums, squares = (uniform_filter(part, NEIGHBOURHOOD, mode="reflect") for part in (sums, squares))
    finds = NEIGHBOURHOOD**2 * sums**2 / np.maximum(squares, 1e-300)
    return float((finds[there] < FEW_FINDS).mean())
