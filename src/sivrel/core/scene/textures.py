"""Texture look-ups: bilinear, with the wrap modes of UsdUVTexture."""

import math

import numpy as np

from ..kernel import called_kernel, kernel
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
def _mixed(texels, at, wx, wy, channel):
    """Bilinear mix of one channel; at is -1 where the texture is black."""
    t00 = np.float64(texels[at[0], channel]) if at[0] >= 0 else 0.0
    t10 = np.float64(texels[at[1], channel]) if at[1] >= 0 else 0.0
    t01 = np.float64(texels[at[2], channel]) if at[2] >= 0 else 0.0
    t11 = np.float64(texels[at[3], channel]) if at[3] >= 0 else 0.0
    return (t00 * (1.0 - wx) + t10 * wx) * (1.0 - wy) + (t01 * (1.0 - wx) + t11 * wx) * wy


@kernel
def _texels_at(row, u, v):
    """Four texel numbers round (u, v) and the weights of the right and the lower ones."""
    s = row[TRANSFORM] * u + row[TRANSFORM + 1] * v + row[TRANSFORM + 2]
    t = row[TRANSFORM + 3] * u + row[TRANSFORM + 4] * v + row[TRANSFORM + 5]
    start, width, height = int(row[TEXEL_START]), int(row[WIDTH]), int(row[HEIGHT])
    wrap_s, wrap_t = int(row[WRAP_S]), int(row[WRAP_T])
    x, y = s * width - 0.5, (1.0 - t) * height - 0.5
    if not (abs(x) < 1e9 and abs(y) < 1e9):
        return (-1, -1, -1, -1), 0.0, 0.0
    i, j = int(math.floor(x)), int(math.floor(y))
    left, right = _wrapped(i, width, wrap_s), _wrapped(i + 1, width, wrap_s)
    top, bottom = _wrapped(j, height, wrap_t), _wrapped(j + 1, height, wrap_t)
    first, second = start + top * width, start + bottom * width
    at = (
        first + left if left >= 0 and top >= 0 else -1,
        first + right if right >= 0 and top >= 0 else -1,
        second + left if left >= 0 and bottom >= 0 else -1,
        second + right if right >= 0 and bottom >= 0 else -1,
    )
    return at, x - i, y - j


@called_kernel
def look_up(textures, texels, texture, channel, u, v):
    """Channel `channel` of texture number `texture` at mesh coordinates (u, v); v goes up the picture."""
    row = textures[texture]
    at, wx, wy = _texels_at(row, u, v)
    return _mixed(texels, at, wx, wy, channel) * row[SCALE + channel] + row[BIAS + channel]


@called_kernel
def look_up_colour(textures, texels, texture, u, v):
    """The first three channels of texture number `texture` at mesh coordinates (u, v), none below zero."""
    row = textures[texture]
    at, wx, wy = _texels_at(row, u, v)
    return (
        max(0.0, _mixed(texels, at, wx, wy, 0) * row[SCALE] + row[BIAS]),
        max(0.0, _mixed(texels, at, wx, wy, 1) * row[SCALE + 1] + row[BIAS + 1]),
        max(0.0, _mixed(texels, at, wx, wy, 2) * row[SCALE + 2] + row[BIAS + 2]),
    )
