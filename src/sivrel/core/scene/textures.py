"""Texture look-ups: bilinear, with the wrap modes of UsdUVTexture."""

import math

import numpy as np

from ..kernel import kernel
from .arrays import BIAS, BLACK, CLAMP, HEIGHT, MIRROR, SCALE, TEXEL_START, TRANSFORM, WIDTH, WRAP_S, WRAP_T


@kernel
def _wrapped(i, n, mode):
    """Texel index for coordinate `i` of `n` texels, -1 where the texture is black."""
    if 0 <= i < n:
        return i
    if mode == CLAMP:
        return 0 if i < 0 else n - 1
    if mode == MIRROR:
        j = i % (2 * n)
        return j if j < n else 2 * n - 1 - j
    if mode == BLACK:
        return -1
    return i % n


@kernel
def _texel(texels, start, width, height, x, y, wrap_s, wrap_t, channel):
    i, j = _wrapped(x, width, wrap_s), _wrapped(y, height, wrap_t)
    if i < 0 or j < 0:
        return 0.0
    return np.float64(texels[start + j * width + i, channel])


@kernel
def look_up(textures, texels, texture, channel, u, v):
    """Channel `channel` of texture number `texture` at mesh coordinates (u, v); v goes up the picture."""
    row = textures[texture]
    s = row[TRANSFORM] * u + row[TRANSFORM + 1] * v + row[TRANSFORM + 2]
    t = row[TRANSFORM + 3] * u + row[TRANSFORM + 4] * v + row[TRANSFORM + 5]
    start, width, height = int(row[TEXEL_START]), int(row[WIDTH]), int(row[HEIGHT])
    wrap_s, wrap_t = int(row[WRAP_S]), int(row[WRAP_T])
    x, y = s * width - 0.5, (1.0 - t) * height - 0.5
    if not (abs(x) < 1e9 and abs(y) < 1e9):
        return 0.0
    i, j = int(math.floor(x)), int(math.floor(y))
    fx, fy = x - i, y - j
    top = _texel(texels, start, width, height, i, j, wrap_s, wrap_t, channel) * (1.0 - fx)
    top += _texel(texels, start, width, height, i + 1, j, wrap_s, wrap_t, channel) * fx
    bottom = _texel(texels, start, width, height, i, j + 1, wrap_s, wrap_t, channel) * (1.0 - fx)
    bottom += _texel(texels, start, width, height, i + 1, j + 1, wrap_s, wrap_t, channel) * fx
    return (top * (1.0 - fy) + bottom * fy) * row[SCALE + channel] + row[BIAS + channel]
