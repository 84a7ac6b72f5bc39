"""A picture that emits light, sampled where it is bright: by rows, then along the row (Pharr, Jakob & Humphreys 2016, section 13.6.7,
"Piecewise-Constant 2D Distributions")."""

import numpy as np

from ..kernel import kernel
from ..scene.model import Texture
from ..vector import LUMINANCE

MOST_COLUMNS = 1024
"""Cells along a row of the distribution; a larger picture is averaged down for aiming, but looked up in full."""
EVEN = 0.02
"""Least weight of a cell, relative to the mean luminance, so that every cell can be sampled."""


def picture_cells(picture: Texture) -> np.ndarray:
    """Colours float64 [rows, columns, 3] of the cells of a picture's distribution, row 0 at the top."""
    texels = picture.image.linear()[..., :3].astype(float) * np.asarray(picture.scale[:3]) + np.asarray(picture.bias[:3])
    texels = np.maximum(texels, 0.0)
    step = max(1, -(-max(texels.shape[:2]) // MOST_COLUMNS))
    step = min(step, *texels.shape[:2])
    rows, columns = texels.shape[0] // step, texels.shape[1] // step
    cells: np.ndarray = texels[: rows * step, : columns * step].reshape(rows, step, columns, step, 3).mean(axis=(1, 3))
    return cells


def picture_table(cells: np.ndarray, sizes: np.ndarray, mean: float, wraps: bool) -> np.ndarray:
    """The distribution as the kernels read it, float32, of `cells` [rows, columns, 3] whose rows have the `sizes` [rows] (area or solid angle)
    and whose mean luminance is `mean`: rows, columns, two spare; the running sum of the rows [rows + 1], each row's own [rows, columns + 1].
    `wraps`: the right edge meets the left one."""
    rows, columns = cells.shape[:2]
    bright = cells @ LUMINANCE
    # Bilinear look-up spreads a bright texel over its neighbours.
    padded = np.pad(np.pad(bright, ((0, 0), (1, 1)), "wrap" if wraps else "edge"), ((1, 1), (0, 0)), "edge")
    neighbours = np.max([padded[1:-1, :-2], padded[1:-1, 2:], padded[:-2, 1:-1], padded[2:, 1:-1]], axis=0)
    weights = (np.maximum(bright, 0.25 * neighbours) + EVEN * max(mean, 1e-12)) * sizes[:, None]
    along = np.concatenate([np.zeros((rows, 1)), np.cumsum(weights, axis=1)], axis=1)
    down = np.concatenate([[0.0], np.cumsum(along[:, -1])])
    along /= along[:, -1:]
    return np.concatenate([[rows, columns, 0.0, 0.0], down / down[-1], along.reshape(-1)]).astype(np.float32)


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
def sample_cell(tables, start, u, v):
    """A cell of the distribution at `start`, chosen by its weight: (row, share of the row from the top, column, share, chance of the cell)."""
    rows, columns = int(tables[start]), int(tables[start + 1])
    row, down, chance = _find(tables, start + 4, rows, v)
    column, across, share = _find(tables, start + 4 + rows + 1 + row * (columns + 1), columns, u)
    return row, down, column, across, chance * share


@kernel
def cell_chance(tables, start, u, v):
    """(row, chance) of the cell that holds the picture point (u, v), v from the top."""
    rows, columns = int(tables[start]), int(tables[start + 1])
    row, column = min(max(int(v * rows), 0), rows - 1), min(max(int(u * columns), 0), columns - 1)
    at = start + 4 + row
    chance = np.float64(tables[at + 1]) - np.float64(tables[at])
    at = start + 4 + rows + 1 + row * (columns + 1) + column
    return row, chance * (np.float64(tables[at + 1]) - np.float64(tables[at]))
