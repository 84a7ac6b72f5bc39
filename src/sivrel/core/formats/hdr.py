"""Radiance pictures in: shared-exponent pixels, plain or run-length coded.

Ward 1991, "Real Pixels" (Graphics Gems II, II.5) for the pixels; the run-length coding as in the file format's own
description by Ward.
"""

import re

import numpy as np

from ..errors import InputError

MAGIC = b"#?"
MOST_PIXELS = 1 << 26


def read_hdr(data: bytes, name: str) -> np.ndarray:
    """Linear float32 [height, width, 4] of an HDR file. Raises InputError, naming it `name`."""
    found = re.search(rb"\n([-+])Y (\d+) ([-+])X (\d+)\n", data[:65536])
    if not data.startswith(MAGIC) or found is None or b"32-bit_rle_xyze" in data[: found.end()]:
        raise InputError(f"The image {name} is not an HDR picture with rows of RGB; save it as EXR.")
    height, width = int(found[2]), int(found[4])
    if not 0 < height * width <= MOST_PIXELS:
        raise InputError(f"The image {name} has more than {MOST_PIXELS >> 20} million pixels; scale it down.")
    body = np.frombuffer(data, np.uint8, offset=found.end())
    try:
        pixels = _rows(body, height, width)
    except (IndexError, ValueError):
        raise InputError(f"The image {name} ends too early; it is damaged.") from None
    scale = np.ldexp(np.float32(1.0), pixels[..., 3].astype(np.int32) - 136)
    colour = np.where(pixels[..., 3:] > 0, (pixels[..., :3] + np.float32(0.5)) * scale[..., None], 0.0)
    if found[1] == b"+":
        colour = colour[::-1]
    if found[3] == b"-":
        colour = colour[:, ::-1]
    return np.concatenate([colour, np.ones((height, width, 1))], axis=2).astype(np.float32)


def _rows(body: np.ndarray, height: int, width: int) -> np.ndarray:
    """Bytes uint8 [height, width, 4]: red, green, blue, exponent."""
    coded = 8 <= width < 32768 and len(body) >= 4 and body[0] == 2 and body[1] == 2 and body[2] < 128
    if not coded:
        return body[: height * width * 4].reshape(height, width, 4)
    pixels, at = np.empty((height, width, 4), np.uint8), 0
    for y in range(height):
        if body[at] != 2 or body[at + 1] != 2 or int(body[at + 2]) * 256 + int(body[at + 3]) != width:
            raise ValueError
        at += 4
        for c in range(4):
            x = 0
            while x < width:
                count = int(body[at])
                if count > 128:
                    run = count - 128
                    pixels[y, x : x + run, c] = body[at + 1]
                    at += 2
                else:
                    run = count
                    pixels[y, x : x + run, c] = body[at + 1 : at + 1 + run]
                    at += 1 + run
                x += run
                if run == 0 or x > width:
                    raise ValueError
    return pixels
