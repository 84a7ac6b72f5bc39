"""Curves through the measurements of a few renders: time and variance over a setting, with their uncertainty."""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from scipy.optimize import nnls

POWERS = (-3.0, -2.0, -1.5, -1.0, -0.75, -0.5, -0.25, 0.25, 0.5, 1.0, 1.5, 2.0, 3.0)
ROUND, SIMPLER = {-2.0, -1.0, 1.0, 2.0}, 0.9
"""Natural powers of counts and lengths, which are preferred unless another fits better by more than a tenth."""
LEAST_SPREAD = 0.02


@dataclass(frozen=True)
class Fit:
    """y = floor + scale * x ** power; spread: relative root mean square error of a new value."""

    floor: float
    scale: float
    power: float
    spread: float

    def at(self, x: float | np.ndarray) -> Any:
        return self.floor + self.scale * np.asarray(x, float) ** self.power

    def reaches(self, y: float) -> float | None:
        """x where the curve reaches y; None if it never does."""
        if self.scale <= 0.0 or y <= self.floor:
            return None
        return float(((y - self.floor) / self.scale) ** (1.0 / self.power))

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def fit_power(x: list[float], y: list[float]) -> Fit | None:
    """The curve through measured values, all positive, by least squares of the relative residuals, with non-negative parameters (Lawson & Hanson
    1974, "Solving Least Squares Problems", chapter 23). Its spread is that of values left out in turn (Stone 1974, "Cross-Validatory Choice
    and Assessment of Statistical Predictions"). None for fewer than two different x."""
    xs, ys = np.asarray(x, float), np.asarray(y, float)
    usable = (xs > 0.0) & (ys > 0.0) & np.isfinite(xs) & np.isfinite(ys)
    xs, ys = xs[usable], ys[usable]
    if len(set(xs.tolist())) < 2:
        return None
    if len(set(xs.tolist())) == 2:  # two points can't separate a floor from the curve
        (low, high), logs = sorted(set(xs.tolist())), np.log(ys)
        power = float((logs[xs == high].mean() - logs[xs == low].mean()) / np.log(high / low)) or 1e-3
        return Fit(0.0, float(np.exp(logs.mean() - power * np.log(xs).mean())), power, 0.3)
    best: tuple[float, Fit] | None = None
    for power in POWERS:
        floor, scale, residual = _through(xs, ys, power)
        # With few points many curves fit exactly, and simple ones are more likely.
        score = (residual + 0.003) * (SIMPLER if power in ROUND else 1.0)
        if best is None or score < best[0]:
            best = score, Fit(floor, scale, power, residual)
    assert best is not None
    fit = best[1]
    left_out = []
    for k in range(len(xs)):
        rest = np.arange(len(xs)) != k
        floor, scale, _ = _through(xs[rest], ys[rest], fit.power)
        left_out.append((floor + scale * xs[k] ** fit.power) / ys[k] - 1.0)
    spread = float(np.sqrt(np.mean(np.square(left_out))))
    return Fit(fit.floor, fit.scale, fit.power, max(spread, LEAST_SPREAD))


def _through(x: np.ndarray, y: np.ndarray, power: float) -> tuple[float, float, float]:
    """(floor, scale, root mean square of the relative residuals) of the best curve of one power."""
    middle = float(np.exp(np.log(x).mean()))
    rows = np.stack([1.0 / y, (x / middle) ** power / y], axis=1)
    (floor, scale), norm = nnls(rows, np.ones(len(x)))
    return float(floor), float(scale / middle**power), float(norm) / len(x) ** 0.5
