"""Finishing: from scene-linear light to what is shown and saved as PNG, by the artist's hand.

In this order: exposure, sharpening, white balance, highlight compression, lifted shadows, contrast, saturation, view. The browser does the same,
operation for operation, in static/js/plate-gl.js; both look the view up in the same table. An EXR is never finished.
"""

from typing import Any, Literal

import numpy as np
from pydantic import ValidationError

from ..errors import InputError
from ..settings import Group, declared_settings, setting
from .view import LUT_SIZE, LUT_STOPS, MIDDLE, VIEWS, lookup_table

LUMINANCE = np.array([0.2126, 0.7152, 0.0722], np.float32)
KNEE = 0.6
"""Brightest channel, after exposure, above which highlights are compressed."""
LIFT = 2.5
"""Most by which shadows are brightened, less one: black by a factor of 3.5."""
SHARPEST = 1.5
"""Most by which sharpening brightens a pixel, and one over the most by which it darkens it."""
EYE_FLOOR = 1e-3
NEUTRAL = 6504.0
"""Kelvin that leaves the picture as it is: the white of Rec.709 is D65."""
BRADFORD = np.array([[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]])
TO_XYZ = np.array([[0.4123908, 0.3575843, 0.1804808], [0.2126390, 0.7151687, 0.0721923], [0.0193308, 0.1191948, 0.9505322]])
"""Linear Rec.709 to CIE XYZ (ITU-R BT.709-6); Bradford's cone responses (Lam 1985; ICC.1:2022, annex E)."""


class Finish(Group):
    """Every setting of the finishing; `Finish()` only shows the picture through the soft view."""

    exposure: float = setting(0.0, "exposure", "Raised by {} stops,", "Stops; each doubles the light.", "stops", step=0.1, ge=-20.0, le=20.0)
    temperature: float = setting(
        NEUTRAL, "white", "with light of {} K as white,", "Colour of the light that is to look white: lower for lamps, higher for shade.", "K",
        step=50, ge=2000.0, le=15000.0,
    )  # fmt: skip
    tint: float = setting(0.0, "tint", "off it by {},", "Off that white, to green (negative) or magenta (positive).", step=0.02, ge=-1.0, le=1.0)
    highlights: float = setting(
        0.0, "highlights held", "highlights held by {},", "Compresses what is brighter than the knee, its colour kept.", step=0.05, ge=0.0, le=1.0
    )
    shadows: float = setting(
        0.0, "shadows lifted", "shadows lifted by {},", "Brightens what is darker than middle grey, its colour kept; 1 lifts black by 1.8 stops.",
        step=0.05, ge=0.0, le=1.0,
    )  # fmt: skip
    contrast: float = setting(1.0, "contrast", "contrast {},", "About middle grey: above 1 harder, below softer.", step=0.05, ge=0.5, le=2.0)
    saturation: float = setting(1.0, "saturation", "saturation {},", "0 is grey, 1 as it was rendered.", step=0.05, ge=0.0, le=2.0)
    sharpening: float = setting(0.0, "sharpening", "sharpened by {},", "Raises what stands out from its eight neighbours.", step=0.05, ge=0.0, le=1.0)
    view: Literal[tuple(VIEWS)] = setting("soft", "view", "seen through the {} view.", "How light beyond the screen's reach is shown.")  # type: ignore[valid-type]


SETTINGS = declared_settings(Finish)


def finish_from(values: dict[str, Any]) -> Finish:
    """Settings from texts or numbers. Raises InputError with one sentence."""
    try:
        return Finish.model_validate(values)
    except ValidationError as error:
        first = error.errors()[0]
        name = str(first["loc"][0])
        if name not in SETTINGS:
            raise InputError(f"There is no finishing setting “{name}”; there are: {', '.join(SETTINGS)}.") from None
        raise InputError(SETTINGS[name].refusal(f"finish.{name}", first["input"])) from None


def _white_xyz(temperature: float, tint: float) -> np.ndarray:
    """XYZ of daylight at a correlated colour temperature (CIE 15:2004, section 3.1, for 4000 K and more; Kim et al. 2002, equation 3,
    for the black body below), moved across the locus by `tint`."""
    t = temperature
    if t >= 4000.0:
        a, b, c, d = (-4.6070e9, 2.9678e6, 99.11, 0.244063) if t <= 7000.0 else (-2.0064e9, 1.9018e6, 247.48, 0.237040)
        x = ((a / t + b) / t + c) / t + d
        y = (-3.0 * x + 2.87) * x - 0.275
    else:
        # Joined to the daylight locus at 4000 K, from which the black body is a little off.
        def black(k: float) -> tuple[float, float]:
            x = ((-0.2661239e9 / k - 0.2343589e6) / k + 0.8776956e3) / k + 0.179910
            p = (-1.1063814, -1.34811020, 2.18555832, -0.20219683) if k < 2222.0 else (-0.9549476, -1.37418593, 2.09137015, -0.16748867)
            return x, ((p[0] * x + p[1]) * x + p[2]) * x + p[3]

        x, y = black(t)
        joint_x = ((-4.6070e9 / 4000.0 + 2.9678e6) / 4000.0 + 99.11) / 4000.0 + 0.244063
        joint_y = (-3.0 * joint_x + 2.87) * joint_x - 0.275
        edge_x, edge_y = black(4000.0)
        share = (t - 2000.0) / 2000.0
        x, y = x + share * (joint_x - edge_x), y + share * (joint_y - edge_y)
    y += 0.03 * tint  # a greener white is taken out by turning the picture to magenta
    return np.array([x / y, 1.0, (1.0 - x - y) / y])


def white_balance(temperature: float, tint: float) -> np.ndarray:
    """3 x 3 matrix for linear Rec.709 that turns light of the given white into D65 (Bradford adaptation)."""
    seen = BRADFORD @ (_white_xyz(temperature, tint) / _white_xyz(NEUTRAL, 0.0) * (TO_XYZ @ np.ones(3)))
    wanted = BRADFORD @ (TO_XYZ @ np.ones(3))
    adapt = np.linalg.inv(BRADFORD) @ np.diag(wanted / seen) @ BRADFORD
    return np.linalg.inv(TO_XYZ) @ adapt @ TO_XYZ


def measured_exposure(linear: np.ndarray) -> float:
    """Stops that bring the picture's log-average luminance to middle grey (Reinhard et al. 2002, equation 1), black left out."""
    light = linear[..., :3].astype(np.float64) @ LUMINANCE
    light = light[np.isfinite(light) & (light > 0.0)]
    if not len(light):
        return 0.0
    low, high = np.percentile(light, (2.0, 98.0))
    return float(np.clip(round(np.log2(MIDDLE / np.exp(np.log(np.clip(light, max(low, 1e-9), high)).mean())), 1), -20.0, 20.0))


def _sharpened(c: np.ndarray, strength: float) -> np.ndarray:
    """Unsharp masking of the logarithm of luminance, by a three by three tent."""
    light = np.log2(c @ LUMINANCE + np.float32(EYE_FLOOR))
    padded = np.pad(light, 1, mode="edge")
    rows = padded[:-2] + 2.0 * padded[1:-1] + padded[2:]
    blurred = (rows[:, :-2] + 2.0 * rows[:, 1:-1] + rows[:, 2:]) / 16.0
    gain = np.clip(np.exp2(strength * (light - blurred)), 1.0 / SHARPEST, SHARPEST)
    return c * gain[..., None].astype(np.float32)


def finished(linear: np.ndarray, settings: Finish) -> np.ndarray:
    """Display values float32 [rows, columns, 3] in [0, 1] of linear Rec.709 `linear`."""
    # Half floats are what the browser has.
    c = np.nan_to_num(linear[..., :3], posinf=65504.0, neginf=0.0).clip(-65504.0, 65504.0).astype(np.float16).astype(np.float32)
    c = c * np.float32(2.0**settings.exposure)
    c = np.maximum(c, 0.0)
    if settings.sharpening > 0.0:
        c = _sharpened(c, settings.sharpening)
    matrix = white_balance(settings.temperature, settings.tint).astype(np.float32)
    c = np.maximum(c @ matrix.T, 0.0)
    most = c.max(axis=2, keepdims=True)
    over = np.maximum(most - KNEE, 0.0)
    c = c * np.where(over > 0.0, (KNEE + over / (1.0 + 2.0 * settings.highlights * over / KNEE)) / np.maximum(most, 1e-9), 1.0).astype(np.float32)
    # The gain falls to one at middle grey; below 3 times it, brighter stays brighter.
    dark = np.maximum(1.0 - c.max(axis=2, keepdims=True) / MIDDLE, 0.0)
    c = c * (1.0 + LIFT * settings.shadows * dark * dark).astype(np.float32)
    c = MIDDLE * np.power(c / MIDDLE, settings.contrast, dtype=np.float32)
    light = (c @ LUMINANCE)[..., None]
    c = np.maximum(light + (c - light) * np.float32(settings.saturation), 0.0)
    return looked_up(c, settings.view)


def looked_up(c: np.ndarray, view: str) -> np.ndarray:
    """A view's display values of linear colour [..., 3], from its table, mixed trilinearly."""
    table = lookup_table(view).view(np.float16)[..., :3].astype(np.float32)
    stops = np.log2(np.maximum(c, 1e-9) / MIDDLE)
    at = np.clip((stops - LUT_STOPS[0]) / (LUT_STOPS[1] - LUT_STOPS[0]), 0.0, 1.0) * np.float32(LUT_SIZE - 1)
    low = np.minimum(at.astype(np.int64), LUT_SIZE - 2)
    share = (at - low).astype(np.float32)
    result = np.zeros_like(c, np.float32)
    for corner in range(8):
        step = np.array([corner & 1, (corner >> 1) & 1, corner >> 2])
        weight = np.where(step, share, 1.0 - share).prod(axis=-1, keepdims=True)
        i = low + step
        result += weight * table[i[..., 2], i[..., 1], i[..., 0]]
    return np.clip(result, 0.0, 1.0)
