"""UsdLux lights, with the radiance that the schema states.

radiance = intensity * 2**exposure * colour * colour temperature, over the light's size factor when `normalize` is on:
area of a rect, disk or sphere, and pi sin²(angle / 2) for a distant light (UsdLux overview, "Quantities and Units").
"""

import math

import numpy as np
from pxr import Usd, UsdLux

from ..scene.model import Light

LONGEST_ANGLE = 179.0
"""Degrees: a distant light is a cap of the sky, never more than half of it."""


def _flat(matrix: np.ndarray, u: np.ndarray, v: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Half axes and the frame (rows x, y, z) of a flat light; z is opposite to where it shines."""
    half_u, half_v = matrix[:3, :3] @ u, matrix[:3, :3] @ v
    normal = np.cross(half_u, half_v)
    if np.dot(normal, matrix[:3, 2]) < 0.0:
        normal = -normal
    return half_u, half_v, _frame(normal)


def _frame(z: np.ndarray) -> np.ndarray:
    z = z / max(float(np.linalg.norm(z)), 1e-30)
    x = np.cross([0.0, 1.0, 0.0] if abs(z[1]) < 0.9 else [1.0, 0.0, 0.0], z)
    x /= np.linalg.norm(x)
    return np.array([x, np.cross(z, x), z])


def read_light(prim: Usd.Prim, matrix: np.ndarray, metres: float, time: Usd.TimeCode) -> tuple[Light | None, str | None]:
    """The light at `prim`, or None, and a note for the user, or None. `matrix` is prim to scene, 4 x 4 for columns."""
    name, kind = prim.GetName(), prim.GetTypeName()
    api = UsdLux.LightAPI(prim)

    def value(attribute: str, default: float) -> float:
        got = prim.GetAttribute(attribute).Get(time)
        return default if got is None else float(got)

    colour = np.array(api.GetColorAttr().Get(time) or (1.0, 1.0, 1.0), float)
    if api.GetEnableColorTemperatureAttr().Get(time):
        colour *= np.array(UsdLux.BlackbodyTemperatureAsRgb(value("inputs:colorTemperature", 6500.0)))
    radiance = colour * value("inputs:intensity", 1.0) * 2.0 ** value("inputs:exposure", 0.0)
    normalize = bool(api.GetNormalizeAttr().Get(time))
    position = tuple(float(x) for x in matrix[:3, 3])

    def made(made_kind: str, factor: float, **more: object) -> Light:
        scale = 1.0 / factor if normalize and factor > 0.0 else 1.0
        rgb = tuple(float(max(0.0, c)) * scale for c in radiance)
        return Light(name, made_kind, rgb, position, **more)  # type: ignore[arg-type]

    if kind == "DistantLight":
        angle = math.radians(min(max(value("inputs:angle", 0.53), 0.0), LONGEST_ANGLE))
        return made("sun", math.pi * math.sin(angle / 2.0) ** 2, frame=_frame(matrix[:3, 2]), angle=angle), None
    if kind == "RectLight":
        width, height = value("inputs:width", 1.0), value("inputs:height", 1.0)
        u, v, frame = _flat(matrix, np.array([width / 2.0, 0.0, 0.0]), np.array([0.0, height / 2.0, 0.0]))
        area = 4.0 * float(np.linalg.norm(np.cross(u, v)))
        if area <= 0.0:
            return None, f"The light {name} has no area, so it was left out."
        # Sizes and areas are in stage units where the schema normalizes by them.
        return made("rect", area / metres**2, frame=frame, half_u=tuple(u), half_v=tuple(v)), None
    if kind == "DiskLight":
        radius = value("inputs:radius", 0.5)
        u, v, frame = _flat(matrix, np.array([radius, 0.0, 0.0]), np.array([0.0, radius, 0.0]))
        area = math.pi * float(np.linalg.norm(np.cross(u, v)))
        if area <= 0.0:
            return None, f"The light {name} has no area, so it was left out."
        return made("disk", area / metres**2, frame=frame, half_u=tuple(u), half_v=tuple(v)), None
    if kind == "SphereLight":
        return _sphere(prim, matrix, metres, value, made, normalize, time)
    if kind == "DomeLight" or kind == "DomeLight_1":
        asset = prim.GetAttribute("inputs:texture:file").Get(time)
        note = None
        if asset and asset.path:
            note = f"The panorama of {name} is not read yet; its constant colour lights the scene."
        return made("dome", 1.0), note
    return None, f"The light {name} is a {kind}, which is not read yet, so it was left out."


def _sphere(prim, matrix, metres, value, made, normalize, time) -> tuple[Light, str | None]:
    scales = np.linalg.norm(matrix[:3, :3], axis=0)
    radius = value("inputs:radius", 0.5) * float(scales.mean())
    note = None
    if scales.max() > scales.min() * 1.001:
        note = f"The light {prim.GetName()} is a stretched sphere; a round one of its mean radius stands in for it."
    if not prim.GetAttribute("treatAsPoint").Get(time) and radius > 0.0:
        return made("sphere", 4.0 * math.pi * (radius / metres) ** 2, radius=radius), note
    # A point has the radiant intensity of the sphere that it stands for: radiance times its cross-section. The surface
    # of a sphere is four times that, whence the 4 under `normalize`; a radius of nothing gives `intensity` itself.
    light = made("point", 4.0)
    if not normalize and radius > 0.0:
        light.radiance = tuple(c * math.pi * radius**2 for c in light.radiance)  # type: ignore[assignment]
    elif normalize:
        light.radiance = tuple(c * metres**2 for c in light.radiance)  # type: ignore[assignment]
    return light, note
