"""What each light does to a picture: its share of the direct light, of the noise and of the time."""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from ..render.film import BOUNCED_VARIANCE, DIRECT, FILM_COLUMNS, INDIRECT, LIGHT_VARIANCE, PASS_COLUMNS
from .noise import DARK, LUMINANCE

BOUNCED, CAMERA = "bounced light", "camera rays"
"""Names of what is measured beside the lights: all that comes after the first scattering, and all the rest."""


@dataclass(frozen=True)
class LightMeasure:
    """Shares from 0 to 1, None where they were not measured.

    light: of all direct light by mean luminance (of bounced light: of the whole picture)
    noise: of the variance of luminance relative to the pixel's brightness, as `core.measure.noise` weighs it, summed over the
    pixels; samples of different lights are scrambled apart, so the variances add up but for small cross terms
    time: of the processor's cycles: of a light those spent on aiming at it where the camera looks
    shadowed: how much of what it sends is stopped on its way
    """

    name: str
    light: float
    noise: float | None
    time: float | None
    shadowed: float | None

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def measure_lights(film: np.ndarray, names: list[str], clock: np.ndarray | None = None) -> list[LightMeasure]:
    """One measure for each light pass that holds anything, then bounced light and camera rays. `clock` as render_tiles
    fills it."""
    flat = film.reshape(-1, film.shape[-1]).astype(np.float64)
    direct, indirect = (float((flat[:, c : c + 3] @ LUMINANCE).mean()) for c in (DIRECT, INDIRECT))
    luminance = (flat[:, DIRECT : DIRECT + 3] + flat[:, INDIRECT : INDIRECT + 3]) @ LUMINANCE
    weights = 1.0 / np.maximum(luminance + DARK * luminance.mean(), 1e-12) ** 2
    variances = [weights @ flat[:, FILM_COLUMNS + slot * PASS_COLUMNS + LIGHT_VARIANCE] for slot in range(len(names))]
    bounced = weights @ flat[:, BOUNCED_VARIANCE]
    all_variance = sum(variances) + bounced
    noisy = np.isfinite(all_variance) and all_variance > 0.0
    timed = clock is not None and clock[-1] > 0.0
    measures = []
    for slot, name in enumerate(names):
        own = flat[:, FILM_COLUMNS + slot * PASS_COLUMNS :][:, :PASS_COLUMNS]
        light = float((own[:, :3] @ LUMINANCE).mean())
        unhindered, reaching = own[:, 3].sum(), own[:, 4].sum()
        if slot == 0 and light <= 0.0:
            continue  # nothing glows
        measures.append(
            LightMeasure(
                name,
                light / direct if direct > 0.0 else 0.0,
                float(variances[slot] / all_variance) if noisy else None,
                float(clock[slot] / clock[-1]) if timed and clock is not None else None,
                float(1.0 - reaching / unhindered) if unhindered > 0.0 else None,
            )
        )
    whole = direct + indirect
    after = float(clock[-2] / clock[-1]) if timed and clock is not None else None
    measures.append(LightMeasure(BOUNCED, indirect / whole if whole > 0.0 else 0.0, float(bounced / all_variance) if noisy else None, after, None))
    if after is not None and clock is not None:
        measures.append(LightMeasure(CAMERA, 0.0, None, max(0.0, 1.0 - float(clock[:-1].sum() / clock[-1])), None))
    return measures
