"""Visibility of a flaw: its displayed contrast against the eye's threshold for its size.

Mannos & Sakrison 1974, "The Effects of a Visual Fidelity Criterion on the Encoding of Images", equation 9: the eye's sensitivity to a
frequency, relative to its best. Campbell & Robson 1968, "Application of Fourier analysis to the visibility of gratings": at best it
detects a contrast of about half a per cent.
"""

import functools
from typing import Any

import numpy as np

from ..finish.view import to_display
from ..measure.difference import PIXELS_PER_DEGREE

THRESHOLD = 0.005
"""Contrast threshold of a grating at the eye's best frequency."""
SEEN = 2.0
"""Visibility in thresholds from which a flaw is reported: twice what a trained eye can just see on a plain wall."""
GRAIN_SEEN = 3.0
"""The same for fine grain, which has no shape and is tolerated better: some four per cent."""
FLOOR = 0.02
"""Luminance of the screen's black and the room's reflection, as a share of white."""
SOFTEST = 0.3
"""Lower bound of the sensitivity below the best frequency, since patches have edges."""
STOPS = np.linspace(-14.0, 12.0, 521)


def _response(cycles: Any) -> Any:
    return 2.6 * (0.0192 + 0.114 * cycles) * np.exp(-((0.114 * cycles) ** 1.1))


_ALL = np.linspace(0.0, 60.0, 1201)
BEST = float(_ALL[_response(_ALL).argmax()])
"""Frequency of greatest sensitivity, in cycles per degree of visual angle."""


def sensitivity(cycles: np.ndarray | float) -> np.ndarray:
    """The eye's relative sensitivity to a frequency in cycles per degree, 1 at its best."""
    f = np.asarray(cycles, float)
    relative = _response(f) / float(_response(np.float64(BEST)))
    return np.where(f < BEST, np.maximum(relative, SOFTEST), relative)


def times_threshold(contrast: float, size: float, per_degree: float = PIXELS_PER_DEGREE) -> float:
    """Visibility of a contrast in thresholds, for patches `size` pixels wide at a number of pixels per degree."""
    return float(abs(contrast) / THRESHOLD * sensitivity(per_degree / (2.0 * max(size, 1.0))))


@functools.cache
def grain_factor(per_degree: float = PIXELS_PER_DEGREE) -> float:
    """Share of the standard deviation of per-pixel grain that the eye's own filter passes."""
    f = (np.arange(256) - 127.5) / 256.0 * per_degree
    both = np.hypot(*np.meshgrid(f, f))
    return float(np.sqrt((sensitivity(both) ** 2).mean()))


@functools.lru_cache(64)
def _tone(exposure: float) -> np.ndarray:
    grey = 2.0**STOPS
    shown = to_display(np.repeat(grey[:, None], 3, axis=1)[None], exposure)[0, :, 1].astype(float)
    # Light of the screen: the inverse of its encoding (IEC 61966-2-1).
    return np.where(shown <= 0.04045, shown / 12.92, ((shown + 0.055) / 1.055) ** 2.4)


def as_shown(luminance: np.ndarray, exposure: float) -> np.ndarray:
    """Light of the screen, 0 to 1, for linear luminances in the soft view at `exposure` stops."""
    stops = np.log2(np.maximum(luminance, 2.0 ** STOPS[0]))
    return np.where(np.asarray(luminance) > 2.0 ** STOPS[0], np.interp(stops, STOPS, _tone(round(exposure, 2))), 0.0)


def contrast(luminance: np.ndarray, against: np.ndarray, exposure: float) -> np.ndarray:
    """Signed displayed contrast of luminances against others."""
    one, other = as_shown(luminance, exposure), as_shown(against, exposure)
    return (one - other) / (0.5 * (one + other) + FLOOR)


def contrast_of_noise(luminance: np.ndarray, error: np.ndarray, exposure: float) -> np.ndarray:
    """Displayed contrast of standard errors about luminances."""
    low, high = as_shown(np.maximum(luminance - 0.5 * error, 0.0), exposure), as_shown(luminance + 0.5 * error, exposure)
    return (high - low) / (as_shown(luminance, exposure) + FLOOR)
