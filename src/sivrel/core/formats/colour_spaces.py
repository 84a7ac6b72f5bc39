"""Colour spaces by name, through OpenColorIO's built-in configuration of the ACES studio."""

import functools

import numpy as np
import PyOpenColorIO as ocio

from ..errors import InputError, did_you_mean
from ..scene.texels import srgb_to_linear

CONFIGURATION, LINEAR = "ocio://studio-config-latest", "Linear Rec.709 (sRGB)"
"""The configuration, and the name there of the space in which light is found."""
AS_SRGB = ("srgb", "srgb_texture", "srgb_tx", "srgb_rec709_scene", "srgb - texture", "srgb encoded rec.709 (srgb)")
AS_STORED = ("raw", "data", "linear", "lin_rec709", "lin_rec709_scene", "lin_srgb", "linear rec.709 (srgb)", "unknown", "identity")
ROWS = 256
"""Rows of an image that are converted at a time."""


@functools.cache
def _configuration() -> ocio.Config:
    return ocio.Config.CreateFromBuiltinConfig(CONFIGURATION)


def encoding_of(name: str, default: str = "auto") -> str:
    """How an image in the colour space `name` is read: “sRGB”, “raw”, or the space's full name. Without a name, `default`; so for “auto”. Raises
    InputError for an unknown name."""
    plain = name.strip().lower()
    if plain in ("", "auto"):
        return default
    if plain in AS_SRGB:
        return "sRGB"
    if plain in AS_STORED:
        return "raw"
    space = _configuration().getColorSpace(name.strip())
    if space is None:
        known = [*_configuration().getColorSpaceNames(), *AS_SRGB, *AS_STORED]
        raise InputError(f"There is no colour space {name[:80]}.{did_you_mean(name[:80], known)}")
    return str(space.getName())


def to_linear(values: np.ndarray, encoding: str) -> np.ndarray:
    """float32 [rows, columns, 3] as linear Rec.709, by the result of `encoding_of`; light that this space cannot hold is negative."""
    if encoding == "raw":
        return values
    if encoding == "sRGB":
        return srgb_to_linear(values)
    processor = _configuration().getProcessor(encoding, LINEAR).getDefaultCPUProcessor()
    linear = np.ascontiguousarray(values, np.float32).copy()
    for first in range(0, len(linear), ROWS):
        processor.applyRGB(linear[first : first + ROWS])
    return linear
