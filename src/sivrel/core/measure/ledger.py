"""The ledger: the sources of a picture's light, noise and time.

Noise by a nested estimate. By the law of total variance, that of a pixel sample is the variance between samples, of what would be
found with infinitely many splits, plus the mean variance within a sample, with its camera ray fixed and everything
after it drawn again. So some samples are paired: traced twice from the first surface on. Half the squared difference estimates the
variance within, of each source and of their sum; the covariance of the two is that of the camera rays: edges,
textures, lenses (Blitzstein & Hwang 2019, "Introduction to Probability", theorem 9.5.4,
Eve's law). The difference between the variance within and the sum of sources is their cross terms: two sources that share a ray.
"""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from ..render import film as columns
from ..render.film import CLOCK_ALL, CLOCK_BOUNCED, CLOCK_PAIRS, FILM_COLUMNS, PASS_COLUMNS, WITHIN_LIGHT
from ..render.passes import LIGHT, NOISE, NOISE_BOUNCED, NOISE_CAMERA, NOISE_WITHIN, layer_of
from .noise import LUMINANCE, relative_weights

BOUNCED = ("bounced light", "gloss", "glass")
CAMERA, CROSS, MEASURING = "camera rays", "cross terms", "measuring"
"""Names of the sources besides lights: indirect light by what scattered it first; noise that only more camera rays reduce; the covariance of
sources that share a ray; and the second half of paired samples."""

NOT_LIGHTS = (*BOUNCED, CAMERA, CROSS, MEASURING)


@dataclass(frozen=True)
class LedgerRow:
    """Shares from 0 to 1, None if not measured.

    light: of a light, its share of all direct light by mean luminance; of indirect light, its share of the picture
    noise: of the variance of luminance relative to the pixel's brightness, weighted as in `core.measure.noise`, summed over the pixels;
    negative for some cross terms; all add up to 1; noise_error is its standard error
    time: of the processor's cycles; all of them add up to 1
    shadowed: share of a light's contribution that is blocked
    """

    name: str
    light: float
    noise: float | None
    noise_error: float | None
    time: float | None
    shadowed: float | None

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def measure_ledger(film: np.ndarray, names: list[str], clock: np.ndarray | None = None) -> list[LedgerRow]:
    """A row for each light pass with any light, for indirect light, camera rays, cross terms and the measurement itself.
    `clock` as render_tiles fills it."""
    flat = film.reshape(-1, film.shape[-1]).astype(np.float64)
    direct, indirect = (float((flat[:, c : c + 3] @ LUMINANCE).mean()) for c in (columns.DIRECT, columns.INDIRECT))
    luminance = (flat[:, columns.DIRECT : columns.DIRECT + 3] + flat[:, columns.INDIRECT : columns.INDIRECT + 3]) @ LUMINANCE
    weights = relative_weights(luminance.reshape(film.shape[:2]))
    whole_variance = float(weights @ (flat[:, columns.WITHIN] + flat[:, columns.BETWEEN]))
    noisy = bool(np.isfinite(whole_variance) and whole_variance > 0.0)
    timed = clock is not None and clock[-1] > 0.0

    def noise_of(column: int) -> tuple[float | None, float | None]:
        if not noisy:
            return None, None
        parts = weights * flat[:, column] / whole_variance
        return float(parts.sum()), float(np.sqrt(len(parts)) * parts.std())

    def time_of(entry: int) -> float | None:
        return float(clock[entry] / clock[-1]) if timed and clock is not None else None

    rows, of_sources = [], 0.0
    for slot, name in enumerate(names):
        at = FILM_COLUMNS + slot * PASS_COLUMNS
        own = flat[:, at : at + PASS_COLUMNS]
        light = float((own[:, :3] @ LUMINANCE).mean())
        noise = noise_of(at + WITHIN_LIGHT)
        of_sources += noise[0] or 0.0
        if slot == 0 and light <= 0.0:
            continue  # nothing glows
        unhindered, reaching = own[:, 3].sum(), own[:, 4].sum()
        shadowed = float(1.0 - reaching / unhindered) if unhindered > 0.0 else None
        rows.append(LedgerRow(name, light / direct if direct > 0.0 else 0.0, *noise, time_of(slot), shadowed))
    whole = direct + indirect
    for part, name in enumerate(BOUNCED):
        light = float(flat[:, columns.BOUNCED + part].mean())
        noise = noise_of(columns.WITHIN_BOUNCED + part)
        of_sources += noise[0] or 0.0
        entry = len(names) + CLOCK_BOUNCED + part
        if part == 0 or light > 0.0 or (time_of(entry) or 0.0) > 0.0:
            rows.append(LedgerRow(name, light / whole if whole > 0.0 else 0.0, *noise, time_of(entry), None))
    within, error = noise_of(columns.WITHIN)
    left = None
    if timed and clock is not None:
        spent = clock[: len(names) + CLOCK_ALL].sum()
        left = float(1.0 - spent / clock[-1])
    rows.append(LedgerRow(CAMERA, 0.0, *noise_of(columns.BETWEEN), left, None))
    rows.append(LedgerRow(CROSS, 0.0, None if within is None else within - of_sources, error, None, None))
    rows.append(LedgerRow(MEASURING, 0.0, None, None, time_of(len(names) + CLOCK_PAIRS), None))
    return rows


def noise_of_region(passes: dict[str, np.ndarray], lights: list[str], box: tuple[int, int, int, int]) -> list[dict[str, Any]]:
    """The noise of a part of a picture by source: rows of name and noise, as in `LedgerRow`, from its noise passes. `box` is left, top,
    right, bottom in pixels of the picture. Empty if the picture has no such passes, or no noise there."""
    if NOISE_CAMERA not in passes or NOISE_WITHIN not in passes:
        return []
    x0, y0, x1, y1 = box
    weights = relative_weights(passes["beauty"][..., :3].astype(np.float64) @ LUMINANCE).reshape(passes["beauty"].shape[:2])[y0:y1, x0:x1]

    def noise_of(name: str) -> float:
        return float((weights * passes[name][y0:y1, x0:x1, 0]).sum()) if name in passes else 0.0

    within, between = noise_of(NOISE_WITHIN), noise_of(NOISE_CAMERA)
    whole = within + between
    if not (np.isfinite(whole) and whole > 0.0):
        return []
    sources = {name: noise_of(NOISE + LIGHT + layer_of(name)) for name in lights}
    sources |= {name: noise_of(layer) for name, layer in zip(BOUNCED, NOISE_BOUNCED, strict=True)}
    sources[CAMERA], sources[CROSS] = between, within - sum(sources.values())
    return [{"name": name, "noise": noise / whole} for name, noise in sources.items()]
