"""A picture with the pixels of a coarser frame of the same shape, so that a region and its enlargement can be compared."""

from dataclasses import replace

import numpy as np
from scipy import sparse

from ..render.frame import Frame
from .exr import Picture

NUMBERS = ("object", "surface")
"""Passes of numbers, of which there is no mean: the pixel in the middle stands."""


def same_shape(a: Frame, b: Frame) -> bool:
    """Whether two frames have one aspect, to half a pixel of the coarser."""
    return abs(a.width * b.height - b.width * a.height) <= max(a.width, b.width) / 2


def coarser(picture: Picture, frame: Frame) -> Picture | None:
    """`picture` in the pixels of `frame`, which has its aspect and fewer of them: each is the mean of what it covers, its variance that of
    this mean for independent pixels, its samples their sum. Only pixels that are covered wholly are there; None if there are none.
    Passes: beauty, variance, samples, those of light, and numbers."""
    x0, y0, x1, y1 = picture.frame.window
    across, down = frame.width / picture.frame.width, frame.height / picture.frame.height
    box = (int(np.ceil(x0 * across - 1e-9)), int(np.ceil(y0 * down - 1e-9)), int(x1 * across + 1e-9), int(y1 * down + 1e-9))
    if box[0] >= box[2] or box[1] >= box[3]:
        return None
    columns, rows = _overlaps(box[0], box[2], 1.0 / across, x0, x1), _overlaps(box[1], box[3], 1.0 / down, y0, y1)
    passes = {}
    for name, plane in picture.passes.items():
        if name in NUMBERS:
            passes[name] = plane[np.ix_(*(_middles(low, high, scale, start) for low, high, scale, start in
                                          ((box[1], box[3], 1.0 / down, y0), (box[0], box[2], 1.0 / across, x0))))]  # fmt: skip
        elif name == "variance" or name.startswith("noise."):
            passes[name] = _mean(plane, rows.multiply(rows), columns.multiply(columns))
        elif name == "samples":
            passes[name] = _mean(plane, rows, columns) / np.float32(across * down)
        else:
            passes[name] = _mean(plane, rows, columns)
    return replace(picture, passes=passes, frame=replace(frame, region=box, seed=picture.frame.seed))


def _overlaps(low: int, high: int, scale: float, start: int, end: int) -> sparse.csr_matrix:
    """float64 [high - low, end - start]: the share of each coarse pixel that each fine one covers; a coarse one is `scale` fine ones wide."""
    edges = np.arange(low, high + 1) * scale
    places, shares, coarse = [], [], []
    for k in range(high - low):
        first, last = int(np.floor(edges[k] + 1e-9)), int(np.ceil(edges[k + 1] - 1e-9))
        cover = np.minimum(np.arange(first, last) + 1.0, edges[k + 1]) - np.maximum(np.arange(first, last), edges[k])
        places.append(np.clip(np.arange(first, last), start, end - 1) - start)
        shares.append(cover / cover.sum())
        coarse.append(np.full(last - first, k))
    return sparse.csr_matrix((np.concatenate(shares), (np.concatenate(coarse), np.concatenate(places))), shape=(high - low, end - start))


def _middles(low: int, high: int, scale: float, start: int) -> np.ndarray:
    """The fine pixels in the middle of coarse ones."""
    return np.floor((np.arange(low, high) + 0.5) * scale).astype(np.int64) - start


def _mean(plane: np.ndarray, rows: sparse.csr_matrix, columns: sparse.csr_matrix) -> np.ndarray:
    return np.stack([rows @ (columns @ plane[..., c].astype(np.float64).T).T for c in range(plane.shape[2])], axis=-1).astype(np.float32)
