"""A camera for a scene that has none."""

import numpy as np

from ..scene.model import Camera


def framing_camera(low: np.ndarray, high: np.ndarray) -> Camera:
    """A camera three quarters above the box `low`..`high` (metres) that sees all of it in a 16:9 frame."""
    centre, radius = (low + high) / 2.0, max(float(np.linalg.norm(high - low)) / 2.0, 1e-3)
    back = np.array([0.55, 0.4, 0.75])
    back /= np.linalg.norm(back)
    right = np.cross([0.0, 1.0, 0.0], back)
    right /= np.linalg.norm(right)
    half_width = 0.45
    distance = radius / np.sin(np.arctan(half_width * 9.0 / 16.0))
    axes = np.column_stack([right, np.cross(back, right), back, centre + back * distance])
    return Camera("framing", axes, half_width, focus=distance)
