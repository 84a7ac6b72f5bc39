"""Sampling plans rendered on blocks that represent a frame, to predict its time and noise."""

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy import ndimage

from ..diagnose.trial_renderer import TrialRenderer
from ..measure.noise import DARK, LUMINANCE, NEIGHBOURHOOD, relative_weights
from ..render.film import SAMPLES, TOTAL_VARIANCE, VARIANCE
from ..render.frame import Frame, sampling_of
from ..render.prepare import Prepared
from ..render.recipe import Recipe, with_values
from ..render.tile import GAIN_SAMPLES, NEIGHBOURS
from ..task import Task
from .error import MOST, pooled, variance_between
from .render import Scattered, Taken, scattered, take

SMALL_WIDTH, SMALL_SAMPLES = 96, 16
"""Width in pixels of the small picture that shows a frame's grain and brightness; samples for the latter."""
CLOCK_PIXELS = 1024
"""Pixels used to time one core."""
SEEDS = 11, 12
TARGET_SAMPLES = 64
"""Samples per pixel from which the noise target is predicted."""


@dataclass
class Plan:
    """One way to spend the time. name, does: in words; values, edits: its changes; seconds, noise: of the frame, as predicted from its blocks;
    stated: the noise that the proof's card will state, see `stated_noise`; preparing: of the seconds, those of caches; samples: mean of a pixel."""

    name: str
    does: str
    values: dict[str, Any]
    edits: dict[str, Any]
    seconds: float = 0.0
    noise: float = 0.0
    stated: float = 0.0
    samples: float = 0.0
    preparing: float = 0.0


def noise_of(one: Taken, other: Taken) -> float:
    """Noise of each of two renders of the same blocks with different seeds, as defined in core.tune.error."""
    pairs = list(zip(one.lights, other.lights, strict=True))
    around = [(a + b) / 2.0 for a, b in pairs]
    mean = one.mean(around)
    return float(np.sqrt(one.mean([variance_between(a, b, middle, mean) for (a, b), middle in zip(pairs, around, strict=True)])))


def stated_noise(renders: list[Taken]) -> float:
    """The noise that `measure_noise` states of a frame, estimated from renders of its blocks: an upper bound of `noise_of`, since it counts every
    firefly in full, and takes the variance of samples that are spread better than by chance as that of independent ones."""
    squares = []
    for one in renders:
        mean, relative = one.mean(one.lights), []
        for film, light in zip(one.films, one.lights, strict=True):
            spread = np.sqrt(np.maximum(film[..., VARIANCE : VARIANCE + 3], 0.0)).astype(float) @ LUMINANCE
            relative.append(np.nan_to_num(spread**2 * relative_weights(light, mean).reshape(light.shape), posinf=0.0))
        squares.append(one.mean(relative))
    return float(np.sqrt(np.mean(squares)))


def noise_by_cells(one: Taken, other: Taken, weights: list[np.ndarray], side: int) -> float:
    """The same with given weights of pixels, for side x side times the samples: from cells of that many pixels, whose noise
    is as independent as that of samples."""
    apart = zip(weights, one.lights, other.lights, strict=True)
    cells = [np.minimum(pooled(w, side) * pooled(a - b, side) ** 2, MOST**2) / 2.0 for w, a, b in apart]
    return float(np.sqrt(one.mean(cells)))


def weights_of(ready: Prepared, recipe: Recipe, blocks: Scattered, task: Task) -> list[np.ndarray]:
    """Weights for squared differences in each block's pixels by perceived brightness, as `relative_weights`, from a small
    picture of the frame, since a block is too small to contain its neighbourhood. Raises Cancelled."""
    columns = min(SMALL_WIDTH, blocks.width)
    rows = max(1, round(columns * blocks.height / blocks.width))
    small = take(ready, with_values(recipe, {"sampling.max": SMALL_SAMPLES, "sampling.noise_target": 0.0}), Frame(columns, rows, None, 6), task)
    light = small.lights[0]
    around = ndimage.uniform_filter(light, max(1, round(NEIGHBOURHOOD * columns / blocks.width)), mode="nearest")
    weights = 1.0 / np.maximum(around + DARK * light.mean(), 1e-12) ** 2
    found = []
    for x0, y0, x1, y1 in blocks.blocks:
        x, y = ((np.arange(low, high) + 0.5) * n / size for low, high, n, size in ((x0, x1, columns, blocks.width), (y0, y1, rows, blocks.height)))
        found.append(weights[np.ix_(y.astype(int), x.astype(int))])
    return found


class Blocks:
    """Renders plans on blocks of a frame, and predicts the frame's time."""

    def __init__(self, renderer: TrialRenderer, frame: Frame, pixels: int) -> None:
        self.renderer, self.frame, self.pixels = renderer, frame, pixels
        self.per_cycle = 0.0
        self.worth: np.ndarray | None = None
        self.lying: dict[int, Scattered] = {}

    def _take(self, values: dict[str, Any], edits: dict[str, Any], frame: Frame, threads: int = 0) -> tuple[Taken, float]:
        """A render with some changes, and the seconds of its caches."""
        recipe, laid = self.renderer.changed(values, edits)
        ready, prepares = self.renderer.ready(recipe, laid)
        return take(ready, recipe, frame, self.renderer.task.here() if threads else self.renderer.task, threads), prepares

    def look_where(self, values: dict[str, Any]) -> None:
        """Find where a frame is grainy from a small picture, and place more blocks there."""
        one, _ = self._take(values, {}, Frame(SMALL_WIDTH, max(1, round(SMALL_WIDTH * self.frame.height / self.frame.width)), None, 5))
        variance = np.nan_to_num(one.film[..., TOTAL_VARIANCE].astype(float), posinf=0.0)
        self.worth = np.sqrt(ndimage.maximum_filter(np.minimum(relative_weights(one.lights[0]).reshape(variance.shape) * variance, MOST**2), 3))
        self.lying.clear()

    def seconds_of(self, taken: Taken) -> float:
        """Seconds of the whole frame from its cycles: at the end of a few blocks with very different samples one core waits for the other, at
        the end of a whole frame hardly."""
        return taken.frame_cycles * self.per_cycle / self.renderer.task.threads()

    def target_for(self, plan: Plan, samples: float) -> float:
        """The noise target, in per cent, at which a plan takes that many samples per pixel on average, from the variance of the blocks, as
        render.tile decides it."""
        even = {**plan.values, "sampling.noise_target": 0.0, "sampling.max": TARGET_SAMPLES}
        one, _ = self.run(even, plan.edits, *SEEDS)
        recipe, laid = self.renderer.changed(plan.values, plan.edits)
        sampling = sampling_of(recipe, self.renderer.ready(recipe, laid)[0].camera)
        worst = []
        for film, light in zip(one.films, one.lights, strict=True):
            error = np.sqrt(np.maximum(film[..., VARIANCE : VARIANCE + 3], 0.0)).astype(float) @ LUMINANCE
            own = (error / (sampling.by_brightness * light + sampling.floor)) ** 2 * film[..., SAMPLES]
            worst.append(np.maximum(own, ndimage.uniform_filter(own, 2 * NEIGHBOURS + 1, mode="nearest")))

        def taken(target: float) -> float:
            wanted = [np.sqrt(GAIN_SAMPLES * own) / target if sampling.by_gain else own / target**2 for own in worst]
            doubled = [sampling.least * 2.0 ** np.ceil(np.log2(np.maximum(own / sampling.least, 1.0))) for own in wanted]
            return one.mean([np.minimum(own, sampling.most) for own in doubled])

        low, high = 1e-4, 10.0
        for _ in range(50):
            middle = math.sqrt(low * high)
            low, high = (middle, high) if taken(middle) > samples else (low, middle)
        return 100.0 * high

    def set_clock(self, values: dict[str, Any]) -> None:
        """Time some blocks on one core: seconds per cycle, including overhead between blocks."""
        one, _ = self._take(values, {}, scattered(self.frame, CLOCK_PIXELS, 3), threads=1)
        self.per_cycle = one.seconds / one.once / max(one.clock[-1], 1.0)

    def run(self, values: dict[str, Any], edits: dict[str, Any], seed: int, blocks: int) -> tuple[Taken, float]:
        """A render of the blocks of that number, and the seconds that caches take."""
        if blocks not in self.lying:
            self.lying[blocks] = scattered(self.frame, self.pixels, blocks, self.worth)
        return self._take(values, edits, replace(self.lying[blocks], seed=seed))

    def measure(self, plan: Plan, seeds: tuple[int, ...] = SEEDS) -> tuple[float, float, float, float]:
        """(seconds of the frame, noise, samples a pixel, stated noise) of a plan; with one seed its noise is unknown, and 0."""
        taken = []
        for seed in seeds:
            one, plan.preparing = self.run(plan.values, plan.edits, seed, seeds[0])
            taken.append(one)
        seconds = float(np.mean([self.seconds_of(one) for one in taken])) + plan.preparing
        noise = noise_of(taken[0], taken[1]) if len(taken) > 1 else 0.0
        return seconds, noise, float(np.mean([one.samples for one in taken])), stated_noise(taken)
