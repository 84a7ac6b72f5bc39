"""UDIM tiles, one picture for each unit square of the texture coordinates.

Tile 1001 + column + 10 row covers the coordinates from column to column + 1 and from row to row + 1 (UsdShade, "UsdShadeUdimUtils").
"""

from collections.abc import Mapping

from ..errors import InputError
from ..scene.texels import Texels, TileSet

FIRST, COLUMNS, LAST = 1001, 10, 1999


def tile_set(tiles: Mapping[int, Texels]) -> TileSet:
    """The tiles by their numbers as one set; squares without a tile are black and transparent. Raises InputError for a number that is no tile's."""
    wrong = [number for number in tiles if not FIRST <= number <= LAST]
    if wrong or not tiles:
        raise InputError(f"{wrong[0] if wrong else 'Nothing'} is not the number of a UDIM tile; they run from {FIRST} to {LAST}.")
    return TileSet({((number - FIRST) % COLUMNS, (number - FIRST) // COLUMNS): tile for number, tile in tiles.items()})
