"""Frames in space."""

import numpy as np


def upright_frame(z: np.ndarray) -> np.ndarray:
    """Rows x, y, z of a right-handed frame about `z`, with x level."""
    z = np.asarray(z, float) / max(float(np.linalg.norm(z)), 1e-30)
    x = np.cross([0.0, 1.0, 0.0] if abs(z[1]) < 0.999 else [0.0, 0.0, -1.0], z)
    x /= np.linalg.norm(x)
    return np.array([x, np.cross(z, x), z])
