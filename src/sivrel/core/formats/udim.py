"""UDIM tiles, one picture for each unit square of the texture coordinates, as one texture.

Tile 1001 + column + 10 row covers the coordinates from column to column + 1 and from row to row + 1 (UsdShade, "UsdShadeUdimUtils").
"""

from collections.abc import Mapping

import numpy as np
from PIL import Image

from ..errors import InputError
from .hdr import MOST_PIXELS

FIRST, COLUMNS, LAST = 1001, 10, 1999


def joined_tiles(tiles: Mapping[int, np.ndarray], most: int = MOST_PIXELS) -> tuple[np.ndarray, np.ndarray]:
    """(texels float32 [rows, columns, 4] of all tiles side by side, 2 x 3 matrix from the mesh's coordinates to theirs), for tiles [rows, columns, 4]
    by their numbers. Tiles of several sizes get that of the largest, or a smaller one where the whole would have more than `most` pixels;
    squares without a tile are black and transparent. Raises InputError for a number that is no tile's."""
    wrong = [number for number in tiles if not FIRST <= number <= LAST]
    if wrong or not tiles:
        raise InputError(f"{wrong[0] if wrong else 'Nothing'} is not the number of a UDIM tile; they run from {FIRST} to {LAST}.")
    places = {number: ((number - FIRST) % COLUMNS, (number - FIRST) // COLUMNS) for number in tiles}
    columns, rows = (1 + max(place[axis] for place in places.values()) for axis in (0, 1))
    wide, high = (max(tile.shape[axis] for tile in tiles.values()) for axis in (1, 0))
    shrink = min(1.0, (most / (wide * high * columns * rows)) ** 0.5)
    wide, high = max(1, int(wide * shrink)), max(1, int(high * shrink))
    whole = np.zeros((rows * high, columns * wide, 4), np.float32)
    for number, tile in tiles.items():
        column, row = places[number]
        top = (rows - 1 - row) * high  # coordinates rise, and rows of texels descend
        whole[top : top + high, column * wide : (column + 1) * wide] = _resized(tile, wide, high)
    return whole, np.array([[1.0 / columns, 0.0, 0.0], [0.0, 1.0 / rows, 0.0]])


def _resized(tile: np.ndarray, wide: int, high: int) -> np.ndarray:
    if tile.shape[:2] == (high, wide):
        return tile
    how = Image.Resampling.BOX if wide <= tile.shape[1] and high <= tile.shape[0] else Image.Resampling.BILINEAR
    return np.stack([np.asarray(Image.fromarray(tile[..., c]).resize((wide, high), how)) for c in range(4)], axis=2)
