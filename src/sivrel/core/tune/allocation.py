"""The split of samples over noise sources with the least noise in a given time."""

import math
from dataclasses import dataclass

MOST_SPLIT = 64
LEAST_SAMPLES = 2
"""Least samples per pixel, for its edges."""
ROUNDS = 8
"""Passes over the counts, each set to its best value given the others."""


@dataclass(frozen=True)
class Source:
    """A source that may be sampled several times per pixel sample. key: its setting; now: its current count; variance: of one pixel's sample, with
    one ray of this source; cost: seconds of one such ray, and most: the largest value of its setting."""

    key: str
    name: str
    now: int
    variance: float
    cost: float
    most: int = MOST_SPLIT


@dataclass(frozen=True)
class Split:
    """counts: rays of each source in a sample of a pixel; samples per pixel, not yet rounded; remaining variance; cost of one sample."""

    counts: tuple[int, ...]
    samples: float
    variance: float
    cost: float


def variance_of(counts: tuple[int, ...], sources: list[Source], base: float) -> float:
    """Variance of one pixel's sample."""
    return base + sum(source.variance / count for source, count in zip(sources, counts, strict=True))


def cost_of(counts: tuple[int, ...], sources: list[Source], base: float) -> float:
    return base + sum(source.cost * count for source, count in zip(sources, counts, strict=True))


def best_split(sources: list[Source], base_variance: float, base_cost: float, seconds: float) -> Split:
    """The counts with the least variance in `seconds` per pixel.

    `base_variance`, `base_cost`: of a pixel's sample itself, which all sources share. For n samples of a pixel with r_i rays each the variance is
    (V + sum v_i / r_i) / n at a cost of n (C + sum c_i r_i); their product is least where r_i = sqrt((v_i / c_i) / (V / C)), whatever the
    time (Cochran 1977, "Sampling Techniques", section 10.6, two-stage sampling; after Neyman 1934). Whole numbers are
    sought from there, one source at a time.
    """
    counts = [1] * len(sources)
    for k, source in enumerate(sources):
        if source.variance > 0.0 and source.cost > 0.0:
            ideal = math.sqrt(source.variance / source.cost * base_cost / base_variance) if base_variance > 0.0 else float(source.most)
            counts[k] = min(max(1, round(ideal)), source.most)

    def left(tried: list[int]) -> float:
        cost = cost_of(tuple(tried), sources, base_cost)
        enough = seconds / cost >= LEAST_SAMPLES or sum(tried) == len(tried)
        return variance_of(tuple(tried), sources, base_variance) * cost if enough else math.inf

    best = left(counts)
    for _ in range(ROUNDS):
        before = list(counts)
        for k, source in enumerate(sources):
            tried = min(range(1, source.most + 1), key=lambda count: left([*counts[:k], count, *counts[k + 1 :]]))  # noqa: B023
            now = left([*counts[:k], tried, *counts[k + 1 :]])
            if now < best:
                counts[k], best = tried, now
        if counts == before:
            break
    if math.isinf(best):
        counts = [1] * len(sources)
    cost = cost_of(tuple(counts), sources, base_cost)
    return Split(tuple(counts), seconds / cost, variance_of(tuple(counts), sources, base_variance) * cost / seconds, cost)
