"""From scene-linear light to the screen: exposure and a view transform, through OpenColorIO's built-in configuration.

Views are for looking only; nothing here is ever written to an EXR.
"""

import functools

import numpy as np
import PyOpenColorIO as ocio

VIEWS = {
    "soft": ("ACES 2.0 - SDR 100 nits (Rec.709)", "soft highlights"),
    "plain": ("Un-tone-mapped", "plain sRGB"),
}
"""Name on the pages: OpenColorIO view, and what it is called."""
DISPLAY = "sRGB - Display"
LUT_SIZE = 56
LUT_STOPS = (-10.0, 7.0)
"""Range of the look-up table in stops about 0.18; the browser's shader knows it too (static/plate-gl.js)."""
MIDDLE = 0.18


@functools.cache
def _processor(view: str) -> ocio.CPUProcessor:
    config = ocio.Config.CreateFromBuiltinConfig("ocio://default")
    transform = ocio.DisplayViewTransform("Linear Rec.709 (sRGB)", DISPLAY, VIEWS[view][0])
    return config.getProcessor(transform).getDefaultCPUProcessor()


def to_display(linear: np.ndarray, exposure: float = 0.0, view: str = "soft") -> np.ndarray:
    """Display values float32 [..., 3] in [0, 1] of linear Rec.709 `linear`, raised by `exposure` stops."""
    pixels = np.ascontiguousarray(np.nan_to_num(linear[..., :3], posinf=65504.0), np.float32) * np.float32(2.0**exposure)
    flat = pixels.reshape(1, -1, 3).copy()
    _processor(view).applyRGB(flat)
    return np.clip(flat.reshape(pixels.shape), 0.0, 1.0)


def to_bytes(display: np.ndarray) -> np.ndarray:
    """uint8 of display values in [0, 1]."""
    return (display * 255.0 + 0.5).astype(np.uint8)


@functools.cache
def lookup_table(view: str) -> np.ndarray:
    """uint16 [LUT_SIZE, LUT_SIZE, LUT_SIZE, 4] half floats, blue slowest: display values on a grid that is even in
    stops about MIDDLE from LUT_STOPS[0] to LUT_STOPS[1] per channel."""
    line = MIDDLE * 2.0 ** np.linspace(*LUT_STOPS, LUT_SIZE)
    line[0] = 0.0
    blue, green, red = np.meshgrid(line, line, line, indexing="ij")
    table = np.ones((LUT_SIZE, LUT_SIZE, LUT_SIZE, 4), np.float16)
    table[..., :3] = to_display(np.stack([red, green, blue], axis=-1), 0.0, view)
    return table.view(np.uint16)
