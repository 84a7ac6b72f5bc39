"""Importance: where light matters for the cameras of a shot, directly or after one bounce. Photons and shots go there first.

After Peter & Pietrek 1998, "Importance Driven Construction of Photon Maps", and Smits, Arvo & Salesin 1992, "An Importance-Driven
Radiosity Algorithm". It only decides where more of them are shot, each with less weight, so it adds no bias.
"""

import math
from typing import Any, NamedTuple

import numpy as np

from ..kernel import kernel
from .hemisphere import cosine_directions

CELLS = 48
"""Cells along the longest side of the grid."""
LOOKS = 40
"""Points across the picture of each camera."""


class Importance(NamedTuple):
    """grid float32 [cells along x, y, z]: importance of each cell, 0 outside; low: the grid's lowest corner; size: of a cell, in
    metres."""

    grid: np.ndarray
    low: tuple
    size: float


ANYWHERE = Importance(np.ones((1, 1, 1), np.float32), (-1e30, -1e30, -1e30), 2e30)
"""Uniform importance."""


@kernel
def importance_at(importance, p):
    """Importance at a point."""
    i = int(math.floor((p[0] - importance.low[0]) / importance.size))
    j = int(math.floor((p[1] - importance.low[1]) / importance.size))
    k = int(math.floor((p[2] - importance.low[2]) / importance.size))
    grid = importance.grid
    if min(i, j, k) < 0 or i >= grid.shape[0] or j >= grid.shape[1] or k >= grid.shape[2]:
        return 0.0
    return float(grid[i, j, k])


def importances(importance: Importance, points: np.ndarray) -> np.ndarray:
    """float64 [n]: importance at points [n, 3]."""
    shape = np.array(importance.grid.shape)
    at = np.floor((points - np.array(importance.low)) / importance.size).astype(np.int64)
    inside = ((at >= 0) & (at < shape)).all(axis=1)
    at = np.clip(at, 0, shape - 1)
    return np.where(inside, importance.grid[at[:, 0], at[:, 1], at[:, 2]], 0.0)


def importance_of(job: Any) -> Importance:
    """The importance grid for all cameras of a job's shot."""
    points = []
    random = np.random.default_rng([job.frame.seed, 17])
    for camera in job.scene.cameras:
        first = job.points_through(camera, LOOKS)
        if not len(first.positions):
            continue
        out = cosine_directions(first.surfaces, random)
        points += [first.positions, job.points_along(first.positions + first.surfaces * 2.0 * job.offset, out).positions]
    at = np.concatenate(points) if points else np.zeros((0, 3))
    if not len(at):
        return ANYWHERE
    # Without the farthest few, which may lie at the horizon.
    low, high = np.percentile(at, 1.0, axis=0), np.percentile(at, 99.0, axis=0)
    size = max(float((high - low).max()) / CELLS, 1e-6)
    shape = np.floor((high - low) / size).astype(int) + 3
    places = np.floor((at - low) / size).astype(int) + 1
    inside = ((places >= 0) & (places < shape)).all(axis=1)
    counts = np.zeros(shape)
    np.add.at(counts, tuple(places[inside].T), 1.0)
    # A root, so that the neighbourhood of the camera does not take all; neighbouring cells count a little.
    grid = np.sqrt(counts)
    wide = grid.copy()
    for axis in range(3):
        for step in (-1, 1):
            wide = np.maximum(wide, 0.5 * np.roll(grid, step, axis))
    return Importance((wide / wide.max()).astype(np.float32), tuple((low - size).tolist()), size)
