"""What of a flaw the eye sees: contrast as the picture is shown, against the threshold for its size.

Mannos & Sakrison 1974, "The Effects of a Visual Fidelity Criterion on the Encoding of Images", equation 9: how sensitive the eye is to a
frequency, relative to its best. Campbell & Robson 1968, "Application of Fourier analysis to the visibility of gratings": at its best it
tells a contrast of about half a per cent.
"""

import functools
from typing import Any

import numpy as np

from ..finish.view import to_display
from ..measure.difference import PIXELS_PER_DEGREE

THRESHOLD = 0.005
"""Contrast of a grating at the eye's best frequency that is just told."""
SEEN = 2.0
"""Times the threshold from which on a flaw is told to the artist: twice what a trained eye can just tell on a plain wall."""
GRAIN_SEEN = 3.0
"""The same for fine grain, which has no shape and is borne better: some four per cent."""
FLOOR = 0.02
"""Share of the screen's white that its black, and the room about it, add."""
SOFTEST = 0.3
"""Patches have edges: below the best frequency the eye does not lose more than this."""
STOPS = np.linspace(-14.0, 12.0, 521)


def _response(cycles: Any) -> Any:
    return 2.6 * (0.0192 + 0.114 * cycles) * np.exp(-((0.114 * cycles) ** 1.1))


_ALL = np.linspace(0.0, 60.0, 1201)
BEST = float(_ALL[_response(_ALL).argmax()])
"""Cycles per degree of visual angle at which the eye tells the least contrast."""


def sensitivity(cycles: np.ndarray | float) -> np.ndarray:
    """How sensitive the eye is to a frequency in cycles per degree, 1 at its best."""
    f = np.asarray(cycles, float)
    relative = _response(f) / float(_response(np.float64(BEST)))
    return np.where(f < BEST, np.maximum(relative, SOFTEST), relative)


def times_threshold(contrast: float, size: float, per_degree: float = PIXELS_PER_DEGREE) -> float:
    """How many times what is just told a contrast is, of patches `size` pixels wide seen at so many pixels a degree."""
    return float(abs(contrast) / THRESHOLD * sensitivity(per_degree / (2.0 * max(size, 1.0))))


@functools.cache
def grain_factor(per_degree: float = PIXELS_PER_DEGREE) -> float:
    """What of the standard deviation of grain, which differs from pixel to pixel, the eye's own filter passes on."""
    f = (np.arange(256) - 127.5) / 256.0 * per_degree
    both = np.hypot(*np.meshgrid(f, f))
    return float(np.sqrt((sensitivity(both) ** 2).mean()))


@functools.lru_cache(64)
def _tone(exposure: float) -> np.ndarray:
    grey = 2.0**STOPS
    shown = to_display(np.repeat(grey[:, None], 3, axis=1)[None], exposure)[0, :, 1].astype(float)
    # What the screen emits: the inverse of its encoding (IEC 61966-2-1).
    return np.where(shown <= 0.04045, shown / 12.92, ((shown + 0.055) / 1.055) ** 2.4)


def as_shown(luminance: np.ndarray, exposure: float) -> np.ndarray:
    """What the screen emits for linear luminances, 0 to 1, in the soft view at `exposure` stops."""
    stops = np.log2(np.maximum(luminance, 2.0 ** STOPS[0]))
    return np.where(np.asarray(luminance) > 2.0 ** STOPS[0], np.interp(stops, STOPS, _tone(round(exposure, 2))), 0.0)


def contrast(luminance: np.ndarray, against: np.ndarray, exposure: float) -> np.ndarray:
    """Signed contrast, as shown, of luminances against others."""
    one, other = as_shown(luminance, exposure), as_shown(against, exposure)
    return (one - other) / (0.5 * (one + other) + FLOOR)


def contrast_of_noise(luminance: np.ndarray, error: np.ndarray, exposure: float) -> np.ndarray:
    """Contrast, as shown, of standard errors about luminances."""
    low, high = as_shown(np.maximum(luminance - 0.5 * error, 0.0), exposure), as_shown(luminance + 0.5 * error, exposure)
    return (high - low) / (as_shown(luminance, exposure) + FLOOR)
