"""How well the eye sees contrast that changes in space and in time.

The threshold surface of Kelly 1979, "Motion and vision II: stabilized spatio-temporal threshold surface" (equation 8), with the constants that
Daly 1998, "Engineering observations from spatiovelocity and spatiotemporal visual models", gives for eyes that follow what they look at. It holds
for bright screens; in the dark the eye sees less.
"""

import functools

import numpy as np

LUMINANCE_SCALE, SPATIAL_SCALE, VELOCITY_SCALE = 1.14, 0.67, 1.7
"""Daly's constants c0, c1 and c2."""
SLOWEST = 0.25
"""Least temporal frequency, in Hz: slower changes are not seen as flicker."""


def sensitivity(spatial: np.ndarray | float, temporal: np.ndarray | float) -> np.ndarray:
    """Contrast sensitivity, one over the least amplitude of a sine grating that is seen, at spatial frequencies in cycles a degree and temporal ones
    in Hz, both above 0."""
    cycles, hertz = np.asarray(spatial, float), np.asarray(temporal, float)
    velocity = VELOCITY_SCALE * hertz / cycles
    height = 6.1 + 7.3 * np.abs(np.log10(velocity / 3.0)) ** 3
    turned = SPATIAL_SCALE * 2.0 * np.pi * cycles
    return height * LUMINANCE_SCALE * velocity * turned**2 * np.exp(-2.0 * turned * (velocity + 2.0) / 45.9)


@functools.lru_cache(256)
def weight_of_noise(spatial: float, rate: float) -> float:
    """Sensitivity to noise of a spatial frequency that is new in each frame: its standard deviation, as a contrast, times this is 1 at the threshold.

    Noise that is independent from frame to frame spreads its power evenly up to half the frame rate. A sine of amplitude m has the variance m²/2, and
    frequencies add up by their squares, as one detector of energy would.
    """
    highest = rate / 2.0
    hertz = np.linspace(min(SLOWEST, highest / 2.0), highest, 96)
    return float(np.sqrt(np.trapezoid(2.0 * sensitivity(spatial, hertz) ** 2, hertz) / highest))
