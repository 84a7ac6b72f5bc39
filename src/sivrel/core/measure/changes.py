"""Where two pictures differ by more than chance: the means of blocks of several sizes, channel by channel, and the pattern of each object.

A block's mean difference is held to the variance that was measured while the pictures were rendered. Where nothing has changed the samples'
differences are symmetric, and their sum over the root of their squares has the tails of a Gaussian, however rare the light and however few
they are (Efron 1969, "Student's t-test under symmetry conditions"): a handful of lucky samples never counts as a change.
"""

import math
from typing import NamedTuple

import numpy as np

from ..formats.exr import Picture
from ..render.recipe import Recipe
from .noise import DARK, LUMINANCE

SIDES = (1, 2, 4, 8, 16, 32, 64)
"""Sides of the blocks in pixels."""
FALSE = 0.01
"""Chance of calling any block of two pictures changed that differ by their seeds alone."""
PATTERN_SIDE, LEAST_BLOCKS = 8, 24
"""Of the blocks by which an object's pattern is judged: their side in pixels at most, and how many there must be."""
EVEN_SQUARES = 1.1
"""Mean of squared differences over their variance where nothing has changed, at most: variances of few samples are themselves uncertain."""
LEAST_REGION = 24
"""Pixels of an object, or of what has taken its place, to be judged as one."""
HIDDEN_SIDE = 32
PATTERN_SIGMAS = 6.0
PATTERN_SEEN = 0.04
"""Root mean square change of an object's blocks, as a share of their light, from which its pattern counts as changed to the eye."""


class Changes(NamedTuple):
    """change: float64 [rows, columns, 3], B − A where it is no chance, in the mean over the smallest block that shows it, else 0;
    patterned: bool [rows, columns], the objects whose pattern has changed though no single block shows it;
    hidden: the smallest change that grain does not hide, as a share of the light, in the median over blocks of 32 pixels."""

    change: np.ndarray
    patterned: np.ndarray
    hidden: float


def changes_between(a: Picture, b: Picture) -> Changes | None:
    """Changes from A to B, which cover the same pixels; None where no variance was measured."""
    if "variance" not in a.passes or "variance" not in b.passes:
        return None
    difference = b.beauty[..., :3].astype(np.float64) - a.beauty[..., :3]
    variance = a.passes["variance"].astype(np.float64) + b.passes["variance"]
    # One sample tells nothing of its spread: the difference itself is the measure then.
    variance = np.where(np.isfinite(variance), np.maximum(variance, 0.0), difference**2)
    shared = _variance_of_caches(a, b)
    samples = np.full(difference.shape[:2], 2.0)
    if "samples" in a.passes and "samples" in b.passes:
        samples = a.passes["samples"][..., 0].astype(np.float64) + b.passes["samples"][..., 0]
    light = (a.beauty[..., :3].astype(np.float64) + b.beauty[..., :3]) / 2.0 @ LUMINANCE
    change, open_, hidden = np.zeros_like(difference), np.ones((*difference.shape[:2], 1)), 0.0
    for side in SIDES:
        # What smaller blocks have shown is left out: a large one would smear it over pixels that have not changed.
        share = np.maximum(block_means(open_, side), 1e-9)
        mean = block_means(difference * open_, side) / share
        pixels = share * _pixels_of(difference.shape, side)
        error = np.sqrt(block_means(variance * open_, side) / share / pixels + block_means(shared, side))
        limit = math.sqrt(2.0 * math.log(2.0 * mean.size * len(SIDES) / FALSE))
        # Squares about nought, not about the mean: so the bound holds for a few samples, too. Without any spread nothing is chance.
        count = pixels * np.maximum(block_means(samples[..., None], side), 1.0)
        chance = np.sqrt(error**2 + np.where(error > 0.0, mean**2 / count, 0.0))
        real = (np.abs(mean) > limit * chance).any(axis=2, keepdims=True)
        found = _spread(real, side, difference.shape) & (open_ > 0.0)
        change = np.where(found, _spread(mean, side, difference.shape), change)
        open_ = np.where(found, 0.0, open_)
        if side == HIDDEN_SIDE:
            around = block_means(light, side) + DARK * light.mean()
            hidden = float(np.median(limit * (error @ LUMINANCE) / np.maximum(around, 1e-30)))
    change = _change_by_regions(a, b, difference, variance, shared, samples, change)
    return Changes(change, _patterned(a, difference, variance, shared, light), hidden)


def block_means(image: np.ndarray, side: int) -> np.ndarray:
    """Means [block rows, block columns, …] over blocks of that many pixels a side; those at the right and lower edges are smaller."""
    rows, columns = (np.arange(0, n, side) for n in image.shape[:2])
    sums = np.add.reduceat(np.add.reduceat(image, rows, axis=0), columns, axis=1)
    high, wide = (np.diff(np.append(at, n)) for at, n in zip((rows, columns), image.shape[:2], strict=True))
    return sums / (high[:, None] * wide).reshape(len(rows), len(columns), *[1] * (image.ndim - 2))


def _pixels_of(shape: tuple[int, ...], side: int) -> np.ndarray:
    """How many pixels each block has, [block rows, block columns, 1]."""
    high, wide = (np.minimum(side, n - np.arange(0, n, side)) for n in shape[:2])
    return (high[:, None] * wide)[..., None]


def _spread(blocks: np.ndarray, side: int, shape: tuple[int, ...]) -> np.ndarray:
    """The value of each pixel's block, [rows, columns, …]."""
    return np.repeat(np.repeat(blocks, side, axis=0), side, axis=1)[: shape[0], : shape[1]]


def _change_by_regions(
    a: Picture, b: Picture, difference: np.ndarray, variance: np.ndarray, shared: np.ndarray, samples: np.ndarray, change: np.ndarray
) -> np.ndarray:  # fmt: skip
    """`change`, and where no block has shown any that of whole objects, and of where one object has taken another's place, in the mean."""
    if "object" not in a.passes or "object" not in b.passes:
        return change
    before, after = (p.passes["object"][..., 0].astype(np.int64) for p in (a, b))
    kinds, regions = np.unique(np.stack([before, after]).reshape(2, -1), axis=1, return_inverse=True)
    regions = regions.reshape(before.shape)
    counts = np.bincount(regions.reshape(-1), minlength=kinds.shape[1])
    change, limit = change.copy(), math.sqrt(2.0 * math.log(2.0 * 3.0 * len(counts) / FALSE))
    for k in np.flatnonzero(counts >= LEAST_REGION):
        inside = (regions == k) & ~(change != 0.0).any(axis=2)
        if inside.sum() < LEAST_REGION:
            continue
        mean, error = difference[inside].mean(axis=0), np.sqrt(variance[inside].mean(axis=0) / inside.sum() + shared[inside].mean(axis=0))
        chance = np.sqrt(error**2 + np.where(error > 0.0, mean**2 / max(samples[inside].sum(), 1.0), 0.0))
        if (np.abs(mean) > limit * chance).any():
            change[inside] = mean
    return change


def _patterned(a: Picture, difference: np.ndarray, variance: np.ndarray, shared: np.ndarray, light: np.ndarray) -> np.ndarray:
    """bool [rows, columns]: objects whose blocks together differ by more than chance, and enough to be seen."""
    marked = np.zeros(difference.shape[:2], bool)
    if "object" not in a.passes:
        return marked
    numbers = a.passes["object"][..., 0].astype(np.int64)
    sizes = np.bincount(numbers[numbers >= 0]) if (numbers >= 0).any() else np.zeros(0)
    by_side: dict[int, list[int]] = {}
    for number in np.flatnonzero(sizes >= LEAST_BLOCKS):
        side = min(max(int(math.sqrt(sizes[number] / (2 * LEAST_BLOCKS))), 1), PATTERN_SIDE)
        by_side.setdefault(1 << (side.bit_length() - 1), []).append(int(number))
    for side, of_side in by_side.items():
        mean = block_means(difference, side)
        error = np.sqrt(block_means(variance, side) / _pixels_of(difference.shape, side) + block_means(shared, side))
        luminance, chance = mean @ LUMINANCE, error @ LUMINANCE
        squares = np.where(chance > 0.0, (luminance / np.maximum(chance, 1e-30)) ** 2, 0.0)
        around = block_means(light, side) + DARK * light.mean()
        middle = numbers[side // 2 :: side, side // 2 :: side]
        rows, columns = (min(m, n) for m, n in zip(middle.shape, squares.shape, strict=True))
        for own in of_side:
            inside = np.zeros(squares.shape, bool)
            inside[:rows, :columns] = middle[:rows, :columns] == own
            if inside.sum() < LEAST_BLOCKS:
                continue
            excess = float(np.mean((luminance[inside] ** 2 - chance[inside] ** 2) / np.maximum(around[inside], 1e-30) ** 2))
            spread = max(math.sqrt(2.0), float(squares[inside].std())) / math.sqrt(inside.sum())
            if squares[inside].mean() > EVEN_SQUARES + PATTERN_SIGMAS * spread and excess > PATTERN_SEEN**2:
                marked |= numbers == own
    return marked


def _variance_of_caches(a: Picture, b: Picture) -> np.ndarray:
    """float64 [rows, columns, 3]: the variance of bounced light by what caches hold, which neighbouring pixels share and so none of them
    shows; none where both pictures were made by the same cache."""
    zero = np.zeros((*a.beauty.shape[:2], 3))
    if a.frame.seed == b.frame.seed and a.recipe == b.recipe:
        return zero
    for picture in (a, b):
        chance = chance_of_caches(picture.recipe) if picture.recipe is not None else 0.0
        if chance > 0.0 and "indirect" in picture.passes:
            zero += (chance * picture.passes["indirect"].astype(np.float64)) ** 2
    return zero


def chance_of_caches(recipe: Recipe) -> float:
    """By how much chance moves what the caches of a recipe serve, as a share of it: about the root of how many rays or photons one answer
    rests on. A rule of thumb: how uneven light is decides the rest."""
    way = recipe.gi.seen
    if way == "irradiance_cache":
        return float(recipe.of(way).rays ** -0.5)
    if way == "photon_map":
        wanted = recipe.of(way)
        return float((wanted.gather * (1 + wanted.final_gather_rays)) ** -0.5)
    if way == "radiance_cache":
        return 0.25
    if way == "baked":
        return float(0.15 / (1 + recipe.of(way).final_gather_rays) ** 0.5)
    return 0.0
