"""How the amount of a flaw is measured on small renders: in the same way for the render as it is, for one with a change, and for a remedy's proof.

Amounts are relative, with their standard errors: light over brute force's light; variation of light about brute force's
beyond noise; contrast of grain; share of fireflies.
"""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from scipy import ndimage

from ..measure.noise import DARK
from ..render import film as columns
from .eye import contrast, contrast_of_noise
from .patch import Patch

STANDS_OUT, LEAST_CONTRAST = 8.0, 0.25
"""Of a firefly: least ratio to the noise between its neighbours, and displayed contrast."""
RING = np.ones((3, 3), bool)
RING[1, 1] = False


class Amount(NamedTuple):
    value: float
    error: float


class About(NamedTuple):
    """Parameters of a measure: mask of the patch's pixels; sign of the flaw; exposure; samples a pixel of the proof; mean luminance of
    the whole picture; spread: noise between neighbours in the render as it is, the reference for fireflies;
    wide: width in pixels from which a difference is a bias, not a structure."""

    mask: np.ndarray
    sign: int
    exposure: float
    samples: float
    mean: float
    spread: np.ndarray | None = None
    wide: float = 6.0


def whole_error(patch: Patch, truth: Patch, samples: float) -> float:
    """Root mean square error of a patch against brute force, relative to its light, for that many samples per pixel: bias
    beyond the noise of both, which no samples remove, and its noise. A change that lowers one and raises the other is judged by this sum."""
    floor = DARK * float(truth.light.mean())
    weights = 1.0 / np.maximum(ndimage.uniform_filter(truth.light, 5, mode="nearest") + floor, 1e-12) ** 2
    off = (patch.light - truth.light) ** 2 - patch.variance - truth.variance
    noise = patch.variance * patch.samples / max(samples, 1.0)
    return float(max((weights * (off + noise)).mean(), 0.0)) ** 0.5


def bias_of(
    light: np.ndarray, variance: np.ndarray, against: np.ndarray, chance: np.ndarray, mask: np.ndarray, exposure: float
) -> Amount:  # fmt: skip
    """Signed displayed contrast of the mean light of a mask against other light, each with its variance, and its error."""
    one, other = float(light[mask].mean()), float(against[mask].mean())
    error = float(np.sqrt(variance[mask].sum() + chance[mask].sum())) / mask.sum()
    slope = contrast(np.array(one + 0.5 * error), np.array(max(one - 0.5 * error, 0.0)), exposure)
    return Amount(float(contrast(np.array(one), np.array(other), exposure)), abs(float(slope)) + 1e-6)


def covariance(one: np.ndarray, other: np.ndarray, independent: float) -> tuple[float, float]:
    """Mean product of two differences with independent noise, and its standard error for that many independent values."""
    return float((one * other).mean()), float(np.sqrt((one**2).mean() * (other**2).mean() / independent))


def root(square: float, error: float) -> Amount:
    """The root of an estimated square, which noise can make negative, and its error."""
    value = max(square, 0.0) ** 0.5
    return Amount(value, error / (2.0 * max(value, error**0.5)))


def bias(patch: Patch, truth: Patch | None, about: About) -> Amount:
    """Deviation of a place's light from brute force, as a displayed contrast, positive in the direction of the flaw."""
    assert truth is not None
    signed = bias_of(patch.light, patch.variance, truth.light, truth.variance, about.mask, about.exposure)
    return Amount(about.sign * signed.value, signed.error)


def structure(patch: Patch, truth: Patch | None, about: About) -> Amount:
    """Root mean square contrast of a place's high-pass filtered difference from brute force, without noise: the covariance of two differences that
    have only the recipe in common. Light is smoothed over three cells first, to reduce noise."""
    assert truth is not None
    inside = about.mask if about.mask.sum() >= 16 else np.ones_like(about.mask)
    pairs = [*zip(patch.halves or (patch.light, patch.light), truth.halves or (truth.light, truth.light), strict=True)]
    bands = []
    for light, against in pairs:
        smooth = [ndimage.uniform_filter(plane, 3, mode="nearest") for plane in (light, against)]
        band = contrast(smooth[0], smooth[1], about.exposure)
        bands.append((band - ndimage.gaussian_filter(band, about.wide, mode="nearest"))[inside])
    return root(*covariance(bands[0], bands[1], max(4.0, inside.sum() / 9.0)))


def noise(patch: Patch, truth: Patch | None, about: About) -> Amount:
    """Contrast of the grain at the proof's samples: root mean square, without rare bright pixels."""
    per_sample = patch.variance * patch.samples
    error = np.sqrt(ndimage.median_filter(per_sample, 5, mode="nearest") / max(about.samples, 1.0))
    light = ndimage.uniform_filter(patch.light, 5, mode="nearest")
    grain = contrast_of_noise(light, error, about.exposure)[about.mask]
    value = float(np.sqrt((grain**2).mean()))
    return Amount(value, value * float(np.sqrt(0.5 / max(4.0, about.mask.sum() / 9.0) + 1.0 / max(2.0, patch.samples) / 4.0)) * 0.5 + 1e-6)


def sparkle(patch: Patch, truth: Patch | None, about: About) -> Amount:
    """Share of fireflies among the pixels, at the patch's samples."""
    brought = patch.film[..., columns.BRIGHTEST] / np.maximum(patch.film[..., columns.SAMPLES], 1.0)
    dots = dots_in(patch.light, patch.variance, brought, about.mean, about.exposure, about.spread)
    count, of = int(dots[about.mask].sum()), int(about.mask.sum())
    return Amount(count / of, float(np.sqrt(count + 1.0)) / of)


def self_hits(patch: Patch, truth: Patch | None, about: About) -> Amount:
    """Share of the samples that hit the triangle they left."""
    hits = patch.film[..., columns.SELF_HITS][about.mask]
    return Amount(float(hits.mean()), float(hits.std() / np.sqrt(max(1, hits.size))) + 1e-6)


def spread_of(light: np.ndarray, variance: np.ndarray | None) -> np.ndarray:
    """Noise between neighbours, [rows, columns]: their median absolute deviation (Hampel 1974, "The Influence Curve and its Role in
    Robust Estimation"), or their measured standard error if that is larger."""
    middle = ndimage.median_filter(light, 5, mode="nearest")
    spread = ndimage.median_filter(np.abs(light - middle), 7, mode="nearest") * 1.4826
    return spread if variance is None else np.maximum(spread, np.sqrt(ndimage.median_filter(variance, 5, mode="nearest")))


def dots_in(
    light: np.ndarray, variance: np.ndarray | None, brought: np.ndarray | None, mean: float, exposure: float, spread: np.ndarray | None = None
) -> np.ndarray:  # fmt: skip
    """bool [rows, columns]: fireflies: they stand out from their surroundings by many times the noise there, here and in
    another picture with noise `spread`, visibly, and are due to their brightest single contribution `brought`, if known; otherwise they have no
    neighbour of their kind."""
    middle = ndimage.median_filter(light, 5, mode="nearest")
    own = spread_of(light, variance)
    spread = own if spread is None else np.maximum(own, spread)
    out = light - middle
    dots = (out > STANDS_OUT * (spread + 0.02 * (middle + DARK * mean))) & (contrast(light, middle, exposure) > LEAST_CONTRAST)
    if brought is not None:
        return dots & (brought > 0.5 * out)
    return dots & (light > 1.8 * ndimage.maximum_filter(light, footprint=RING, mode="nearest"))


MEASURES: dict[str, Callable[[Patch, Patch | None, About], Amount]] = {
    "bias": bias,
    "structure": structure,
    "noise": noise,
    "sparkle": sparkle,
    "self_hits": self_hits,
}
NEED_TRUTH = {"bias", "structure"}


def explained(before: Amount, after: Amount) -> Amount:
    """Share of a flaw that was removed, with its error. (For grain, shares of variance are computed elsewhere.)"""
    if before.value <= 0.0:
        return Amount(0.0, 1.0)
    share = 1.0 - abs(after.value) / before.value  # an overshoot is as wrong
    error = float(np.hypot(after.error, after.value / before.value * before.error)) / before.value
    return Amount(share, error)
