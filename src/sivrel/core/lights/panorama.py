"""Skies: a constant dome, or a lat-long panorama aimed at where it is bright.

Latitude and longitude as in the OpenEXR specification ("Environment Maps"): the top row looks up the pole, the middle
of the picture to +z, its left half to +x. Aiming: by rows, then along the row (Pharr, Jakob & Humphreys 2016, section
13.6.7, "Piecewise-Constant 2D Distributions").
"""

import math

import numpy as np

from ..kernel import called_kernel, kernel
from ..scene.arrays import AXIS_X, AXIS_Y, AXIS_Z, PANORAMA, RADIANCE, ROTATION, SKY
from ..scene.model import Texture
from ..scene.textures import look_up_colour
from ..vector import LUMINANCE, dot, frame, multiply, row3, to_world

MOST_COLUMNS = 1024
"""Cells along a row of the distribution; a larger picture is averaged down for aiming, and looked up whole."""
EVEN = 0.02
"""Share of the mean luminance that every cell counts for at least, so that none is forgotten."""


def direction_of(u: float, v: float) -> tuple[float, float, float]:
    """Unit direction in the dome's frame of the picture point (u, v), v from the top."""
    longitude, latitude = math.pi * (1.0 - 2.0 * u), math.pi * (0.5 - v)
    return math.sin(longitude) * math.cos(latitude), math.sin(latitude), math.cos(longitude) * math.cos(latitude)


def sky_table(panorama: Texture) -> tuple[np.ndarray, np.ndarray]:
    """(distribution float32, mean radiance over the sphere [3]).

    The distribution: rows, columns, two spare; the running sum of the rows [rows + 1], each row's own [rows, columns + 1].
    """
    texels = np.asarray(panorama.texels, np.float64)[..., :3] * np.asarray(panorama.scale[:3]) + np.asarray(panorama.bias[:3])
    texels = np.maximum(texels, 0.0)
    step = max(1, -(-texels.shape[1] // MOST_COLUMNS))
    rows, columns = texels.shape[0] // step, texels.shape[1] // step
    cells = texels[: rows * step, : columns * step].reshape(rows, step, columns, step, 3).mean(axis=(1, 3))
    edges = np.cos(np.linspace(0.0, np.pi, rows + 1))
    solid = edges[:-1] - edges[1:]  # of a row, over 2 pi
    mean = (cells.mean(axis=1) * solid[:, None]).sum(axis=0) / 2.0
    bright = cells @ LUMINANCE
    # Bilinear look-up spreads a bright texel over its neighbours.
    spread = np.maximum(bright, 0.25 * np.maximum(np.roll(bright, 1, 1), np.roll(bright, -1, 1)))
    weights = (spread + EVEN * max(float(mean @ LUMINANCE), 1e-12)) * solid[:, None]
    along = np.concatenate([np.zeros((rows, 1)), np.cumsum(weights, axis=1)], axis=1)
    down = np.concatenate([[0.0], np.cumsum(along[:, -1])])
    along /= along[:, -1:]
    table = np.concatenate([[rows, columns, 0.0, 0.0], down / down[-1], along.reshape(-1)])
    return table.astype(np.float32), mean


@kernel
def _find(tables, first, count, x):
    """Cell k of the running sum at `first` (count + 1 numbers) in which x falls: (k, share of the cell, its weight)."""
    low, high = 0, count
    while high - low > 1:
        middle = (low + high) // 2
        if np.float64(tables[first + middle]) <= x:
            low = middle
        else:
            high = middle
    a, b = np.float64(tables[first + low]), np.float64(tables[first + low + 1])
    return low, min(max((x - a) / max(b - a, 1e-12), 0.0), 1.0), b - a


@kernel
def _to_scene(lights, i, d):
    """A direction of the turned picture in the scene."""
    c, s = math.cos(lights[i, ROTATION]), math.sin(lights[i, ROTATION])
    turned = (c * d[0] + s * d[2], d[1], c * d[2] - s * d[0])
    return to_world(row3(lights, i, AXIS_X), row3(lights, i, AXIS_Y), row3(lights, i, AXIS_Z), turned)


@kernel
def _picture_point(lights, i, d):
    """(u, v) of the picture for a direction of the scene, v from the top."""
    x, y, z = dot(d, row3(lights, i, AXIS_X)), dot(d, row3(lights, i, AXIS_Y)), dot(d, row3(lights, i, AXIS_Z))
    c, s = math.cos(lights[i, ROTATION]), math.sin(lights[i, ROTATION])
    x, z = c * x - s * z, s * x + c * z
    u = 0.5 - math.atan2(x, z) / (2.0 * math.pi)
    return u, 0.5 - math.asin(min(1.0, max(-1.0, y))) / math.pi


@called_kernel
def sky_radiance(scene, i, d):
    """Radiance that comes from dome `i` out of the direction `d`."""
    colour = row3(scene.lights, i, RADIANCE)
    panorama = int(scene.lights[i, PANORAMA])
    if panorama < 0:
        return colour
    u, v = _picture_point(scene.lights, i, d)
    return multiply(colour, look_up_colour(scene.textures, scene.texels, panorama, u, 1.0 - v))


@called_kernel
def sky_density(scene, i, n, d):
    """Density per steradian with which `sample_sky` aims along `d` from a surface with normal `n`."""
    start = int(scene.lights[i, SKY])
    if start < 0:
        return max(0.0, dot(d, n)) / math.pi
    tables = scene.tables
    rows, columns = int(tables[start]), int(tables[start + 1])
    u, v = _picture_point(scene.lights, i, d)
    row, column = min(int(v * rows), rows - 1), min(max(int(u * columns), 0), columns - 1)
    at = start + 4 + row
    chance = np.float64(tables[at + 1]) - np.float64(tables[at])
    at = start + 4 + rows + 1 + row * (columns + 1) + column
    chance *= np.float64(tables[at + 1]) - np.float64(tables[at])
    return chance / _cell(row, rows, columns)


@kernel
def _cell(row, rows, columns):
    """Steradians of a cell of the distribution."""
    top, bottom = math.pi * row / rows, math.pi * (row + 1) / rows
    return 2.0 * math.pi / columns * (math.cos(top) - math.cos(bottom))


@called_kernel
def sample_sky(scene, i, n, u, v):
    """A direction to aim at dome `i` from a surface with normal `n`: (direction, density per steradian)."""
    start = int(scene.lights[i, SKY])
    if start < 0:
        r, phi = math.sqrt(u), 2.0 * math.pi * v
        x, y = frame(n)
        cos_n = math.sqrt(max(0.0, 1.0 - u))
        return to_world(x, y, n, (r * math.cos(phi), r * math.sin(phi), cos_n)), cos_n / math.pi
    tables = scene.tables
    rows, columns = int(tables[start]), int(tables[start + 1])
    row, down, chance = _find(tables, start + 4, rows, v)
    column, across, share = _find(tables, start + 4 + rows + 1 + row * (columns + 1), columns, u)
    # Even in solid angle within the cell.
    top, bottom = math.cos(math.pi * row / rows), math.cos(math.pi * (row + 1) / rows)
    y = top + down * (bottom - top)
    r, longitude = math.sqrt(max(0.0, 1.0 - y * y)), math.pi * (1.0 - 2.0 * (column + across) / columns)
    d = _to_scene(scene.lights, i, (r * math.sin(longitude), y, r * math.cos(longitude)))
    return d, chance * share / _cell(row, rows, columns)
