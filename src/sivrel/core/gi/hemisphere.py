"""Directions over hemispheres, for many points at once."""

import math

import numpy as np


def frames(n: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Two axes [k, 3] across each normal [k, 3] (Duff et al. 2017, "Building an Orthonormal Basis, Revisited")."""
    sign = np.where(n[:, 2] >= 0.0, 1.0, -1.0)
    a = -1.0 / (sign + n[:, 2])
    b = n[:, 0] * n[:, 1] * a
    x = np.stack([1.0 + sign * n[:, 0] ** 2 * a, sign * b, -sign * n[:, 0]], axis=1)
    y = np.stack([b, sign + n[:, 1] ** 2 * a, -n[:, 1]], axis=1)
    return x, y


def cosine_directions(n: np.ndarray, random: np.random.Generator) -> np.ndarray:
    """A cosine-distributed direction [k, 3] above each normal."""
    u = random.random((len(n), 2))
    return _directions(n, *frames(n), u[:, 0], 2.0 * math.pi * u[:, 1])


def stratified_directions(
    n: np.ndarray, rings: int, slices: int, random: np.random.Generator
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:  # fmt: skip
    """Directions [k, rings, slices, 3], one in each cell of a cosine-stratified hemisphere, from its pole and from the first axis on;
    and the two axes [k, 3]."""
    k = len(n)
    share = (np.arange(rings)[None, :, None] + random.random((k, rings, slices))) / rings
    angle = 2.0 * math.pi * (np.arange(slices)[None, None, :] + random.random((k, rings, slices))) / slices
    x, y = frames(n)
    return _directions(n[:, None, None], x[:, None, None], y[:, None, None], share, angle), x, y


def _directions(n: np.ndarray, x: np.ndarray, y: np.ndarray, share: np.ndarray, angle: np.ndarray) -> np.ndarray:
    """Directions whose squared sine from the normal is `share`, turned by `angle` from x to y."""
    sine = np.sqrt(share)
    return x * (sine * np.cos(angle))[..., None] + y * (sine * np.sin(angle))[..., None] + n * np.sqrt(1.0 - share)[..., None]
