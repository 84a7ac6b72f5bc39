"""Pilots: what each way leaves on this shot, by short renders of it on blocks of the frame, held to a longer one by brute force."""

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ..diagnose.trial_renderer import TrialRenderer
from ..diagnose.truth import brute_force
from ..gi.ways import EXTRAS, SEEN, WAYS
from ..render.frame import Frame
from ..render.prepare import Prepared
from ..render.recipe import Recipe, with_values
from ..task import OutOfTime
from ..work_time import work_time
from .blocks import noise_by_cells
from .candidates import CAUSTICS, Candidate, candidate
from .error import squared_bias_of_blocks
from .render import Scattered, Taken, take

if TYPE_CHECKING:
    from .facts import Facts

SAMPLES, FEWER = 16, 4
"""Samples a pixel of the pilots, and of those that come before."""
SIDES = 1, 2, 4
"""Pixels a side of the cells by which the noise of more samples is told."""
SEEDS, SEEDS_HELD = (1, 2), (3, 4)
TRYING, HELD = (10.0, 20.0), 0.25
"""Seconds that all pilots take, about, at least and at most, between them as many as the frame may take; and share of them, besides, of the brute
force that they are held to."""
BRANCHED = 2.0
"""Times what a sample of that, whose paths branch, takes that one does whose do not."""
LONG = 1.0
"""Seconds that a render of a pilot may take, where fewer samples would do."""
SMALL = 240 * 135
"""Pixels of the frame for which records are made at most; a larger one's are foretold."""
GROWTH = 0.5
"""Power of the frame's pixels with which the seconds that records take grow."""
RATES = dict(sorted(((name, seconds) for way in (*WAYS, *EXTRAS) for name, seconds in way.pilots.items()), key=lambda one: one[1]))
"""The ways that are tried, in turn, and the seconds that their caches take, in those of one sample a pixel of a small frame."""
Pair = tuple[Taken, Taken]


@dataclass(frozen=True)
class Pilot:
    """name: of the candidate; rate: seconds of a whole frame with one sample a pixel; curve: samples a pixel, and noise at so many; squared: bias
    squared (what more samples do not clear), which noise can make negative, and spread: its standard error; prepares: seconds of its caches
    for the whole frame."""

    name: str
    rate: float
    curve: list[tuple[float, float]]
    squared: float = 0.0
    spread: float = 0.0
    prepares: float = 0.0

    def noise(self, seconds: float) -> float:
        """Noise after some seconds, caches counted: on straight lines between points of both logarithms, before the first as between the first
        two, beyond the last as the root of the samples."""
        at = np.log(max((seconds - self.prepares) / max(self.rate, 1e-9), 0.5))
        x, y = np.log(np.array(self.curve)).T
        if at >= x[-1]:
            return float(np.exp(y[-1] - 0.5 * (at - x[-1])))
        if at <= x[0]:
            falls = float(np.clip((y[1] - y[0]) / (x[1] - x[0]), -0.5, 0.0)) if len(x) > 1 else -0.5
            return float(np.exp(y[0] + falls * (at - x[0])))
        return float(np.exp(np.interp(at, x, y)))

    def as_dict(self) -> dict[str, Any]:
        return dict(self.__dict__)


@dataclass(frozen=True)
class Known:
    """Of the blocks: plain, two renders by brute force with SEEDS; weights of their pixels, as blocks.weights_of."""

    plain: Pair
    weights: list[np.ndarray]


def fly(renderer: TrialRenderer, blocks: Scattered, facts: "Facts", known: Known, seconds: float) -> None:
    """Try the ways in turn on blocks of a frame that may take so many seconds, as the facts known so far suggest, and add their pilots to these, or
    to the untried what TRYING has no time left for. known: of the blocks. Time is that of the processor: a busy machine comes to the same pilots.
    Raises Cancelled."""
    share = min(1.0, (SMALL / (blocks.width * blocks.height)) ** 0.5)
    small = renderer.for_frame(Frame(max(1, round(blocks.width * share)), max(1, round(blocks.height * share)), None, blocks.seed))
    renderer.task.report("rendering brute force to hold the ways to", 0.2, facts)
    trying = min(max(seconds, TRYING[0]), TRYING[1])
    held, begun = _held(renderer, blocks, facts.pace / SMALL, HELD * trying), work_time()
    for k, (name, rates) in enumerate(RATES.items()):
        left = trying - (work_time() - begun)
        if name.endswith(CAUSTICS) and not facts.sparkles:
            continue  # nothing for it to find
        if rates * facts.pace > left:
            facts.untried[name] = f"it would take about {rates * facts.pace:.0f} s to try, and {max(left, 0.0):.0f} s were left"
            continue
        one = candidate(name, renderer.recipe)
        renderer.task.report(f"trying {one.title}", 0.3 + 0.7 * k / len(RATES), facts)
        try:
            with small.within(work_time() + left):
                facts.ways.append(_pilot(small, one, blocks, held, known, facts.settled()))
        except OutOfTime:
            facts.untried[name] = f"its caches were not done in the {max(left, 0.0):.0f} s that were left"


def _held(renderer: TrialRenderer, blocks: Scattered, each: float, seconds: float) -> Pair:
    """Two renders of blocks by brute force that take about so many seconds, where a sample of a pixel takes `each`."""
    ready, recipe = renderer.truth()
    samples = max(SAMPLES, round(seconds / (len(SEEDS_HELD) * BRANCHED * each * blocks.pixels)))
    recipe = with_values(recipe, {"sampling.max": samples})
    one, other = (take(ready, recipe, replace(blocks, seed=seed), renderer.task) for seed in SEEDS_HELD)
    return one, other


def _pilot(renderer: TrialRenderer, one: Candidate, blocks: Scattered, held: Pair, known: Known, limits: dict[str, Any]) -> Pilot:
    recipe, edits = renderer.changed({**one.values, **limits, "sampling.noise_target": 0.0}, {})
    ready, prepares = renderer.ready(recipe, edits)
    pair, rate, curve = curve_of(renderer, ready, recipe, blocks, known.weights)
    # Lights that are drawn by importance change chance alone.
    truth = with_values(brute_force(renderer.recipe), {"lights.seen": recipe.lights.seen})
    squared, spread = squared_bias_of_blocks(pair, held, known.plain, known.weights) if renderer.shortcuts(recipe, truth) else (0.0, 0.0)
    if SEEN[one.values["gi.seen"]].by_view:
        prepares *= (blocks.width * blocks.height / (renderer.frame.width * renderer.frame.height)) ** GROWTH
    return Pilot(one.name, rate, curve, squared, spread, prepares)


def curve_of(
    renderer: TrialRenderer, ready: Prepared, recipe: Recipe, blocks: Scattered, weights: list[np.ndarray]
) -> tuple[Pair, float, list[tuple[float, float]]]:  # fmt: skip
    """Two renders of blocks, seconds of the whole frame with one sample a pixel, and the curve of its noise."""
    curve = dict[float, float]()
    for samples in (FEWER, SAMPLES):
        wanted = with_values(recipe, {"sampling.max": samples, "sampling.noise_target": 0.0})
        one, other = (take(ready, wanted, replace(blocks, seed=seed), renderer.task) for seed in SEEDS)
        pair = one, other
        rate = min(one.seconds / one.pixels, other.seconds / other.pixels) / samples * blocks.width * blocks.height
        curve |= {float(samples * side**2): max(noise_by_cells(one, other, weights, side), 1e-6) for side in SIDES}
        if one.seconds * SAMPLES / FEWER > LONG:
            break
    return pair, rate, sorted(curve.items())
