"""Tuning against what it foretells: curves of ladders at rungs left out, budgets against an even raise, advice against matches, and the ladder's
last word against the visible difference on a fresh seed. What was tuned was tuned on seeds below 100; shots of chance are reported from FIRST on."""

import os
import sys
import time

import numpy as np

from sivrel.core.caches import CacheFolder
from sivrel.core.diagnose.trial_renderer import TrialRenderer
from sivrel.core.edits.edits import Edits
from sivrel.core.formats.scenes import read_scene
from sivrel.core.measure.difference import visible_difference
from sivrel.core.measure.verdict import where_seen
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.warmup import warm_up
from sivrel.core.scene.model import Scene
from sivrel.core.tune.advice import advise
from sivrel.core.tune.blocks import noise_of
from sivrel.core.tune.budget import plan_budget
from sivrel.core.tune.candidates import Candidate, candidates
from sivrel.core.tune.facts import measure_facts
from sivrel.core.tune.fits import fit_power
from sivrel.core.tune.ladder import SECOND_SEED, SEEN_SHARE, climb
from sivrel.core.tune.match import run_match
from sivrel.core.tune.render import take
from sivrel.core.tune.varied import varied
from sivrel.demo.shots import find_shot

from .characters import CHARACTERS, shot_of

DEMO = ("keepers-kitchen", "slipway", "lamp-room")
FIRST, SECONDS, SIZE = 5000, 12.0, (240, 135)
DEEP = {"limits.diffuse_bounces": 12, "limits.refractions": 12}
MATCHED = ["brute_force", "brute_force/radiance_cache", "irradiance_cache", "irradiance_cache/radiance_cache", "photon_map", "baked"]
LADDERS = (
    ({}, "sampling.max", (2, 4, 8, 16, 32)),
    ({}, "shadows.rays", (1, 2, 4, 8, 16)),
    ({"sampling.max": 8}, "sampling.gi_rays", (1, 2, 4, 8, 16)),
    ({"gi.seen": "irradiance_cache", "gi.beyond": "radiance_cache", "sampling.max": 8}, "irradiance_cache.rays", (64, 128, 256, 512, 1024)),
    ({"gi.seen": "photon_map", "sampling.max": 8}, "photon_map.final_gather_rays", (2, 4, 8, 16, 32)),
    ({"gi.seen": "radiance_cache", "sampling.max": 8}, "radiance_cache.paths", (0.5, 1, 2, 4, 8)),
    ({"gi.seen": "baked", "sampling.max": 8, "baked.refine": 0}, "baked.final_gather_rays", (2, 4, 8, 16, 32)),
)  # fmt: skip
"""A recipe, what is varied, and its rungs: a ladder of each way."""


LOOKED_UP = {"gi.seen": "photon_map", "photon_map.final_gather_rays": 0, "sampling.max": 64}


TO_SHOW = (
    ("slipway", {}, "sampling.max", (4, 16, 64, 256, 512)),
    ("slipway", {"sampling.max": 64}, "limits.diffuse_bounces", (0, 1, 2, 4)),
    ("keepers-kitchen", LOOKED_UP, "photon_map.count", (5000, 20000, 80000, 320000)),
    ("slipway", {"sampling.max": 64, "shadows.way": "depth_map"}, "shadows.resolution", (128, 512, 2048, 4096)),
    ("keepers-kitchen", LOOKED_UP, "photon_map.bounces", (1, 2, 4, 8, 16)),
    ("slipway", {"sampling.max": 256}, "shadows.rays", (1, 2, 4, 8)),
    ("slipway", {"sampling.max": 64}, "limits.reflections", (0, 1, 2, 4)),
)
"""Ladders whose word “enough” is held to a fresh seed: shot, recipe, what is varied, and its rungs."""


def _renderer(scene: Scene, values: dict, frame: Frame, caches: CacheFolder | None = None) -> TrialRenderer:
    return TrialRenderer(scene, with_values(Recipe(), {**DEEP, **values}), Edits(), None, frame, caches=caches)


def _demo(name: str) -> Scene:
    return read_scene(find_shot(f"demo:{name}"))


def fits() -> str:
    """Ladders of every way on the demo shots: each rung but the first two left out in turn, and the last foretold from those before it; how far the
    curve is off in time and in noise, in the median."""
    warm_up()
    off: dict[str, list[float]] = {"time": [], "noise": [], "time of the next": [], "noise of the next": []}
    result = []
    for name in DEMO:
        scene, frame, caches = _demo(name), Frame(*SIZE, (60, 40, 180, 108)), CacheFolder()
        for values, key, rungs in LADDERS:
            renderer = _renderer(scene, values, frame, caches)
            chosen = varied(key, list(rungs), renderer.recipe, renderer.edits)
            made = climb(renderer, [chosen], frame, scene.camera().exposure, seconds=30.0)
            done = [r for r in made.rungs if r.error is not None]
            x = [float(r.values[key]) for r in done]
            own: dict[str, list[float]] = {}
            for what, y, power in (("time", [r.frame_seconds for r in done], 1.0), ("noise", [r.error.noise**2 for r in done if r.error], 0.5)):
                for k in range(1, len(x)):
                    rest = [i for i in range(len(x)) if i != k]
                    fit = fit_power([x[i] for i in rest], [y[i] for i in rest])
                    if fit is not None and k >= 2:
                        kind = what if k < len(x) - 1 else f"{what} of the next"
                        error = abs((max(float(fit.at(x[k])), 1e-12) / y[k]) ** power - 1.0)
                        off[kind].append(error)
                        own.setdefault(kind, []).append(error)
            result.append(f"{name} {key}: " + ", ".join(f"{kind} {np.median(v):.0%}" for kind, v in own.items()))
            print(result[-1], file=sys.stderr, flush=True)
    return "; ".join(f"{kind} off {np.median(v):.0%} in the median of {len(v)}" for kind, v in off.items()) + "\n  " + "\n  ".join(result)


def budget() -> str:
    """24 s a frame of 320 x 180 on the demo shots: variance of an even raise over that of the plan at equal time, as its blocks say and on whole
    frames; predicted time and noise against those."""
    warm_up()
    result = []
    for name in DEMO:
        scene, frame = _demo(name), Frame(320, 180)
        renderer = _renderer(scene, {}, frame)
        made = plan_budget(renderer, frame, seconds=24.0)
        plans = {}
        for k in dict.fromkeys((0, made.chosen)):
            plan = made.plans[k]
            recipe, edits = renderer.changed(plan.values, plan.edits)
            ready = renderer.ready(recipe, edits)[0]
            one, other = (take(ready, recipe, Frame(320, 180, None, seed), renderer.task) for seed in (31, 32))
            assert one is not None and other is not None
            plans[k] = (one.seconds + other.seconds) / 2.0, noise_of(one, other), plan
        even, best = plans[0], plans[made.chosen]
        gain = even[1] ** 2 * even[0] / (best[1] ** 2 * best[0])
        result.append(
            f"{name}: {made.plans[made.chosen].name} {made.plans[made.chosen].values}, {gain:.1f} times less variance (blocks said {made.gain:.1f}); "
            f"time predicted {best[2].seconds:.0f} s, took {best[0]:.0f} s ({best[2].seconds / best[0] - 1.0:+.0%}); "
            f"noise predicted {best[2].noise:.1%}, came {best[1]:.1%} ({best[2].noise / best[1] - 1.0:+.0%})"
        )
        print(result[-1], file=sys.stderr, flush=True)
    return "\n  ".join(result)


def advice(first: int = FIRST) -> str:
    """The recipe that is advised against the ways in a match, on the demo shots and on a shot of each character: its error over the best one's in
    equal time, whether the facts were said to decide, and how far what was foretold of each way is off."""
    warm_up()
    shots = [(name, _demo(name)) for name in DEMO] + [(c.__name__, shot_of(c, first + k)) for k, c in enumerate(CHARACTERS)]
    result, within, decided, off, took = [], 0, [], [], []
    for name, scene in shots:
        frame = Frame(*SIZE)
        renderer = _renderer(scene, {}, frame)
        facts = measure_facts(renderer, frame, scene.camera().exposure, seconds=SECONDS)
        assert facts is not None
        still = advise(facts, renderer.recipe, seconds=SECONDS).recipes[1]
        advised = Candidate("as advised", "as advised", still.values)
        match = run_match(renderer, [*candidates(MATCHED, renderer.recipe), advised], frame, seconds=SECONDS)
        done = {e.candidate.name: e for e in match.entrants if e.error}
        totals = {key: e.error.total for key, e in done.items() if e.error}
        times = totals.get(advised.name, float("inf")) / min(totals.values())
        within += times <= 1.1
        decided.append((not still.match, times <= 1.1))
        took.append(facts.seconds)
        guesses = [g for g in still.guesses if g.name in done]
        off += [abs(g.total / totals[g.name] - 1.0) for g in guesses]
        ranks = ", ".join(f"{n} {t:.1%}" for n, t in sorted(totals.items(), key=lambda one: one[1]))
        foretold = "; ".join(
            f"{g.name} {g.noise:.1%} noise, {g.bias:.1%} bias ± {g.spread:.1%}, {g.prepares:.1f} s"
            f" for {done[g.name].error.noise:.1%}, {done[g.name].error.bias:.1%}, {done[g.name].prepares:.1f} s"  # type: ignore[union-attr]
            for g in guesses
        )
        sure = "decided" if not still.match else "not decided"
        result.append(f"{name}: advised {still.way} ({sure}) in {facts.seconds:.0f} s, {times:.2f} times the best; {ranks}\n    foretold {foretold}")
        print(result[-1], file=sys.stderr, flush=True)
    right = [ok for sure, ok in decided if sure]
    return (
        f"first or within 10 %: {within} of {len(shots)}; where the facts decided {sum(right)} of {len(right)}; foretold error of what was tried off "
        f"{np.median(off):.0%} in the median of {len(off)}; took {np.median(took):.0f} s in the median\n  " + "\n  ".join(result)
    )


def enough() -> str:
    """Ladders of samples and of record rays: whether the rung that is called enough looks like the last on a fresh seed, and the one below it does
    not."""
    warm_up()
    result, right, total = [], 0, 0
    for name, values, key, rungs in TO_SHOW:
        scene, frame = _demo(name), Frame(480, 270, (180, 100, 300, 168))
        renderer, exposure = _renderer(scene, values, frame), scene.camera().exposure
        chosen = varied(key, list(rungs), renderer.recipe, renderer.edits)
        made = climb(renderer, [chosen], frame, exposure, seconds=45.0)
        done = [r for r in made.rungs if r.error is not None]
        fresh = []
        for rung in done:
            recipe, edits = renderer.changed(rung.values, {})
            one = take(renderer.ready(recipe, edits, frame.window)[0], recipe, Frame(480, 270, frame.region, 2 * SECOND_SEED + 5), renderer.task)
            assert one is not None
            fresh.append(one.colours[0])
        seen = [bool(where_seen(visible_difference(one, fresh[-1], exposure)).mean() >= SEEN_SHARE) for one in fresh[:-1]]
        says = [bool(r.seen["last"] >= SEEN_SHARE) for r in done[:-1]]
        right, total = right + sum(a == b for a, b in zip(seen, says, strict=True)), total + len(says)
        result.append(f"{name} {key}: enough {made.take}, seen to differ from the last {says}, on a fresh seed {seen}")
        print(result[-1], file=sys.stderr, flush=True)
    return f"{right} of {total} rungs judged alike\n  " + "\n  ".join(result)


def tune() -> str:
    """All four."""
    begun = time.perf_counter()
    parts = [f"{name}: {part()}" for name, part in (("fits", fits), ("budget", budget), ("advice", advice), ("enough", enough))]
    return "\n ".join(["", *parts, f"{time.perf_counter() - begun:.0f} s on {os.cpu_count()} cores"])
