"""The radiance of a light, as UsdLux defines it.

radiance = intensity * 2**exposure * colour * black-body colour, over the light's size factor when `normalize` is on:
the area of a rect, disk, sphere or cylinder, and pi sin²(angle / 2) for a distant light, or pi (2 - sin²) beyond 180 degrees (UsdLux
overview, "Quantities and Units"). A sphere treated as a point has the radiant intensity of that sphere.
"""

import math

import numpy as np
from scipy.special import ellipe, elliprg

from ..scene.model import Colour, Light
from .blackbody import blackbody_rgb


def area(light: Light) -> float:
    """Emitting area in square metres; 0 for lights that have none."""
    if light.kind in ("rect", "portal"):
        # The sides need not be perpendicular.
        x, y = light.frame[0], light.frame[1]
        return light.width * light.height * math.sqrt(max(0.0, 1.0 - float(x @ y) ** 2))
    if light.kind == "disk":
        x, y = light.frame[0], light.frame[1]
        return math.pi / 4.0 * light.width * light.height * math.sqrt(max(0.0, 1.0 - float(x @ y) ** 2))
    if light.kind == "sphere":
        return 4.0 * math.pi * light.radius**2 if light.stretch is None else ellipsoid_area(light.stretch * light.radius)
    if light.kind == "cylinder":
        return 2.0 * math.pi * light.radius * light.length if light.stretch is None else _tube_area(light)
    return 0.0


def ellipsoid_area(axes: np.ndarray) -> float:
    """Area of the ellipsoid onto which the matrix `axes` [3, 3] maps the unit sphere, by Carlson's symmetric integral (NIST Digital Library of
    Mathematical Functions, 19.33.1)."""
    a, b, c = np.linalg.svd(axes, compute_uv=False)
    return float(4.0 * math.pi * a * b * c * elliprg(a**-2, b**-2, c**-2))


def _tube_area(light: Light) -> float:
    """Area of the round side of a stretched cylinder: the perimeter of its ellipse perpendicular to its axis, times its length."""
    assert light.stretch is not None
    axis = light.stretch @ light.frame[0]
    across = light.stretch @ light.frame[1:].T * light.radius
    across -= np.outer(axis, axis @ across) / (axis @ axis)
    a, b = np.linalg.svd(across, compute_uv=False)[:2]
    return float(4.0 * max(a, b) * ellipe(1.0 - (min(a, b) / max(a, b)) ** 2)) * light.length * float(np.linalg.norm(axis))


def _size_factor(light: Light) -> float:
    """The divisor of `normalize`: areas are in the file's units."""
    if light.kind == "sun":
        sin2 = math.sin(math.radians(light.angle) / 2.0) ** 2
        return math.pi * (sin2 if light.angle <= 180.0 else 2.0 - sin2)
    return area(light) / light.unit**2


def emitted(light: Light) -> Colour:
    """Radiance of the light's surface or sky; of a point the radiant intensity, of a sun of angle zero the irradiance.

    A point: radiance times the cross-section of its sphere; the surface of that sphere is four times as large, hence
    the 4 under `normalize`. A point without a sphere has its `intensity` as radiant intensity.
    """
    scale = light.intensity * 2.0**light.exposure
    if light.kind == "point":
        if light.normalize:
            scale *= light.unit**2 / 4.0
        elif light.radius > 0.0:
            scale *= math.pi * light.radius**2
    elif light.normalize:
        factor = _size_factor(light)
        scale = scale / factor if factor > 0.0 else scale
    warm = blackbody_rgb(light.temperature) if light.temperature else (1.0, 1.0, 1.0)
    r, g, b = (max(0.0, float(c) * w * scale) for c, w in zip(light.color, warm, strict=True))
    return r, g, b
