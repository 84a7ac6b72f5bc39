"""Predicted errors of ways in the given time, from their pilots on this shot."""

from dataclasses import dataclass

import numpy as np

from .facts import Facts
from .pilots import RATES, Pilot

LONG = 100
"""Assumed number of frames of a moving shot."""
BAKED, BAKED_OF_INDIRECT, THROUGH_GLASS = 0.010, 0.03, 0.25
"""Bias of a bake beyond, from matches on eleven other shots: a constant, times the share of indirect light, and times that
of gloss and glass, which a bake lacks (docs/benchmarks.md)."""
LEAST_BIAS = 0.005
"""Least assumed bias of a way with shortcuts."""


@dataclass(frozen=True)
class Guess:
    """A way's predicted error after some seconds: noise and bias separately; spread: standard error of their sum; prepares: seconds of its caches;
    rate: seconds of a frame with one sample per pixel; tried: on this shot."""

    name: str
    noise: float
    bias: float
    spread: float
    prepares: float
    rate: float
    tried: bool = True

    @property
    def total(self) -> float:
        return float((self.noise**2 + self.bias**2) ** 0.5)


def guesses_of(facts: Facts, seconds: float) -> list[Guess]:
    """Predicted error of each way in a still of that many seconds, best first; always includes brute force."""
    others = [pilot for pilot in facts.ways if pilot.name != "brute_force" and seconds - pilot.prepares > 2.0 * pilot.rate]
    squares = shrunk(facts.ways)
    return sorted((_guess(pilot, seconds, squares.get(pilot.name, 0.0)) for pilot in (facts.plain, *others)), key=lambda g: g.total)


def shrunk(pilots: list[Pilot]) -> dict[str, float]:
    """Squared biases by way, each shrunk towards their common value, more if less certain: a measurement of seconds is partly noise,
    and the smallest of several would mostly be noise (Efron & Morris 1975, "Data Analysis Using Stein's Estimator and its
    Generalizations")."""
    biased = [pilot for pilot in pilots if pilot.spread > 0.0]
    if not biased:
        return {}
    found, chance = np.array([p.squared for p in biased]), np.array([p.spread**2 for p in biased])
    common = max(float((found / chance).sum() / (1.0 / chance).sum()), LEAST_BIAS**2)
    between = max(float(found.var() - chance.mean()), (common / 2.0) ** 2)
    best = (found / chance + common / between) / (1.0 / chance + 1.0 / between)
    return {pilot.name: max(float(square), LEAST_BIAS**2) for pilot, square in zip(biased, best, strict=True)}


def guesses_moving(facts: Facts, seconds: float) -> list[Guess]:
    """The same for a moving shot: without caches at the first hit that are remade for each frame, which flicker. Caches made once
    are shared by all frames: a bake ends paths where a radiance cache does, and is predicted from that."""
    found = [_guess(facts.plain, seconds, shrunk(facts.ways).get("brute_force", 0.0))]
    shorter = next((pilot for pilot in facts.ways if pilot.name == "brute_force/radiance_cache"), None)
    if shorter and facts.inside and not (facts.motion.objects or facts.motion.lights):
        prepares = RATES["baked"] * facts.pace / LONG
        bias = BAKED + BAKED_OF_INDIRECT * facts.indirect + THROUGH_GLASS * (facts.glass + facts.gloss)
        ends = Pilot("brute_force/baked", shorter.rate, shorter.curve, bias**2, bias**2, prepares)
        found.append(_guess(ends, seconds, bias**2, tried=False))
    return sorted(found, key=lambda g: g.total)


def _guess(pilot: Pilot, seconds: float, squared: float, tried: bool = True) -> Guess:
    noise = pilot.noise(seconds)
    total = max((noise**2 + squared) ** 0.5, 1e-9)
    return Guess(pilot.name, noise, squared**0.5, min(pilot.spread / (2.0 * total), pilot.spread**0.5), pilot.prepares, pilot.rate, tried)
