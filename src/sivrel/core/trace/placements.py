"""Placements of shapes that are stored once: a hierarchy of two levels (Wald et al. 2003, "Distributed Interactive Ray Tracing of Dynamic Scenes",
section 3).

Triangles that are stored where they stand are numbered first. Every placement continues the numbers with those of its shape, so that each triangle
that a ray can hit has a number of its own, and one number says which.
"""

from typing import NamedTuple

import numpy as np

from ..kernel import called_kernel

MOST_NUMBERED = 100 << 23
"""Most triangles of all placements together: as many as a film can number (render.film)."""


class Placements(NamedTuple):
    """Where shapes are placed, n of them.

    first: uint32 [n], number of the first triangle, rising; counts: uint32 [n], how many there are
    stored: uint32 [n], row of the first triangle in the arrays of the scene
    objects: uint32 [n], number of the object
    to_world, from_world: float64 [n, 12], rows of the 3 x 4 matrices between the shape's space and the scene's
    """

    first: np.ndarray
    counts: np.ndarray
    stored: np.ndarray
    objects: np.ndarray
    to_world: np.ndarray
    from_world: np.ndarray


def no_placements() -> Placements:
    return placements_of([], [], [], np.zeros((0, 3, 4)), 0)


def placements_of(counts: list[int], stored: list[int], objects: list[int], to_world: np.ndarray, first: int) -> Placements:
    """Placements of shapes of so many triangles, stored from those rows on, numbered from `first` on. to_world [n, 3, 4]
    must have inverses."""
    n = len(counts)
    whole = np.tile(np.eye(4), (n, 1, 1))
    whole[:, :3] = to_world
    starts = first + np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)[:n]
    return Placements(
        starts.astype(np.uint32), np.array(counts, np.uint32), np.array(stored, np.uint32), np.array(objects, np.uint32),
        np.ascontiguousarray(whole[:, :3].reshape(n, 12)), np.ascontiguousarray(np.linalg.inv(whole)[:, :3].reshape(n, 12)),
    )  # fmt: skip


def are_same(a: Placements, b: Placements, in_place: bool = True) -> bool:
    """Whether the same shapes and objects are placed, and where that is asked for, at the same places."""
    return all(np.array_equal(getattr(a, name), getattr(b, name)) for name in ("first", "stored", "objects", *["to_world"] * in_place))


def box_by(matrices: np.ndarray, low: np.ndarray, high: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Lowest and highest corner [..., 3] of a box around a transformed box, by 3 x 4 matrices [..., 3, 4] (Arvo 1990, "Transforming Axis-Aligned
    Bounding Boxes")."""
    turn = matrices[..., :3]
    centre = np.einsum("...ij,...j->...i", turn, (low + high) / 2.0) + matrices[..., 3]
    reach = np.einsum("...ij,...j->...i", np.abs(turn), (high - low) / 2.0)
    return centre - reach, centre + reach


@called_kernel
def placement_of(first, triangle):
    """The placement that a triangle's number belongs to."""
    low, high = 0, len(first) - 1
    while low < high:
        middle = (low + high + 1) >> 1
        if first[middle] <= triangle:
            low = middle
        else:
            high = middle - 1
    return low


@called_kernel
def point_by(matrices, row, x, y, z):
    """A point moved by the 3 x 4 matrix in a row of `matrices` [n, 12]."""
    return (
        matrices[row, 0] * x + matrices[row, 1] * y + matrices[row, 2] * z + matrices[row, 3],
        matrices[row, 4] * x + matrices[row, 5] * y + matrices[row, 6] * z + matrices[row, 7],
        matrices[row, 8] * x + matrices[row, 9] * y + matrices[row, 10] * z + matrices[row, 11],
    )


@called_kernel
def normal_by(inverses, row, x, y, z):
    """A normal, not of unit length, in the space of which row of `inverses` holds the way back: by the inverse's transpose."""
    return (
        inverses[row, 0] * x + inverses[row, 4] * y + inverses[row, 8] * z,
        inverses[row, 1] * x + inverses[row, 5] * y + inverses[row, 9] * z,
        inverses[row, 2] * x + inverses[row, 6] * y + inverses[row, 10] * z,
    )
