"""Skies: a constant dome, or a lat-long panorama that is sampled where it is bright.

Latitude and longitude as in the OpenEXR specification ("Environment Maps"): the top row looks up the pole, the middle
of the picture to +z, its left half to +x.
"""

import math

import numpy as np

from ..kernel import called_kernel, kernel
from ..scene.arrays import AIM, AXIS_X, AXIS_Y, AXIS_Z, PICTURE, RADIANCE, ROTATION
from ..scene.model import Texture
from ..scene.textures import look_up_light
from ..vector import LUMINANCE, dot, frame, multiply, row3, to_world
from .picture import cell_chance, picture_cells, picture_table, sample_cell


def direction_of(u: float, v: float) -> tuple[float, float, float]:
    """Unit direction in the dome's frame of the picture point (u, v), v from the top."""
    longitude, latitude = math.pi * (1.0 - 2.0 * u), math.pi * (0.5 - v)
    return math.sin(longitude) * math.cos(latitude), math.sin(latitude), math.cos(longitude) * math.cos(latitude)


def sky_table(panorama: Texture) -> tuple[np.ndarray, np.ndarray]:
    """(its distribution float32 for `picture.sample_cell`, mean radiance over the sphere [3])."""
    cells = picture_cells(panorama)
    edges = np.cos(np.linspace(0.0, np.pi, len(cells) + 1))
    solid = edges[:-1] - edges[1:]  # of a row, over 2 pi
    mean: np.ndarray = (cells.mean(axis=1) * solid[:, None]).sum(axis=0) / 2.0
    return picture_table(cells, solid, float(mean @ LUMINANCE), wraps=True), mean


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
    """Radiance of dome `i` from the direction `d`."""
    colour = row3(scene.lights, i, RADIANCE)
    panorama = int(scene.lights[i, PICTURE])
    if panorama < 0:
        return colour
    u, v = _picture_point(scene.lights, i, d)
    return multiply(colour, look_up_light(scene, panorama, u, 1.0 - v))


@called_kernel
def sky_density(scene, i, n, d):
    """Density per steradian with which `sample_sky` aims along `d` from a surface with normal `n`."""
    start = int(scene.lights[i, AIM])
    if start < 0:
        return max(0.0, dot(d, n)) / math.pi
    u, v = _picture_point(scene.lights, i, d)
    row, chance = cell_chance(scene.tables, start, u, v)
    return chance / _cell(row, int(scene.tables[start]), int(scene.tables[start + 1]))


@kernel
def _cell(row, rows, columns):
    """Steradians of a cell of the distribution."""
    top, bottom = math.pi * row / rows, math.pi * (row + 1) / rows
    return 2.0 * math.pi / columns * (math.cos(top) - math.cos(bottom))


@called_kernel
def sample_sky(scene, i, n, u, v):
    """A direction to aim at dome `i` from a surface with normal `n`: (direction, density per steradian)."""
    start = int(scene.lights[i, AIM])
    if start < 0:
        r, phi = math.sqrt(u), 2.0 * math.pi * v
        x, y = frame(n)
        cos_n = math.sqrt(max(0.0, 1.0 - u))
        return to_world(x, y, n, (r * math.cos(phi), r * math.sin(phi), cos_n)), cos_n / math.pi
    rows, columns = int(scene.tables[start]), int(scene.tables[start + 1])
    row, down, column, across, chance = sample_cell(scene.tables, start, u, v)
    # Uniform in solid angle within the cell.
    top, bottom = math.cos(math.pi * row / rows), math.cos(math.pi * (row + 1) / rows)
    y = top + down * (bottom - top)
    r, longitude = math.sqrt(max(0.0, 1.0 - y * y)), math.pi * (1.0 - 2.0 * (column + across) / columns)
    d = _to_scene(scene.lights, i, (r * math.sin(longitude), y, r * math.cos(longitude)))
    return d, chance / _cell(row, rows, columns)
