"""The budget: seconds per frame, or a target noise, and the split of samples over sources and pixels with the least visible noise.

From small test renders of blocks that represent the frame: each plan is rendered on them with its exact settings, then the best one is
rendered again on other blocks, and the prediction compared with the result.
"""

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..diagnose.finding import cleared
from ..diagnose.trial_renderer import TrialRenderer
from ..errors import Cancelled
from ..render.frame import Frame
from ..render.recipe import Recipe
from .allocation import Source, best_split, cost_of, variance_of
from .blocks import SEEDS, TARGET_SAMPLES, Blocks, Plan
from .render import Taken
from .sources import sources_of

PILOT_SECONDS, LEAST_PIXELS, MOST_PIXELS = 1.5, 2048, 16384
"""Approximate seconds of one render of a plan's blocks, and their pixels."""
PILOT_SAMPLES, MOST_SAMPLES = 16, 65536
SPREAD_OVER = 16
"""Most samples of a pixel relative to even ones, with samples by gain."""
LEAST_EVEN, LEAST_MIN = 12, 8
"""Least even samples per pixel for samples by gain; and least samples from which a pixel's noise is known."""
ROUNDS = 3
"""Values tried to find the one that takes the given time."""
CLOSE = 0.06
"""Relative error of a plan's time above which another level is tried."""
WORTH, WORTH_TRYING = 0.03, 1.1
"""Least relative improvement of a plan over an even raise; and least predicted improvement of a split for it to be tried."""
STATED = 1.25
"""Ratio of the noise that a proof's card states to the budget's above which both are given."""
AGAIN = 21, 22
"""Seeds of the blocks that check a plan."""


@dataclass
class Budget:
    """seconds, noise: as requested; sources: of noise and time, of one sample; plans: the even raise first; chosen: number of the best;
    gain: ratio of variance to the even raise's in equal time; check: the chosen plan on other blocks; why: sentences."""

    size: tuple[int, int]
    seconds: float | None
    noise: float | None
    pixels: int = 0
    sources: list[dict[str, Any]] = field(default_factory=list)
    plans: list[Plan] = field(default_factory=list)
    chosen: int = 0
    gain: float | None = None
    check: dict[str, float] = field(default_factory=dict)
    why: list[str] = field(default_factory=list)
    says: str = ""
    complete: bool = False

    def as_dict(self) -> dict[str, Any]:
        return cleared({**self.__dict__, "size": list(self.size), "plans": [plan.__dict__ for plan in self.plans]})


def plan_budget(
    renderer: TrialRenderer, frame: Frame, *, seconds: float | None = None, noise: float | None = None
) -> Budget:  # fmt: skip
    """Find how to spend `seconds` a frame, or reach `noise`, with the renderer's recipe. Exactly one of the two is given. The renderer's
    task receives each step with the budget so far, which is returned if it is cancelled."""
    budget = Budget((frame.width, frame.height), seconds, noise)
    try:
        _plan(renderer, frame, budget)
        budget.complete = True
    except Cancelled:
        pass
    return budget


def _plan(renderer: TrialRenderer, frame: Frame, budget: Budget) -> None:
    def say(what: str, share: float) -> None:
        renderer.task.report(what, share, budget)

    say("measuring the sources of noise and time", 0.02)
    pilot = Blocks(renderer, frame, LEAST_PIXELS)
    even = {"sampling.max": PILOT_SAMPLES, "sampling.noise_target": 0.0}
    apart, one, prepares = _pilot(renderer, pilot, even)
    base_variance, base_cost, sources = sources_of(renderer, renderer.changed({**even, **apart}, {})[0], one)
    budget.sources = _shares_of(base_variance, base_cost, sources)
    flat = renderer.recipe.flat()
    rate = one.seconds / one.samples / one.pixels  # approximate seconds per sample of a pixel
    wanted = None if budget.seconds is None else budget.seconds - prepares
    if wanted is not None and wanted < rate * frame.pixels * 2.0:
        budget.says = (
            f"{budget.seconds:.3g} s leave no time for pixels: caches take {prepares:.3g} s, two samples a pixel {rate * frame.pixels * 2.0:.3g} s. "
            "Give more, or render smaller."
        )
        return
    # As many pixels as fill a pilot's seconds at the requested level.
    expected = wanted if wanted is not None else rate * frame.pixels * flat["sampling.max"] * 4.0
    budget.pixels = int(min(max(frame.pixels * PILOT_SECONDS / expected, LEAST_PIXELS), MOST_PIXELS, frame.pixels))
    bench = Blocks(renderer, frame, budget.pixels)
    bench.look_where(even)
    bench.set_clock({**even, "sampling.max": TARGET_SAMPLES})

    uniform = Plan("even raise", "the recipe as it is, with more samples everywhere", {"sampling.noise_target": 0.0}, {})
    budget.plans.append(uniform)
    say("trying an even raise", 0.15)
    _level(bench, budget, uniform, "sampling.max", max(1.0, expected / (rate * frame.pixels)))
    per_pixel = max(expected, 1e-9) / frame.pixels
    split = best_split(sources, base_variance, base_cost, per_pixel)
    values, edits = _as_changes(renderer.recipe, sources, split.counts)
    best = uniform
    now = tuple(source.now for source in sources)
    raised = variance_of(now, sources, base_variance) * cost_of(now, sources, base_cost)
    if (values or edits) and raised > WORTH_TRYING * split.variance * per_pixel:
        plan = Plan("split", "more rays for grainy sources, fewer camera rays", {"sampling.noise_target": 0.0, **values}, edits)
        budget.plans.append(plan)
        say("trying the split over sources", 0.35)
        _level(bench, budget, plan, "sampling.max", split.samples)
        best = min(budget.plans, key=lambda p: _score(budget, p))
    say("trying samples where the picture is grainy", 0.55)
    # Samples can only be redistributed if pixels have some.
    spread = _spread_over_pixels(best if best.samples >= LEAST_EVEN else uniform)
    budget.plans.append(spread)
    _level(bench, budget, spread, "sampling.noise_target", bench.target_for(spread, expected / (rate * frame.pixels)))
    best = min(budget.plans, key=lambda p: _score(budget, p))
    if _score(budget, best) > _score(budget, uniform) * (1.0 - WORTH):
        best = uniform
    budget.chosen = budget.plans.index(best)
    say("checking the plan on other blocks", 0.85)
    got = bench.measure(best, AGAIN)
    forecast = {"predicted_seconds": best.seconds, "predicted_noise": best.noise}
    off = {"seconds_off": best.seconds / got[0] - 1.0, "noise_off": best.noise / max(got[1], 1e-9) - 1.0}
    budget.check = {"seconds": got[0], "noise": got[1], **forecast, **off}
    # The mean of both sets of blocks is closer to the frame than either.
    for plan, found in [(best, got)] if best is uniform else [(best, got), (uniform, bench.measure(uniform, AGAIN))]:
        plan.seconds = (plan.seconds + found[0]) / 2.0
        plan.noise, plan.stated = (float(np.hypot(*pair)) / 2.0**0.5 for pair in ((plan.noise, found[1]), (plan.stated, found[3])))
    if _score(budget, best) > _score(budget, uniform) * (1.0 - WORTH):
        best, budget.chosen = uniform, 0
    budget.gain = _score(budget, uniform) / max(_score(budget, best), 1e-12)
    budget.why = _why(budget, renderer.recipe, best)
    budget.says = _sentence(budget, best, uniform)


def _pilot(renderer: TrialRenderer, pilot: Blocks, even: dict[str, Any]) -> tuple[dict[str, Any], Taken, float]:
    """A render that separates the sources. If one ray is drawn from both base and gloss, they are split for it, since their separate costs
    would be unknown otherwise."""
    sampling = renderer.recipe.sampling
    apart = {"sampling.gi_rays": 2, "sampling.glossy_rays": 2} if sampling.gi_rays == sampling.glossy_rays == 1 else {}
    one, prepares = pilot.run({**even, **apart}, {}, *SEEDS)
    return apart, one, prepares


def _score(budget: Budget, plan: Plan) -> float:
    """The objective: variance times time, which does not change with more samples."""
    return plan.noise**2 * max(plan.seconds - plan.preparing, 1e-9)


def _level(bench: Blocks, budget: Budget, plan: Plan, key: str, start: float) -> None:
    """Find the value of a setting at which a plan takes the requested time, or has the requested noise, by trying some on the blocks."""
    value, whole = start, key == "sampling.max"
    # Assumed powers of time and noise in the value, until two values are measured.
    usual = (1.0 if whole else -1.0) if budget.seconds is not None else (-0.5 if whole else 0.5)
    tried: dict[float, tuple[float, tuple[float, float, float, float]]] = {}  # by value: ratio to the request, and the measurement
    for _ in range(ROUNDS):
        value = min(max(round(value), 1), MOST_SAMPLES) if whole else min(max(float(f"{value:.3g}"), 0.1), 100.0)
        if value in tried:
            break
        plan.values[key] = value
        # Time needs one render; noise needs the difference of two.
        measured = bench.measure(plan, SEEDS if budget.noise is not None else SEEDS[:1])
        tried[value] = max(_times_asked(budget, plan, measured), 1e-9), measured
        if abs(tried[value][0] - 1.0) < CLOSE:
            break
        value = _nearer([(v, times) for v, (times, _) in tried.items()], usual)
    nearest = min(tried, key=lambda v: abs(math.log(tried[v][0])))
    plan.values[key] = nearest
    plan.seconds, plan.noise, plan.samples, plan.stated = bench.measure(plan) if budget.noise is None else tried[nearest][1]


def _times_asked(budget: Budget, plan: Plan, measured: tuple[float, float, float, float]) -> float:
    """The pixels' time, or the noise, relative to the request."""
    if budget.seconds is not None:
        return (measured[0] - plan.preparing) / (budget.seconds - plan.preparing)
    assert budget.noise is not None
    return measured[1] / budget.noise


def _nearer(tried: list[tuple[float, float]], usual: float) -> float:
    """The next value to try, from the ratios of earlier ones to the request, by a power law."""
    (x0, y0), *others = sorted(tried, key=lambda t: abs(math.log(t[1])))
    power = usual
    if others and others[0][1] != y0:
        own = math.log(others[0][1] / y0) / math.log(others[0][0] / x0)
        power = own if own * usual > 0.0 else usual  # the trend is reversed by noise
    return x0 * y0 ** (-1.0 / power)


def _as_changes(recipe: Recipe, sources: list[Source], counts: tuple[int, ...]) -> tuple[dict[str, Any], dict[str, Any]]:
    """The changes of a split: values of the recipe, and edits of lights."""
    values = {s.key: c for s, c in zip(sources, counts, strict=True) if not s.key.startswith("light.") and c != recipe.flat()[s.key]}
    edits = {s.key: c for s, c in zip(sources, counts, strict=True) if s.key.startswith("light.") and c != s.now}
    return values, edits


def _spread_over_pixels(plan: Plan) -> Plan:
    """A plan with samples by gain instead of even ones."""
    even = plan.values["sampling.max"]
    values = {**plan.values, "sampling.max": int(min(MOST_SAMPLES, SPREAD_OVER * even)), "sampling.min": LEAST_MIN, "sampling.stop": "gain"}
    does = "samples where one more gains most" + ("" if plan.name == "even raise" else ", and more rays for grainy sources")
    return Plan("spread", does, values, dict(plan.edits))


def _shares_of(base_variance: float, base_cost: float, sources: list[Source]) -> list[dict[str, Any]]:
    variance = base_variance + sum(s.variance / s.now for s in sources)
    cost = base_cost + sum(s.cost * s.now for s in sources)
    rows = [{"name": s.name, "key": s.key, "now": s.now, "noise": s.variance / s.now / variance, "time": s.cost * s.now / cost} for s in sources]
    return [*rows, {"name": "camera rays", "key": "sampling.max", "now": 1, "noise": base_variance / variance, "time": base_cost / cost}]


def _why(budget: Budget, recipe: Recipe, best: Plan) -> list[str]:
    sentences = []
    rows = {row["key"]: row for row in budget.sources}
    for key, value in {**best.edits, **best.values}.items():
        row = rows.get(key)
        if row is not None and key != "sampling.max" and value != row["now"]:
            was = recipe.flat().get(key, row["now"])
            sentences.append(
                f"{row['name']} causes {row['noise']:.0%} of a sample's noise and {row['time']:.0%} of its time: {value} rays, not {was}."
            )
    if best.name == "spread":
        sentences.append(
            f"Even samples are as many on clean pixels as on grainy ones; each gets {best.values['sampling.min']} to {best.values['sampling.max']}, "
            "by gain."
        )
    if best.name == "even raise":
        sentences.append("No other split is significantly better: noise and time are distributed alike over the sources.")
    return sentences


def _sentence(budget: Budget, best: Plan, uniform: Plan) -> str:
    gain = "" if best is uniform or budget.gain is None else f", {budget.gain:.1f} times less noise variance than an even raise in the same time"
    card = f" Its card will state about {best.stated:.0%}, which counts each firefly in full." if best.stated > STATED * best.noise else ""
    return f"{best.does[0].upper()}{best.does[1:]}: {best.seconds:.3g} s a frame, {best.noise:.1%} noise{gain}.{card}"
