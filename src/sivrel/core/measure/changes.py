"""Where two pictures differ by more than noise: the means of blocks of several sizes, by channel, and the pattern of each object.

A block's mean difference is compared with the variance measured while rendering. If nothing has changed, the samples'
differences are symmetric, and their sum over the root of their squares has at most Gaussian tails, however rare the light and however few
the samples (Efron 1969, "Student's t-test under symmetry conditions"): a handful of outliers never counts as a change.
"""

import math
from typing import Any, NamedTuple

import numpy as np
from scipy import ndimage
from scipy.special import chdtrc

from ..gi.ways import BEYOND, SEEN
from ..pictures.exr import Picture
from ..render.recipe import Recipe
from .noise import DARK, LUMINANCE

SIDES = (1, 2, 4, 8, 16, 32, 64)
"""Sides of the blocks in pixels."""
FALSE = 0.01
"""Probability of calling any block changed in two pictures that differ only by their seeds."""
PATTERN_SIDES, LEAST_BLOCKS = (2, 4, 8), 10
"""Blocks for an object's pattern: their sides in pixels, and the least number of them."""
EVEN_SQUARES = 1.1
"""Upper bound of squared differences over their variance without a change: variances of few samples are uncertain themselves."""
LEAST_GRAINED, OTHER_GRAIN, OTHER_SCENE, GRAIN_SIGMAS = 150, 2.5, 1.5, 5.0
"""Least pixels of an object to judge its grain; factors by which its variance must change relative to the whole picture, if the recipes differ
and if only the scene can have changed it; least change in standard errors."""
LEAST_REGION = 24
"""Least pixels of an object, or of its replacement, to be judged as one."""
HIDDEN_SIDE = 32
SHARED_SIDE = 32
"""Correlation length of cache errors, in pixels."""
OF_CAUSTICS = 0.1
"""Noise of caustic photons, as a share of all bounced light."""
PATTERN_SEEN = 0.04
"""Relative root mean square change of an object's blocks from which its pattern counts as visibly changed."""


class Changes(NamedTuple):
    """change: float64 [rows, columns, 3], B − A where it is significant, averaged over the smallest block that shows it, else 0;
    patterned: bool [rows, columns], objects whose pattern has changed although no single block shows it; grained: those that became much
    grainier or cleaner relative to the rest of the picture; replaced: where another object is visible, whatever its light;
    hidden: the smallest relative change of light that grain does not hide, median over blocks of 32 pixels."""

    change: np.ndarray
    patterned: np.ndarray
    grained: np.ndarray
    replaced: np.ndarray
    hidden: float


def changes_between(a: Picture, b: Picture) -> Changes | None:
    """Changes from A to B, which cover the same pixels; None if no variance was measured."""
    if "variance" not in a.passes or "variance" not in b.passes:
        return None
    difference = b.beauty[..., :3].astype(np.float64) - a.beauty[..., :3]
    variance = a.passes["variance"].astype(np.float64) + b.passes["variance"]
    # One sample has no variance: the difference itself is used instead.
    variance = np.where(np.isfinite(variance), np.maximum(variance, 0.0), difference**2)
    shared = _variance_of_caches(a, b)
    samples = np.full(difference.shape[:2], 2.0)
    if "samples" in a.passes and "samples" in b.passes:
        samples = a.passes["samples"][..., 0].astype(np.float64) + b.passes["samples"][..., 0]
    light = (a.beauty[..., :3].astype(np.float64) + b.beauty[..., :3]) / 2.0 @ LUMINANCE
    change, open_, hidden = np.zeros_like(difference), np.ones((*difference.shape[:2], 1)), 0.0
    for side in SIDES:
        # Changes shown by smaller blocks are left out: a large block would spread them over unchanged pixels.
        share = np.maximum(block_means(open_, side), 1e-9)
        mean = block_means(difference * open_, side) / share
        pixels = share * _pixels_of(difference.shape, side)
        error = np.sqrt(block_means(variance * open_, side) / share / pixels + block_means(shared, side) * _in_common(pixels))
        limit = math.sqrt(2.0 * math.log(2.0 * mean.size * len(SIDES) / FALSE))
        # Squares about zero, not about the mean, so that the bound also holds for few samples. Without variance, every difference is significant.
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
    return Changes(change, _patterned(a, difference, variance, shared, samples, light), _grained(a, b), replaced_objects(a, b), hidden)


def block_means(image: np.ndarray, side: int) -> np.ndarray:
    """Means [block rows, block columns, …] over blocks of that many pixels a side; those at the right and lower edges are smaller."""
    if side == 1:
        return image
    rows, columns = (np.arange(0, n, side) for n in image.shape[:2])
    sums = np.add.reduceat(np.add.reduceat(image, rows, axis=0), columns, axis=1)
    high, wide = (np.diff(np.append(at, n)) for at, n in zip((rows, columns), image.shape[:2], strict=True))
    return sums / (high[:, None] * wide).reshape(len(rows), len(columns), *[1] * (image.ndim - 2))


def _pixels_of(shape: tuple[int, ...], side: int) -> np.ndarray:
    """How many pixels each block has, [block rows, block columns, 1]."""
    high, wide = (np.minimum(side, n - np.arange(0, n, side)) for n in shape[:2])
    return (high[:, None] * wide)[..., None]


def _in_common(pixels: Any) -> Any:
    """Share of the variance shared by neighbouring pixels through their caches that remains in the mean over that many pixels."""
    return np.minimum(1.0, SHARED_SIDE**2 / np.maximum(pixels, 1.0))


def _spread(blocks: np.ndarray, side: int, shape: tuple[int, ...]) -> np.ndarray:
    """The value of each pixel's block, [rows, columns, …]."""
    return blocks if side == 1 else np.repeat(np.repeat(blocks, side, axis=0), side, axis=1)[: shape[0], : shape[1]]


def _change_by_regions(
    a: Picture, b: Picture, difference: np.ndarray, variance: np.ndarray, shared: np.ndarray, samples: np.ndarray, change: np.ndarray
) -> np.ndarray:  # fmt: skip
    """`change`, and where no block shows any, the mean change of whole objects and of places where one object replaced another."""
    if "object" not in a.passes or "object" not in b.passes:
        return change
    before, after = (p.passes["object"][..., 0].astype(np.int64) + 1 for p in (a, b))
    open_ = ~(change != 0.0).any(axis=2)
    kinds, regions = np.unique((before * (int(after.max()) + 1) + after)[open_], return_inverse=True)
    count = np.bincount(regions, minlength=len(kinds))

    def means(image: np.ndarray) -> np.ndarray:
        """Means of the open pixels by region, [regions, channels]."""
        sums = [np.bincount(regions, channel[open_], len(kinds)) for channel in np.moveaxis(image, -1, 0)]
        return np.stack(sums, axis=1) / np.maximum(count, 1)[:, None]

    mean = means(difference)
    squares = means(variance) / np.maximum(count, 1)[:, None] + means(shared) * _in_common(count)[:, None]
    taken = np.maximum(np.bincount(regions, samples[open_], len(kinds)), 1.0)[:, None]
    chance = np.sqrt(squares + np.where(squares > 0.0, mean**2 / taken, 0.0))
    limit = math.sqrt(2.0 * math.log(2.0 * max(mean.size, 1) / FALSE))
    real = (count >= LEAST_REGION) & (np.abs(mean) > limit * chance).any(axis=1)
    change = change.copy()
    change[open_] = np.where(real[regions][:, None], mean[regions], 0.0)
    return change


def _patterned(
    a: Picture, difference: np.ndarray, variance: np.ndarray, shared: np.ndarray, samples: np.ndarray, light: np.ndarray
) -> np.ndarray:  # fmt: skip
    """bool [rows, columns]: objects whose blocks together differ significantly and visibly. The sum of a block's squared
    differences over their variance is tested by chi-squared, for each size of block."""
    if "object" not in a.passes:
        return np.zeros(difference.shape[:2], bool)
    numbers = a.passes["object"][..., 0].astype(np.int64) + 1
    many = int(numbers.max()) + 1
    tests = len(PATTERN_SIDES) * len(np.unique(numbers))
    changed = np.zeros(many, bool)
    for side in PATTERN_SIDES:
        mean, pixels = block_means(difference, side), _pixels_of(difference.shape, side)
        own, common = block_means(variance, side) / pixels, block_means(shared, side)
        luminance, chance = mean @ LUMINANCE, np.sqrt(own + common) @ LUMINANCE
        squares = np.where(chance > 0.0, (luminance / np.maximum(chance, 1e-30)) ** 2, 0.0)
        # About zero, not about the mean, as for single blocks: a few outliers count for little.
        squares /= 1.0 + squares / np.maximum(pixels[..., 0] * block_means(samples, side), 1.0)
        excess = (luminance**2 - chance**2) / np.maximum(block_means(light, side) + DARK * light.mean(), 1e-30) ** 2
        middle = numbers[side // 2 :: side, side // 2 :: side]
        rows, columns = (min(m, n) for m, n in zip(middle.shape, squares.shape, strict=True))
        labels = middle[:rows, :columns].reshape(-1)
        count = np.bincount(labels, minlength=many)
        # Blocks that share a cache's error are not independent: they count as one per SHARED_SIDE pixels.
        apart = np.where(chance > 0.0, (own @ LUMINANCE) / np.maximum((own + common) @ LUMINANCE, 1e-30), 1.0)
        weights = apart + (1.0 - apart) * (side / SHARED_SIDE) ** 2
        sums = [np.bincount(labels, values[:rows, :columns].reshape(-1), many) for values in (squares, excess, weights)]
        independent = np.maximum(sums[2], 1.0)
        beyond = chdtrc(independent, sums[0] / np.maximum(count, 1) * independent / EVEN_SQUARES) < FALSE / tests
        changed |= beyond & (sums[1] > count * PATTERN_SEEN**2) & (count >= LEAST_BLOCKS)
    changed[0] = False  # pixels without an object
    return changed[numbers]


def replaced_objects(a: Picture, b: Picture) -> np.ndarray:
    """bool [rows, columns]: where one picture shows a single object all around a pixel, and the other does not show that object nearby.
    Based on first samples, so without noise; blurred and transparent places do not count."""
    rows, columns = a.beauty.shape[0], a.beauty.shape[1]
    marked = np.zeros((rows, columns), bool)
    if "object" not in a.passes or "object" not in b.passes:
        return marked
    planes = [p.passes["object"][..., 0].astype(np.int64) for p in (a, b)]
    for one, other in (planes, planes[::-1]):
        solid = ndimage.minimum_filter(one, 3, mode="nearest") == ndimage.maximum_filter(one, 3, mode="nearest")
        around = np.pad(other, 1, mode="edge")
        there = np.zeros((rows, columns), bool)
        for dy in range(3):
            for dx in range(3):
                there |= around[dy : dy + rows, dx : dx + columns] == one
        gone = solid & ~there
        counts = np.bincount(one[gone] + 1, minlength=int(one.max()) + 2)
        marked |= gone & (counts[one + 1] >= LEAST_REGION)
    return marked


def _grained(a: Picture, b: Picture) -> np.ndarray:
    """bool [rows, columns]: objects whose variance per sample has changed OTHER_GRAIN times more than the picture's (OTHER_SCENE times, if
    the recipe is the same), pixel by pixel in the
    median, which ignores fireflies; none where caches are used, since they change the variance of whole patches."""
    marked = np.zeros(a.beauty.shape[:2], bool)
    if not all({"object", "samples"} <= set(p.passes) for p in (a, b)) or any(p.recipe is not None and chance_of_caches(p.recipe) for p in (a, b)):
        return marked
    numbers = a.passes["object"][..., 0].astype(np.int64)
    before, after = ((p.passes["variance"].astype(np.float64) @ LUMINANCE) * p.passes["samples"][..., 0] for p in (a, b))
    known = np.isfinite(before) & np.isfinite(after) & (before > 0.0) & (after > 0.0) & (numbers == b.passes["object"][..., 0]) & (numbers >= 0)
    objects, counts = np.unique(numbers[known], return_counts=True)
    objects = objects[counts >= LEAST_GRAINED]
    if not len(objects):
        return marked
    ratio, labels = np.log(after[known] / before[known]), numbers[known]
    middle = np.median(ratio)
    least = math.log(OTHER_SCENE if a.recipe is not None and a.recipe == b.recipe else OTHER_GRAIN)
    changed = []
    for number in objects:
        own = ratio[labels == number] - middle
        median = float(np.median(own))
        # The standard error of a median, from the median absolute deviation of Gaussian numbers.
        error = 1.2533 * 1.4826 * float(np.median(np.abs(own - median))) / len(own) ** 0.5
        if abs(median) > max(least, GRAIN_SIGMAS * error):
            changed.append(number)
    return np.isin(numbers, changed)


def _variance_of_caches(a: Picture, b: Picture) -> np.ndarray:
    """float64 [rows, columns, 3]: the variance of bounced light due to caches, which neighbouring pixels share and so none of them
    shows; zero if both caches were made by one recipe with the same random numbers."""
    variance = np.zeros((*a.beauty.shape[:2], 3))
    if a.frame.seed == b.frame.seed and a.recipe == b.recipe:
        return variance
    for picture in (a, b):
        chance = chance_of_caches(picture.recipe) if picture.recipe is not None else 0.0
        if chance > 0.0 and "indirect" in picture.passes:
            variance += (chance * picture.passes["indirect"].astype(np.float64)) ** 2
    return variance


def chance_of_caches(recipe: Recipe) -> float:
    """Relative noise of light from a recipe's caches, in the worst places, as its ways declare it."""
    seen, beyond = SEEN[recipe.gi.seen], BEYOND[recipe.gi.beyond]
    gathered = bool(recipe.final_gather_rays(seen.key))
    at_once = seen.chance(recipe.of(seen.key), recipe) if seen.chance is not None and not gathered else 0.0
    farther = seen.chance_beyond if gathered else beyond.chance_beyond if seen.asks_beyond else 0.0
    chance = math.hypot(at_once, farther)
    return math.hypot(chance, OF_CAUSTICS) if recipe.of("caustics").on == "yes" else chance
