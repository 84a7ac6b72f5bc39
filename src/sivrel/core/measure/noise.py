"""How noisy a picture is, from the variance that was measured while it was rendered, and where that is not known yet."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.ndimage import uniform_filter

from ..pictures.exr import Picture

DARK = 0.05
"""Share of the mean luminance that counts as the eye's floor: below it grain is judged against the floor."""
LUMINANCE = np.array([0.2126, 0.7152, 0.0722], np.float32)
NEIGHBOURHOOD = 15
"""Pixels across over which brightness and variance are averaged."""
FEW_FINDS = 12.0
"""Samples that must have brought the light of a neighbourhood, or the noise of a picture, for its spread to be known: of n equal finds the
variance is known to a share of about 1 / sqrt(n)."""
MOST_UNKNOWN = 0.5
"""Share of the lit picture where too little was found from which no figure is given."""
TAIL = 0.99


@dataclass(frozen=True)
class Noise:
    """level: root mean square over the pixels of the standard error over the brightness of the neighbourhood, None where it is not known yet;
    tail: what a hundredth of the picture exceeds, in the mean over a neighbourhood; unknown: share of the lit picture where too few samples have
    found light to know its noise; why: a level is not known yet, in a sentence, else empty."""

    level: float | None
    tail: float
    unknown: float
    why: str = ""

    def as_dict(self) -> dict[str, Any]:
        return dict(self.__dict__)


def relative_weights(luminance: np.ndarray, mean: float | None = None) -> np.ndarray:
    """What a pixel's variance is multiplied by to be judged as the eye does, flat, for luminances [rows, columns]; `mean`: of the whole picture,
    where they are a part of it.

    By the brightness of its neighbourhood: by its own, a pixel with a lucky sample would count for little, and one in which only
    the second time of a pair was lucky for much.
    """
    around = uniform_filter(luminance, NEIGHBOURHOOD, mode="reflect").reshape(-1)
    return 1.0 / np.maximum(around + DARK * (luminance.mean() if mean is None else mean), 1e-12) ** 2


def measure_noise(picture: Picture, unfound: float = 0.0) -> Noise | None:
    """The noise of a picture: what two renders with other seeds differ by, over the root of two. `unfound`: relative variance of a pixel that
    light brings which hardly any sample has found, see measure/unfound.py. None when nothing was measured, or one sample a pixel was taken, which
    tells nothing about its spread.

    Variances are averaged before the root is taken: where few samples found light, most pixels look clean and few noisy, and the mean of
    their standard errors would be far too low. Scrambled Sobol samples err less than their spread tells, so this is an upper bound.
    """
    variance = picture.passes.get("variance")
    if variance is None or not np.isfinite(variance).all():
        return None
    light = picture.beauty[..., :3].astype(np.float64) @ LUMINANCE
    # The channels of one path rise and fall together: their standard errors add.
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
        return Noise(None, tail, unknown, f"Nearly all of it comes from {few}, which rare light happened to find; the rest has {rest:.1%}.")
    if unfound > level**2:
        bound = f"{unfound**0.5 * 100.0:.0f} %" if unfound < 1e4 else "any amount"
        return Noise(None, tail, unknown, f"Glow that hardly a sample has found may bring {bound}: aim at it, or take more samples.")
    return Noise(level, tail, unknown)


def noise_in_words(noise: Noise) -> str:
    """The noise of a picture in a few words."""
    if noise.level is None:
        return f"not known yet: {noise.why}"
    tail = f", worst hundredth over {noise.tail:.0%}" if noise.tail > 2.0 * noise.level else ""
    unknown = f", not known yet over {noise.unknown:.0%} of the picture" if noise.unknown > 0.01 else ""
    return f"{noise.level:.1%} (root mean square{tail}{unknown})"


def noise_level(picture: Picture) -> float | None:
    """The level of `measure_noise`, None also where that is not known yet."""
    noise = measure_noise(picture)
    return None if noise is None else noise.level


def _share_unknown(picture: Picture, light: np.ndarray, spread: np.ndarray) -> float:
    """Share of the pixels that show something where their neighbourhood's light rests on fewer than FEW_FINDS samples."""
    if "samples" not in picture.passes:
        return 0.0
    samples = np.maximum(picture.passes["samples"][..., 0].astype(np.float64), 1.0)
    there = picture.beauty[..., 3] > 0.0
    if picture.recipe is not None and picture.recipe.gi.seen == "off":
        there = there & (light > 0.0)  # without bounces shade is black, and known to be
    if not there.any():
        return 0.0
    sums, squares = samples * light, samples * ((samples - 1.0) * spread + light**2)
    sums, squares = (uniform_filter(part, NEIGHBOURHOOD, mode="reflect") for part in (sums, squares))
    finds = NEIGHBOURHOOD**2 * sums**2 / np.maximum(squares, 1e-300)
    return float((finds[there] < FEW_FINDS).mean())
