"""Texture look-ups: bilinear in a level, and between the two levels nearest to the size that is asked for (Williams 1983, "Pyramidal Parametrics"),
with the wrap modes of UsdUVTexture."""

import math

import numpy as np

from ..kernel import called_kernel, kernel
from .arrays import (
    ALPHAS,
    AS_BYTE,
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
    """Columns left and right and rows above and below (s, t) in a level, -1 where the texture is black; the weights of the right column and of the
    lower row; and the columns of the level."""
    width, height = max(1, int(row[WIDTH]) >> level), max(1, int(row[HEIGHT]) >> level)
    x, y = s * width - 0.5, (1.0 - t) * height - 0.5
    if not (abs(x) < 1e9 and abs(y) < 1e9):
        return -1, -1, -1, -1, 0.0, 0.0, width
    i, j = int(math.floor(x)), int(math.floor(y))
    wrap_s, wrap_t = int(row[WRAP_S]), int(row[WRAP_T])
    left, right = _wrapped(i, width, wrap_s), _wrapped(i + 1, width, wrap_s)
    above, below = _wrapped(j, height, wrap_t), _wrapped(j + 1, height, wrap_t)
    return left, right, above, below, x - i, y - j, width


@kernel
def _place_of(row, channel):
    """The channel of the file that holds one of the four channels, -1 where that is 1 everywhere; and where the values of its codes start."""
    channels = int(row[CHANNELS])
    if channel < 3:
        return channel if channels > 2 else 0, int(row[COLOURS])
    return channels - 1 if channels == 2 or channels == 4 else -1, int(row[ALPHAS])


@kernel
def _value(scene, stored_as, table, at):
    """Linear value of the number `at` of a texture."""
    if stored_as == AS_BYTE:
        return np.float64(scene.pictures.decoding[table + scene.pictures.bytes[at]])
    if stored_as == AS_SHORT:
        return np.float64(scene.pictures.decoding[table + scene.pictures.shorts[at]])
    return np.float64(scene.pictures.floats[at])


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
        of, table = _place_of(row, channel)
        channels, stored_as = int(row[CHANNELS]), int(row[STORED_AS])
        # Loops, and not every value written out: this is compiled into many kernels.
        for step in range(2 if share > 0.0 else 1):
            left, right, above, below, wx, wy, width = _texels_at(row, level + step, s, t)
            first, part = int(row[LEVEL_STARTS + level + step]), share if step == 1 else 1.0 - share
            for corner in range(4):
                column, line = left if corner % 2 == 0 else right, above if corner < 2 else below
                if column >= 0 and line >= 0:
                    weight = part * (1.0 - wx if corner % 2 == 0 else wx) * (1.0 - wy if corner < 2 else wy)
                    found = 1.0 if of < 0 else _value(scene, stored_as, table, first + (line * width + column) * channels + of)
                    value += weight * found
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
        channels, stored_as, table = int(row[CHANNELS]), int(row[STORED_AS]), int(row[COLOURS])
        green = 1 if channels > 2 else 0
        for step in range(2 if share > 0.0 else 1):
            left, right, above, below, wx, wy, width = _texels_at(row, level + step, s, t)
            first, part = int(row[LEVEL_STARTS + level + step]), share if step == 1 else 1.0 - share
            for corner in range(4):
                column, line = left if corner % 2 == 0 else right, above if corner < 2 else below
                if column >= 0 and line >= 0:
                    weight = part * (1.0 - wx if corner % 2 == 0 else wx) * (1.0 - wy if corner < 2 else wy)
                    at = first + (line * width + column) * channels
                    r += weight * _value(scene, stored_as, table, at)
                    g += weight * _value(scene, stored_as, table, at + green)
                    b += weight * _value(scene, stored_as, table, at + 2 * green)
    return (
        max(0.0, r * own[SCALE] + own[BIAS]),
        max(0.0, g * own[SCALE + 1] + own[BIAS + 1]),
        max(0.0, b * own[SCALE + 2] + own[BIAS + 2]),
    )


@called_kernel
def look_up_light(scene, picture, u, v):
    """Colour of a light's picture, number `picture`, at its coordinates (u, v), none below zero: of four floats a texel, in one level."""
    row = scene.pictures.rows[picture]
    s = row[TRANSFORM] * u + row[TRANSFORM + 1] * v + row[TRANSFORM + 2]
    t = row[TRANSFORM + 3] * u + row[TRANSFORM + 4] * v + row[TRANSFORM + 5]
    left, right, above, below, wx, wy, width = _texels_at(row, 0, s, t)
    first, r, g, b = int(row[LEVEL_STARTS]), 0.0, 0.0, 0.0
    for corner in range(4):
        column, line = left if corner % 2 == 0 else right, above if corner < 2 else below
        if column >= 0 and line >= 0:
            weight = (1.0 - wx if corner % 2 == 0 else wx) * (1.0 - wy if corner < 2 else wy)
            at = first + (line * width + column) * 4
            r += weight * np.float64(scene.pictures.of_lights[at])
            g += weight * np.float64(scene.pictures.of_lights[at + 1])
            b += weight * np.float64(scene.pictures.of_lights[at + 2])
    return (
        max(0.0, r * row[SCALE] + row[BIAS]),
        max(0.0, g * row[SCALE + 1] + row[BIAS + 1]),
        max(0.0, b * row[SCALE + 2] + row[BIAS + 2]),
    )
