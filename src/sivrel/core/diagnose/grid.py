"""The coarse grid: a picture's pixels pooled into cells about five pixels wide, so that brute force of the cells takes little time."""

from dataclasses import dataclass

import numpy as np

from ..render.frame import Frame

WIDTH = 96
"""Cells across a whole frame, about."""


@dataclass(frozen=True)
class Grid:
    """columns, rows: cells of the whole frame; width, height: its pixels; window: of the frame that was rendered, in pixels."""

    columns: int
    rows: int
    width: int
    height: int
    window: tuple[int, int, int, int]

    @property
    def step(self) -> float:
        """Pixels across a cell."""
        return self.width / self.columns

    def frame(self, seed: int = 0, cells: tuple[int, int, int, int] | None = None) -> Frame:
        """The whole frame with a pixel for each cell, or the part given by `cells`."""
        return Frame(self.columns, self.rows, cells, seed)

    def cells_of(self, box: tuple[int, int, int, int]) -> tuple[int, int, int, int]:
        """The cells that a box of pixels touches."""
        sx, sy = self.columns / self.width, self.rows / self.height
        return (
            max(0, int(np.floor(box[0] * sx))), max(0, int(np.floor(box[1] * sy))),
            min(self.columns, int(np.ceil(box[2] * sx - 1e-9))), min(self.rows, int(np.ceil(box[3] * sy - 1e-9))),
        )  # fmt: skip

    def pixels_of(self, cells: tuple[int, int, int, int]) -> tuple[int, int, int, int]:
        """The pixels that a box of cells covers, within the window."""
        sx, sy = self.width / self.columns, self.height / self.rows
        x0, y0, x1, y1 = self.window
        return (
            max(x0, int(np.floor(cells[0] * sx))), max(y0, int(np.floor(cells[1] * sy))),
            min(x1, int(np.ceil(cells[2] * sx))), min(y1, int(np.ceil(cells[3] * sy))),
        )  # fmt: skip

    def inside(self) -> np.ndarray:
        """bool [rows, columns]: cells that lie wholly in the window."""
        sx, sy = self.width / self.columns, self.height / self.rows
        x, y = np.arange(self.columns + 1) * sx, np.arange(self.rows + 1) * sy
        across = (x[:-1] >= self.window[0] - 1e-6) & (x[1:] <= self.window[2] + 1e-6)
        down = (y[:-1] >= self.window[1] - 1e-6) & (y[1:] <= self.window[3] + 1e-6)
        return down[:, None] & across[None, :]

    def pool(self, image: np.ndarray) -> np.ndarray:
        """Means over the cells, [rows, columns, ...], of an image of the window's pixels; 0 in cells outside it."""
        return pooled(image, self.columns, self.rows, (self.width, self.height), self.window)

    def pool_error(self, variance: np.ndarray) -> np.ndarray:
        """Variance of the cells' means from that of the pixels, [rows, columns]."""
        each = (self.width / self.columns) * (self.height / self.rows)
        return self.pool(variance) / max(each, 1.0)


def grid_of(frame: Frame) -> Grid:
    """A grid whose cells are as square as the frame's pixels; where its sides share a divisor near enough, exactly."""
    best: tuple[float, int, int] | None = None
    for columns in range(max(1, min(frame.width, WIDTH - 32)), min(frame.width, WIDTH + 32) + 1):
        rows = frame.height * columns / frame.width
        off = abs(rows - round(rows)) * 4.0 + abs(frame.width / columns - round(frame.width / columns)) + abs(columns - WIDTH) / 64.0
        if round(rows) >= 1 and (best is None or off < best[0]):
            best = (off, columns, round(rows))
    assert best is not None
    return Grid(best[1], best[2], frame.width, frame.height, frame.window)


def pooled(image: np.ndarray, columns: int, rows: int, size: tuple[int, int], window: tuple[int, int, int, int]) -> np.ndarray:
    """Area means over columns x rows cells of a frame of `size`, of an image of its `window`; cells may cut pixels."""
    flat = image.reshape(image.shape[0], image.shape[1], -1).astype(np.float64)
    down = _weights(rows, size[1], window[1], window[3])
    across = _weights(columns, size[0], window[0], window[2])
    result = np.einsum("yr,rxc->yxc", down, np.einsum("xk,rkc->rxc", across, flat, optimize=True), optimize=True)
    return result.reshape(rows, columns, *image.shape[2:])


def _weights(cells: int, size: int, first: int, last: int) -> np.ndarray:
    """float64 [cells, last - first]: the share of each pixel of the window in each cell, rows that are covered sum to 1."""
    edges = np.arange(cells + 1) * (size / cells)
    pixels = np.arange(first, last)
    low = np.maximum(edges[:-1, None], pixels[None, :])
    high = np.minimum(edges[1:, None], pixels[None, :] + 1.0)
    cover = np.maximum(high - low, 0.0)
    return cover / np.maximum(cover.sum(axis=1, keepdims=True), 1e-12)
