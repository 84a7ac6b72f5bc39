"""Unit vectors in 32 bits: octahedral coordinates of 16 bits each (Meyer, Süßmuth, Sußner, Stamminger & Greiner 2010, "On Floating-Point Normal
Vectors"; Cigolle, Donow, Evangelakos, Mara, McGuire & Meyer 2014, "A Survey of Efficient Representations for Independent Unit Vectors", section 3).

A direction is off by at most 7e-5 radians. Directions along an axis are exact.
"""

import numpy as np

from ..kernel import kernel
from ..vector import normalize

STEPS = 32767.0
"""Steps of a coordinate from 0 to 1."""
FLAT, FLAT_BACK = 0x8000, 0x18000
"""Codes of no direction: the triangle's own normal, and its opposite. All corners of a triangle have one of them, or none has."""
NEARLY = 2e-4
"""How far normals may be from the triangle's own to count as that."""


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


def corner_normals(codes: np.ndarray, vertices: np.ndarray) -> np.ndarray:
    """float32 [..., 3, 3]: unit normals at the corners of triangles with codes uint32 [..., 3] and vertices [..., 3, 3]."""
    found = unpacked_normals(codes)
    flat = is_flat(codes[..., 0])
    if flat.any():
        own = _facets(vertices[flat]) * np.where(codes[flat][..., 0] == FLAT_BACK, -1.0, 1.0)[..., None]
        found[flat] = own[..., None, :]
    return found


def flattened(codes: np.ndarray, vertices: np.ndarray) -> np.ndarray:
    """uint32 [n, 3]: the codes of triangles, with FLAT where all three normals are the triangle's own, to NEARLY: then it shares its points with its
    neighbours."""
    same = (codes[:, 0] == codes[:, 1]) & (codes[:, 1] == codes[:, 2])
    rows = np.flatnonzero(same)
    own = np.abs(unpacked_normals(codes[rows, 0]) - _facets(vertices[rows])).max(axis=1) < NEARLY
    found = codes.copy()
    found[rows[own]] = FLAT
    return found


def is_flat(codes: np.ndarray) -> np.ndarray:
    """bool [...]: whether codes stand for a triangle's own normal."""
    return (codes & np.uint32(0xFFFF)) == FLAT


def turned_flat(codes: np.ndarray) -> np.ndarray:
    """The codes for triangles that run the other way round, so that they stand for the same normals."""
    return np.where(is_flat(codes), codes ^ np.uint32(FLAT ^ FLAT_BACK), codes).astype(np.uint32)


def _facets(vertices: np.ndarray) -> np.ndarray:
    """float64 [n, 3]: unit normals of triangles [n, 3, 3]; (0, 0, 1) of those without an area."""
    v = vertices.astype(float)
    with np.errstate(invalid="ignore"):
        n = np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])
    length = np.linalg.norm(n, axis=1, keepdims=True)
    return np.where(length > 0.0, n / np.where(length > 0.0, length, 1.0), (0.0, 0.0, 1.0))


@kernel
def unpacked_normal(code):
    """The unit vector of a code."""
    x, y = np.float64(np.int16(code & 0xFFFF)) / STEPS, np.float64(np.int16(code >> 16)) / STEPS
    z = 1.0 - abs(x) - abs(y)
    if z < 0.0:
        x, y = (1.0 - abs(y)) * (-1.0 if x < 0.0 else 1.0), (1.0 - abs(x)) * (-1.0 if y < 0.0 else 1.0)
    return normalize((x, y, z))
