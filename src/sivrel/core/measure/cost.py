"""Forecasts a render's time from timed renders of the same shot, with a band, and rates past forecasts."""

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from ..gi.ways import SEEN
from ..render.frame import Frame
from ..render.recipe import Recipe, difference

NOT_A_RATE = {"sampling.max", "sampling.min", "sampling.noise_target", "sampling.noise_terms", "sampling.stop", "sampling.seconds"}
"""Settings that change the number of samples, not the cost of one."""
ALIKE = 5
"""Number of renders with the most similar recipe whose mean rate is used."""
FADES = 0.35
"""Relative weight of a render that differs in one more setting, or is four renders older."""
JUDGED = 16
"""Past renders that are predicted from earlier ones to estimate the band."""
UNJUDGED = {0: 1.3, 1: 1.7}
"""Factor of the band, by the number of settings that differ, while fewer than LEAST_JUDGED forecasts can be rated."""
FAR, LEAST_JUDGED, NARROWEST = 2.5, 4, 1.08
GOES_ON = 0.6
"""Approximate share of paths that continue after each bounce."""


@dataclass(frozen=True)
class Timed:
    """A timed render. seconds: of its pixels; preparing: seconds of preparation; samples: mean per
    pixel, None if not stored; edits: all edits, as one text."""

    recipe: Recipe
    frame: Frame
    camera: str
    seconds: float
    preparing: float = 0.0
    samples: float | None = None
    edits: str = ""


@dataclass(frozen=True)
class Forecast:
    """seconds: of the whole render; low, high: the band of four out of five renders; preparing: seconds of it before the pixels; alike:
    number of renders it is based on; apart: number of settings in which the nearest of them differs."""

    seconds: float
    low: float
    high: float
    preparing: float
    alike: int
    apart: int


def samples_of(recipe: Recipe, frame: Frame) -> int:
    """Most samples that a render takes."""
    return frame.pixels * recipe.sampling.max


@lru_cache(maxsize=512)
def work_of(recipe: Recipe) -> float:
    """Approximate rays per sample, only to compare recipes that split paths differently."""
    rays = 0.5 * (1 + recipe.shadows.rays) if recipe.shadows.way == "traced" else 0.7
    direct = recipe.lights.draws * rays
    bounce = 1.0 + direct
    depth = min(recipe.limits.diffuse_bounces, recipe.limits.total)
    on_and_on = sum(GOES_ON**k for k in range(max(0, depth - 1)))
    beyond = on_and_on if recipe.gi.beyond == "brute_force" else 0.3
    way = recipe.gi.seen
    gathered = recipe.final_gather_rays(way) if way in SEEN else 0
    if way == "brute_force":
        bounced = recipe.sampling.gi_rays * bounce * (1.0 + beyond if depth > 0 else 0.0)
    else:
        bounced = 0.3 + gathered * bounce
    near = 0.3 * (recipe.ambient.samples + (1 if way == "ambient" else 0))
    return 1.0 + direct + bounced + near + 0.3 * recipe.sampling.glossy_rays


def forecast(recipe: Recipe, frame: Frame, camera: str, past: list[Timed], edits: str = "") -> Forecast | None:
    """The forecast of a render: the rate of renders with the most similar recipes, newest first, corrected for rays that they
    split differently. The band is that in which past renders would have been predicted. None if nothing was timed."""
    likely = _likely(recipe, frame, camera, past, edits)
    if likely is None:
        return None
    seconds, preparing, alike, apart = likely
    if recipe.sampling.seconds > 0.0:
        time = recipe.sampling.seconds
        return Forecast(time + preparing, time, time * NARROWEST + preparing, preparing, alike, apart)
    off = []
    for k in range(max(1, len(past) - JUDGED), len(past)):
        before = _likely(past[k].recipe, past[k].frame, past[k].camera, past[:k], past[k].edits)
        if before is not None and past[k].seconds > 0.0 and (before[3] == 0) == (apart == 0):
            off.append(abs(math.log(before[0] / past[k].seconds)))
    band = math.exp(float(np.quantile(off, 0.8))) if len(off) >= LEAST_JUDGED else UNJUDGED.get(apart, FAR)
    band = max(band, NARROWEST)
    return Forecast(seconds + preparing, seconds / band + preparing, seconds * band + preparing, preparing, alike, apart)


def guess_seconds(recipe: Recipe, frame: Frame, camera: str, past: list[Timed], edits: str = "") -> float | None:
    """Forecast seconds of a render; None if nothing was timed."""
    predicted = forecast(recipe, frame, camera, past, edits)
    return predicted.seconds if predicted is not None else None


def _likely(recipe: Recipe, frame: Frame, camera: str, past: list[Timed], edits: str) -> tuple[float, float, int, int] | None:
    """Seconds of the pixels and of preparation, the number of renders they are based on, and of settings that differ."""
    scored = []
    for age, timed in enumerate(reversed(past)):
        if timed.seconds <= 0.0 or not samples_of(timed.recipe, timed.frame):
            continue
        changed = [key for key, _, _ in difference(timed.recipe, recipe) if key not in NOT_A_RATE]
        apart = len(changed) + (timed.camera != camera) + (timed.frame.region != frame.region) + (timed.edits != edits)
        scored.append((apart, age, timed))
    if not scored:
        return None
    scored.sort(key=lambda one: one[:2])
    nearest = scored[0][0]
    near = [one for one in scored[:ALIKE] if one[0] <= (nearest + 1 if nearest else 0)]
    weights = np.array([FADES ** (apart - nearest + age / 4.0) for apart, age, _ in near])
    samples = _samples(recipe, [timed for _, _, timed in near])
    rates = np.log([
        timed.seconds / (timed.frame.pixels * _taken(timed)) * work_of(recipe) / work_of(timed.recipe) for _, _, timed in near
    ])  # fmt: skip
    rate = math.exp(float(weights @ rates / weights.sum()))
    preparing = [timed.preparing for _, _, timed in near]
    # Caches of this exact recipe are stored and will be reused.
    made = min(preparing) if nearest == 0 else float(weights @ preparing / weights.sum())
    return rate * frame.pixels * samples, made, len(near), nearest


def _taken(timed: Timed) -> float:
    """Mean samples per pixel of a past render."""
    return timed.samples or float(timed.recipe.sampling.max)


def _samples(recipe: Recipe, near: list[Timed]) -> float:
    """Expected mean samples per pixel. With a noise target they are proportional to its inverse square."""
    wanted = recipe.sampling
    if wanted.noise_target <= 0.0:
        return float(wanted.max)
    for timed in near:
        target = timed.recipe.sampling.noise_target
        if target > 0.0 and timed.samples and timed.samples < 0.95 * timed.recipe.sampling.max:
            return float(np.clip(timed.samples * (target / wanted.noise_target) ** 2, min(wanted.min, wanted.max), wanted.max))
    return float(wanted.max)


def how_good(guessed: list[tuple[float, float]]) -> float | None:
    """Median relative error of forecasts; pairs of (forecast, measured). None if there are none."""
    off = [abs(guess - seconds) / seconds for guess, seconds in guessed if seconds > 0.0]
    return float(np.median(off)) if off else None
