"""How noisy a picture is, from the variance that was measured while it was rendered."""

import numpy as np

from ..formats.exr import Picture

DARK = 0.05
"""Share of the mean luminance that counts as the eye's floor: below it grain is judged against the floor."""
LUMINANCE = np.array([0.2126, 0.7152, 0.0722], np.float32)


def noise_level(picture: Picture) -> float | None:
    """Mean over the pixels of standard error / (luminance + 5 % of the picture's mean luminance).

    Standard errors come from the spread of a pixel's samples; scrambled Sobol samples err less than that, so this is
    an upper bound. None when there is one sample a pixel, which tells nothing about its spread.
    """
    variance = picture.passes.get("variance")
    if variance is None or not np.isfinite(variance).all():
        return None
    light = picture.beauty[..., :3] @ LUMINANCE
    # The channels of one path rise and fall together: their standard errors add.
    error = np.sqrt(np.maximum(variance, 0.0)) @ LUMINANCE
    mean = float(light.mean())
    if mean <= 0.0:
        return 0.0
    return float(np.mean(error / (light + DARK * mean)))
