"""Texture look-ups: bilinear in a level, and between the two levels nearest to the size that is asked for (Williams 1983, "Pyramidal Parametrics"),
with the wrap modes of UsdUVTexture."""

import math

import numpy as np

from ..kernel import called_kernel, kernel
from .arrays import (
    ALPHAS,
    AS_BYTE,
    AS_FLOAT,
    AS_SHORT,
    BIAS,
    BLACK,
    CHANNELS,
    CLAMP,
    COLOURS,
    FINENESS,
    HEIGHT,
    LEVEL_STARTS,
    LEVELS,
    MIRROR,
    SCALE,
    STORED_AS,
    TILE_COLUMNS,
    TILE_ROWS,
    TRANSFORM,
    WIDTH,
    WRAP_S,
    WRAP_T,
)

FINEST = -1e9
"""The size to look up for texels of the finest level."""


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
def _texels_at(row, level, s, t):
    """Four texel numbers in a level round (s, t), -1 where the texture is black, and the weights of the right and the lower ones."""
    width, height = max(1, int(row[WIDTH]) >> level), max(1, int(row[HEIGHT]) >> level)
    wrap_s, wrap_t = int(row[WRAP_S]), int(row[WRAP_T])
    x, y = s * width - 0.5, (1.0 - t) * height - 0.5
    if not (abs(x) < 1e9 and abs(y) < 1e9):
        return (-1, -1, -1, -1), 0.0, 0.0
    i, j = int(math.floor(x)), int(math.floor(y))
    left, right = _wrapped(i, width, wrap_s), _wrapped(i + 1, width, wrap_s)
    top, bottom = _wrapped(j, height, wrap_t), _wrapped(j + 1, height, wrap_t)
    at = (
        top * width + left if left >= 0 and top >= 0 else -1,
        top * width + right if right >= 0 and top >= 0 else -1,
        bottom * width + left if left >= 0 and bottom >= 0 else -1,
        bottom * width + right if right >= 0 and bottom >= 0 else -1,
    )
    return at, x - i, y - j


@kernel
def _value(scene, row, first, at, channel):
    """Linear value of one channel of texel number `at` in the level that starts at `first`."""
    if at < 0:
        return 0.0
    channels, stored_as = int(row[CHANNELS]), int(row[STORED_AS])
    table, of = int(row[COLOURS]), channel
    if channel == 3:
        if channels == 1 or channels == 3:
            return 1.0
        table, of = int(row[ALPHAS]), channels - 1
    elif channels < 3:
        of = 0
    at = first + at * channels + of
    if stored_as == AS_BYTE:
        return np.float64(scene.pictures.decoding[table + scene.pictures.bytes[at]])
    if stored_as == AS_SHORT:
        return np.float64(scene.pictures.decoding[table + scene.pictures.shorts[at]])
    if stored_as == AS_FLOAT:
        return np.float64(scene.pictures.floats[at])
    return np.float64(scene.pictures.of_lights[at])


@kernel
def _mixed(scene, row, first, at, wx, wy, channel):
    """Bilinear mix of one channel."""
    t00, t10 = _value(scene, row, first, at[0], channel), _value(scene, row, first, at[1], channel)
    t01, t11 = _value(scene, row, first, at[2], channel), _value(scene, row, first, at[3], channel)
    return (t00 * (1.0 - wx) + t10 * wx) * (1.0 - wy) + (t01 * (1.0 - wx) + t11 * wx) * wy


@kernel
def _placed(scene, texture, u, v):
    """The row that holds the texels at mesh coordinates (u, v), of a set of tiles that of the tile (-1 where there is none); and the coordinates
    there."""
    row = scene.pictures.rows[texture]
    s = row[TRANSFORM] * u + row[TRANSFORM + 1] * v + row[TRANSFORM + 2]
    t = row[TRANSFORM + 3] * u + row[TRANSFORM + 4] * v + row[TRANSFORM + 5]
    if row[TILE_COLUMNS] == 0.0:
        return texture, s, t
    if not (0.0 <= s < row[TILE_COLUMNS] and 0.0 <= t < row[TILE_ROWS]):
        return -1, 0.0, 0.0
    column, line = int(s), int(t)
    tile = texture + 1 + line * int(row[TILE_COLUMNS]) + column
    return tile if scene.pictures.rows[tile, WIDTH] > 0.0 else -1, s - column, t - line


@kernel
def _levels(row, size):
    """(level, share of the next one) for a size, the binary logarithm of a width in mesh coordinates."""
    at = size + row[FINENESS]
    coarsest = int(row[LEVELS]) - 1
    if at <= 0.0 or coarsest == 0:
        return 0, 0.0
    if at >= coarsest:
        return coarsest, 0.0
    level = int(at)
    return level, at - level


@called_kernel
def look_up(scene, texture, channel, u, v, size):
    """Channel `channel` of texture number `texture` at mesh coordinates (u, v), where v goes up the picture.
    size: the binary logarithm of the width, in mesh coordinates, over which it is averaged, or FINEST."""
    own = scene.pictures.rows[texture]
    place, s, t = _placed(scene, texture, u, v)
    value = 0.0
    if place >= 0:
        row = scene.pictures.rows[place]
        level, share = _levels(row, size)
        at, wx, wy = _texels_at(row, level, s, t)
        value = _mixed(scene, row, int(row[LEVEL_STARTS + level]), at, wx, wy, channel)
        if share > 0.0:
            at, wx, wy = _texels_at(row, level + 1, s, t)
            value += share * (_mixed(scene, row, int(row[LEVEL_STARTS + level + 1]), at, wx, wy, channel) - value)
    return value * own[SCALE + channel] + own[BIAS + channel]


@called_kernel
def look_up_colour(scene, texture, u, v, size):
    """The first three channels at once, none below zero."""
    own = scene.pictures.rows[texture]
    place, s, t = _placed(scene, texture, u, v)
    r, g, b = 0.0, 0.0, 0.0
    if place >= 0:
        row = scene.pictures.rows[place]
        level, share = _levels(row, size)
        for step in range(2 if share > 0.0 else 1):
            at, wx, wy = _texels_at(row, level + step, s, t)
            first, weight = int(row[LEVEL_STARTS + level + step]), share if step == 1 else 1.0 - share
            r += weight * _mixed(scene, row, first, at, wx, wy, 0)
            g += weight * _mixed(scene, row, first, at, wx, wy, 1)
            b += weight * _mixed(scene, row, first, at, wx, wy, 2)
    return (
        max(0.0, r * own[SCALE] + own[BIAS]),
        max(0.0, g * own[SCALE + 1] + own[BIAS + 1]),
        max(0.0, b * own[SCALE + 2] + own[BIAS + 2]),
    )
