"""Blotches: light that varies where brute force's does not, in patches many pixels wide.

The difference from brute force is taken twice, with only the cache in common: by the two halves of the picture's paired render, or by the picture
and one half. Their covariance is not noise: its root is the blotches' contrast, and its correlation length between cells
their size. Wide differences are bias, and are removed first.
"""

import numpy as np
from scipy import ndimage

from ..suspect import BLOTCHES
from .case import Case, placed, tidied
from .eye import SEEN
from .finding import Finding
from .measures import covariance
from .suspects import of_light, ways_in_use
from .truth import Coarse

WIDE = 6.0
"""Width in cells from which a difference is a bias, not a blotch."""
WINDOW = 15
CERTAIN = 4.5
INDEPENDENT = 0.0796
"""Share of the cells that are independent after a Gaussian of one cell: 1 / 4 pi."""
LEAST_CONTRAST, LEAST_SHARE = 0.025, 0.01


def find(case: Case, truth: Coarse) -> list[Finding]:
    if case.recipe is None or not ways_in_use(case.recipe):
        return []
    flat = case.flat
    if flat.sum() < 64 or case.paired is None:
        return []
    blotchy, strength, size = patches_in(case, bands_of(case, truth))
    seen = case.seen(strength, size)
    if blotchy.mean() < LEAST_SHARE or strength < LEAST_CONTRAST or seen < SEEN:
        return []
    labels, _ = ndimage.label(ndimage.binary_dilation(blotchy, iterations=2))
    counts = np.bincount(labels[blotchy])
    worst = labels == counts[1:].argmax() + 1
    made = placed(
        case, case.spread(tidied(worst & blotchy, 2)), kind="blotches", measure="structure", amount=strength, contrast=strength, size=size, seen=seen,
        title="Blotches {there}: patches about " + f"{size:.0f} pixels wide.",
        why=f"Light there varies by {strength:.0%} about brute force's, more than noise explains.",
        evidence={"strength": strength, "size_px": size, "share_blotchy": float(blotchy.mean())},
    )  # fmt: skip
    made.share = float(blotchy.mean())
    made.suspects = of_light(case.recipe, BLOTCHES, case.radii, case.own_shadows)
    return [made]


def patches_in(case: Case, bands: list[np.ndarray]) -> tuple[np.ndarray, float, float]:
    """Where two differences with independent noise are correlated on flat cells, bool [rows, columns], the contrast, and the size of patches in
    pixels."""
    flat, product, powers = case.flat, bands[0] * bands[1], [band**2 for band in bands]
    inside = np.maximum(ndimage.uniform_filter(flat.astype(float), WINDOW, mode="constant"), 0.15)
    local = ndimage.uniform_filter(product, WINDOW, mode="constant") / inside
    power = [ndimage.uniform_filter(p, WINDOW, mode="constant") / inside for p in powers]
    error = np.sqrt(np.maximum(power[0] * power[1], 0.0) / (WINDOW**2 * INDEPENDENT * inside))
    blotchy = (local > CERTAIN * error) & (local > 0.25 * LEAST_CONTRAST**2) & flat
    strength = float(np.sqrt(max(local[blotchy].mean(), 0.0))) if blotchy.any() else 0.0
    # Over the whole picture, for blotches too faint in any single place.
    total, chance = covariance(bands[0][flat], bands[1][flat], flat.sum() * INDEPENDENT)
    if blotchy.mean() < LEAST_SHARE and total > CERTAIN * chance:
        blotchy, strength = flat, float(np.sqrt(total))
    return blotchy, strength, _size(bands, flat) * case.grid.step


def bands_of(case: Case, truth: Coarse) -> list[np.ndarray]:
    """Two differences from brute force with only the recipe in common, on flat cells: of the two halves of its paired render; of the picture and one
    of them, where that has less noise."""
    assert case.paired is not None
    apart = case.paired.apart(truth)
    one, other = apart.halves
    one = np.where(case.by_echo(truth, apart), one, case.grid.pool(case.light) - truth.halves[0])
    return [band(case, truth.light + off, truth.light, case.flat) for off in (one, other)]


def _mean(plane: np.ndarray, inside: np.ndarray, sigma: float) -> np.ndarray:
    """A Gaussian mean over the inside only."""
    weight = ndimage.gaussian_filter(inside.astype(float), sigma, mode="constant")
    return ndimage.gaussian_filter(np.where(inside, plane, 0.0), sigma, mode="constant") / np.maximum(weight, 1e-3)


def band(case: Case, light: np.ndarray, against: np.ndarray, flat: np.ndarray) -> np.ndarray:
    """Contrast of the difference of two lights, smoothed by a cell and high-pass filtered, on flat places only."""
    smooth = [_mean(plane, flat, 1.0) for plane in (light, against)]
    relative = case.contrast_of(smooth[0], smooth[1])
    return np.where(flat, relative - _mean(relative, flat, WIDE), 0.0)


def _size(bands: list[np.ndarray], inside: np.ndarray) -> float:
    """Cells across a patch: twice the distance at which its correlation has halved, along rows and columns."""
    power = float((bands[0] * bands[1])[inside].mean())
    for lag in range(1, 12):
        along = []
        for axis in (0, 1):
            pair = inside & np.roll(inside, lag, axis)
            along.append(float((bands[0] * np.roll(bands[1], lag, axis))[pair].mean()) if pair.any() else 0.0)
        if np.mean(along) < 0.5 * power:
            return 2.0 * lag
    return 24.0
