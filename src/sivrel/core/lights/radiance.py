"""What a light emits, as UsdLux states it.

radiance = intensity * 2**exposure * colour * black-body colour, over the light's size factor when `normalize` is on:
the area of a rect, disk, sphere or cylinder, and pi sin²(angle / 2) for a distant light (UsdLux overview, "Quantities
and Units"). A sphere that stands as a point has the radiant intensity of that sphere.
"""

import math

from ..scene.model import Colour, Light
from .blackbody import blackbody_rgb


def area(light: Light) -> float:
    """Emitting area in square metres; 0 for lights that have none."""
    if light.kind in ("rect", "portal"):
        # The sides need not be at right angles.
        x, y = light.frame[0], light.frame[1]
        return light.width * light.height * math.sqrt(max(0.0, 1.0 - float(x @ y) ** 2))
    if light.kind == "disk":
        x, y = light.frame[0], light.frame[1]
        return math.pi / 4.0 * light.width * light.height * math.sqrt(max(0.0, 1.0 - float(x @ y) ** 2))
    if light.kind == "sphere":
        return 4.0 * math.pi * light.radius**2
    if light.kind == "cylinder":
        return 2.0 * math.pi * light.radius * light.length
    return 0.0


def _size_factor(light: Light) -> float:
    """What `normalize` divides by: areas count in the file's units."""
    if light.kind == "sun":
        return math.pi * math.sin(math.radians(light.angle) / 2.0) ** 2
    return area(light) / light.unit**2


def emitted(light: Light) -> Colour:
    """Radiance of the light's surface or sky; of a point the radiant intensity, of a sun of angle zero the irradiance.

    A point: radiance times the cross-section of its sphere; the surface of that sphere is four times as large, whence
    the 4 under `normalize`. A point that stands for no sphere has its `intensity` as radiant intensity.
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
