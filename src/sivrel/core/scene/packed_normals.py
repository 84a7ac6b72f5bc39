"""Unit vectors in 32 bits: octahedral coordinates of 16 bits each (Meyer, Süßmuth, Sußner, Stamminger & Greiner 2010, "On Floating-Point Normal
Vectors"; Cigolle, Donow, Evangelakos, Mara, McGuire & Meyer 2014, "A Survey of Efficient Representations for Independent Unit Vectors", section 3).

A direction is off by at most 7e-5 radians. Directions along an axis are exact.
"""

import numpy as np

from ..kernel import kernel
from ..vector import normalize

STEPS = 32767.0
"""Steps of a coordinate from 0 to 1."""


def packed_normals(normals: np.ndarray) -> np.ndarray:
    """uint32 [...]: codes of vectors float [..., 3] of any length but 0."""
    n = np.asarray(normals, float)
    x, y = (n[..., k] / np.abs(n).sum(axis=-1) for k in (0, 1))
    below = n[..., 2] < 0.0
    x, y = np.where(below, _folded(y, x), x), np.where(below, _folded(x, y), y)
    u, v = (np.rint(c * STEPS).astype(np.int64) & 0xFFFF for c in (x, y))
    return (u | v << 16).astype(np.uint32)


def unpacked_normals(codes: np.ndarray) -> np.ndarray:
    """float32 [..., 3]: unit vectors of codes uint32 [...]."""
    x, y = ((codes >> np.uint32(shift)).astype(np.uint16).view(np.int16) / STEPS for shift in (0, 16))
    z = 1.0 - np.abs(x) - np.abs(y)
    x, y = np.where(z < 0.0, _folded(y, x), x), np.where(z < 0.0, _folded(x, y), y)
    n = np.stack([x, y, z], axis=-1)
    return (n / np.linalg.norm(n, axis=-1, keepdims=True)).astype(np.float32)


def _folded(other: np.ndarray, own: np.ndarray) -> np.ndarray:
    """A coordinate of the lower half of the octahedron, whose faces are folded out over the corners of the upper half."""
    return (1.0 - np.abs(other)) * np.where(own < 0.0, -1.0, 1.0)


@kernel
def unpacked_normal(code):
    """The unit vector of a code."""
    x, y = np.float64(np.int16(code & 0xFFFF)) / STEPS, np.float64(np.int16(code >> 16)) / STEPS
    z = 1.0 - abs(x) - abs(y)
    if z < 0.0:
        x, y = (1.0 - abs(y)) * (-1.0 if x < 0.0 else 1.0), (1.0 - abs(x)) * (-1.0 if y < 0.0 else 1.0)
    return normalize((x, y, z))
