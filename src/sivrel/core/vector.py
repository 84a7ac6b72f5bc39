"""Three-component vectors as tuples of floats, for kernels."""

import math

import numpy as np

from .kernel import kernel


@kernel
def dot(a, b):
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@kernel
def cross(a, b):
    return a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]


@kernel
def add(a, b):
    return a[0] + b[0], a[1] + b[1], a[2] + b[2]


@kernel
def subtract(a, b):
    return a[0] - b[0], a[1] - b[1], a[2] - b[2]


@kernel
def scale(a, s):
    return a[0] * s, a[1] * s, a[2] * s


@kernel
def multiply(a, b):
    return a[0] * b[0], a[1] * b[1], a[2] * b[2]


@kernel
def normalize(a):
    """`a` at unit length; a null vector stays null."""
    length = math.sqrt(dot(a, a))
    return scale(a, 1.0 / length) if length > 0.0 else (0.0, 0.0, 0.0)


LUMINANCE = np.array([0.2126, 0.7152, 0.0722])
"""Weights of `luminance`, for whole arrays of colours."""


@kernel
def luminance(c):
    """Relative luminance of a linear Rec.709 colour (ITU-R BT.709-6, item 3.2)."""
    return 0.2126 * c[0] + 0.7152 * c[1] + 0.0722 * c[2]


@kernel
def frame(n):
    """Two unit vectors that make a right-handed frame with unit `n` (Duff et al. 2017, "Building an Orthonormal
    Basis, Revisited", listing 3)."""
    sign = math.copysign(1.0, n[2])
    a = -1.0 / (sign + n[2])
    b = n[0] * n[1] * a
    return (1.0 + sign * n[0] * n[0] * a, sign * b, -sign * n[0]), (b, sign + n[1] * n[1] * a, -n[1])


@kernel
def to_world(x, y, n, v):
    """`v` given in the frame (x, y, n), in world space."""
    return (
        x[0] * v[0] + y[0] * v[1] + n[0] * v[2],
        x[1] * v[0] + y[1] * v[1] + n[1] * v[2],
        x[2] * v[0] + y[2] * v[1] + n[2] * v[2],
    )


@kernel
def to_local(x, y, n, v):
    """World vector `v` in the frame (x, y, n)."""
    return dot(x, v), dot(y, v), dot(n, v)


@kernel
def row3(array, row, column):
    """Three numbers of a two-dimensional array as a tuple."""
    return array[row, column], array[row, column + 1], array[row, column + 2]


@kernel
def part_of(part, whole):
    """Share of a part in a colour, per channel."""
    return (
        part[0] / whole[0] if whole[0] > 0.0 else 0.0,
        part[1] / whole[1] if whole[1] > 0.0 else 0.0,
        part[2] / whole[2] if whole[2] > 0.0 else 0.0,
    )
