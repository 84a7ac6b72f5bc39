"""Pilots: the error of each way on this shot, from short renders on blocks of the frame, compared with a longer one by brute force."""

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
"""Samples per pixel of the pilots, and of those before."""
SIDES = 1, 2, 4
"""Side in pixels of the cells that predict the noise of more samples."""
SEEDS, SEEDS_HELD = (1, 2), (3, 4)
TRYING, HELD = (10.0, 30.0), 0.25
"""Approximate least and most seconds of all pilots, otherwise as many as the frame may take; and the additional share of brute
force as their reference."""
BRANCHED = 2.0
"""Cost of a sample with branching paths relative to one without."""
LONG = 1.0
"""Most seconds of a pilot's render if fewer samples suffice."""
SMALL = 240 * 135
"""Most pixels of a frame for which records are made; for larger frames they are predicted."""
GROWTH = 0.5
"""Exponent of the seconds of records in the frame's pixels."""
RATES = dict(sorted(((name, seconds) for way in (*WAYS, *EXTRAS) for name, seconds in way.pilots.items()), key=lambda one: one[1]))
"""The ways to try, cheapest first, and the seconds of their caches relative to one sample per pixel of a small frame."""
FOR_RARE_PATHS = {name for way in EXTRAS for name in way.pilots}
"""Of these the ones that find light which paths from the camera find rarely: where that is the noise, they come first after brute force."""
Pair = tuple[Taken, Taken]


@dataclass(frozen=True)
class Pilot:
    """name: of the candidate; rate: seconds of a whole frame with one sample a pixel; curve: samples per pixel, and their noise; squared: bias
    squared (what more samples do not remove), which noise can make negative, and spread: its standard error; prepares: seconds of its caches
    for the whole frame."""

    name: str
    rate: float
    curve: list[tuple[float, float]]
    squared: float = 0.0
    spread: float = 0.0
    prepares: float = 0.0

    def noise(self, seconds: float) -> float:
        """Noise after some seconds, including caches: linear between points in log-log scale, before the first as between the first
        two, beyond the last by the root of the samples."""
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
    """The blocks: plain, two renders by brute force with SEEDS; weights of their pixels, as blocks.weights_of."""

    plain: Pair
    weights: list[np.ndarray]


def in_turn(facts: "Facts") -> list[tuple[str, float]]:
    """RATES in the order of trying: cheapest first; where rare paths are the noise, those for rare paths right after brute force."""
    return sorted(RATES.items(), key=lambda one: one[1] > 0.0 and facts.sparkles and one[0] not in FOR_RARE_PATHS)


def fly(renderer: TrialRenderer, blocks: Scattered, facts: "Facts", known: Known, seconds: float) -> None:
    """Try the ways in turn on blocks of a frame that may take that many seconds, as the facts so far suggest, and add their pilots to these, or
    to the untried if TRYING has no time left. known: of the blocks. Time is processor time, so a busy machine makes the same pilots.
    Raises Cancelled."""
    share = min(1.0, (SMALL / (blocks.width * blocks.height)) ** 0.5)
    small = renderer.for_frame(Frame(max(1, round(blocks.width * share)), max(1, round(blocks.height * share)), None, blocks.seed, blocks.time))
    renderer.task.report("rendering brute force as the reference", 0.2, facts)
    trying = min(max(seconds, TRYING[0]), TRYING[1])
    held, begun = _held(renderer, blocks, facts.pace / SMALL, HELD * trying), work_time()
    for k, (name, rates) in enumerate(in_turn(facts)):
        left = trying - (work_time() - begun)
        if name.endswith(CAUSTICS) and not facts.sparkles:
            continue  # nothing to find
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
    """Two renders of blocks by brute force that take about that many seconds, if a sample of a pixel takes `each`."""
    ready, recipe = renderer.truth()
    samples = max(SAMPLES, round(seconds / (len(SEEDS_HELD) * BRANCHED * each * blocks.pixels)))
    recipe = with_values(recipe, {"sampling.max": samples})
    one, other = (take(ready, recipe, replace(blocks, seed=seed), renderer.task) for seed in SEEDS_HELD)
    return one, other


def _pilot(renderer: TrialRenderer, one: Candidate, blocks: Scattered, held: Pair, known: Known, limits: dict[str, Any]) -> Pilot:
    recipe, edits = renderer.changed({**one.values, **limits, "sampling.noise_target": 0.0}, {})
    ready, prepares = renderer.ready(recipe, edits)
    pair, rate, curve = curve_of(renderer, ready, recipe, blocks, known.weights)
    # Lights chosen by importance only change the noise.
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
