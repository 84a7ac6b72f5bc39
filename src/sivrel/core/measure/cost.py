"""How long a render will take, from those that were timed on the same shot."""

from dataclasses import dataclass

import numpy as np

from ..render.frame import Frame
from ..render.recipe import Recipe, difference

NOT_A_RATE = {"sampling.max", "sampling.min"}
"""Settings that change how many samples are taken, not what one costs."""
ALIKE = 3
"""Of so many renders that are nearest to the wanted one in recipe, the median is taken."""


@dataclass(frozen=True)
class Timed:
    """A render that was timed. seconds: of its pixels, without what was prepared."""

    recipe: Recipe
    frame: Frame
    camera: str
    seconds: float


def samples_of(recipe: Recipe, frame: Frame) -> int:
    """Samples that a render takes at most."""
    x0, y0, x1, y1 = frame.window
    return (x1 - x0) * (y1 - y0) * recipe.sampling.max


def guess_seconds(recipe: Recipe, frame: Frame, camera: str, past: list[Timed]) -> float | None:
    """Seconds that a render will take: its samples at the rate of those renders whose recipes differ least from its own, newest first; None
    where nothing was timed."""
    scored = []
    for age, timed in enumerate(reversed(past)):
        samples = samples_of(timed.recipe, timed.frame)
        if samples <= 0 or timed.seconds <= 0.0:
            continue
        apart = sum(key not in NOT_A_RATE for key, _, _ in difference(timed.recipe, recipe))
        apart += (timed.camera != camera) + (timed.frame.region != frame.region)
        scored.append((apart, age, timed.seconds / samples))
    if not scored:
        return None
    scored.sort()
    rates = [rate for apart, _, rate in scored[:ALIKE] if apart == scored[0][0]]
    return float(np.median(rates)) * samples_of(recipe, frame)


def how_good(guessed: list[tuple[float, float]]) -> float | None:
    """By how much guesses were off, as a share of what it took, in the median; pairs of (guess, measured). None where there are none."""
    off = [abs(guess - seconds) / seconds for guess, seconds in guessed if seconds > 0.0]
    return float(np.median(off)) if off else None
