"""How far forecasts of render times are off: renders of each demo shot, each with another change by chance; `python -m bench forecast`."""

import time

import numpy as np

from sivrel.core.caches import CacheFolder
from sivrel.core.formats.scenes import read_scene
from sivrel.core.measure.cost import Timed, forecast
from sivrel.core.render.film import SAMPLES
from sivrel.core.render.frame import Frame
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tiles import render_tiles
from sivrel.core.render.warmup import warm_up
from sivrel.demo.shots import find_shot

SHOTS = ("keepers-kitchen", "slipway", "lamp-room")
RENDERS, FIRST = 24, 4
"""Renders of each shot, and those that are not judged: nothing is known yet."""
CHANGES: list[dict] = [
    {"sampling.max": 4}, {"sampling.max": 8}, {"sampling.max": 16}, {"sampling.max": 24}, {"sampling.gi_rays": 1}, {"sampling.gi_rays": 4},
    {"shadows.rays": 1}, {"shadows.rays": 4}, {"limits.diffuse_bounces": 1}, {"limits.diffuse_bounces": 4}, {"limits.diffuse_bounces": 8},
    {"sampling.glossy_rays": 4}, {"sampling.glossy_rays": 1}, {"gi.seen": "off"}, {"gi.seen": "brute_force"}, {"limits.indirect_clamp": 2.0},
    {"sampling.noise_target": 12.0, "sampling.max": 64}, {"sampling.noise_target": 0.0, "sampling.max": 12}, {"lights.draws": 2},
]  # fmt: skip
SIZES = ((160, 90), (240, 135))


def forecasts() -> str:
    """Median share by which seconds were missed, and how many fell within the band; of all, and of recipes that had been rendered before."""
    warm_up()
    off, inside, again = [], [], []
    for number, name in enumerate(SHOTS):
        rng, recipe, past = np.random.default_rng(60 + number), Recipe(), list[Timed]()
        scene, caches, frame = read_scene(find_shot(f"demo:{name}")), CacheFolder(), Frame(*SIZES[0])
        recipe = with_values(recipe, {"sampling.max": 8})
        for k in range(RENDERS):
            predicted = forecast(recipe, frame, "c", past)
            ready = prepare(scene, recipe, frame=frame, caches=caches)
            taken: list[np.ndarray] = []
            begun = time.monotonic()
            render_tiles(ready.arrays, ready.camera, recipe, frame, lambda _, film, taken=taken: taken.append(film[..., SAMPLES].mean()), threads=2)
            seconds = time.monotonic() - begun
            past.append(Timed(recipe, frame, "c", seconds, samples=float(np.mean(taken))))
            if predicted is not None and k >= FIRST:
                off.append(abs(predicted.seconds - seconds) / seconds)
                inside.append(predicted.low <= seconds <= predicted.high)
                again.append(predicted.apart == 0)
            recipe = with_values(recipe, CHANGES[rng.integers(len(CHANGES))])
            frame = Frame(*SIZES[rng.integers(2)], seed=int(rng.integers(1000))) if rng.random() < 0.3 else frame
    every, known = np.array(off), np.array(off)[np.array(again)]
    return (
        f"{len(every)} forecasts {np.median(every):.0%} off in the median (nine tenths under {np.quantile(every, 0.9):.0%}), "
        f"{np.mean(inside):.0%} within their band; {len(known)} of recipes rendered before {np.median(known):.0%} off"
    )
