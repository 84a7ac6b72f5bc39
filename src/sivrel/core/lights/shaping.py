"""The shape of a light's beam: cone, focus and photometric profile, as UsdLux's ShapingAPI states them."""

import math

import numpy as np

from ..kernel import called_kernel, kernel
from ..scene.arrays import AXIS_X, AXIS_Y, AXIS_Z, CONE, CONE_START, FOCUS, FOCUS_TINT, PROFILE
from ..scene.model import Profile
from ..vector import dot, row3


def profile_table(profile: Profile, normalize: bool, scale: float = 0.0) -> np.ndarray:
    """A profile for the kernels, float32: number of vertical and of horizontal angles, two spare; the angles in
    radians; the values, a row for each horizontal angle. With `normalize` they integrate to 4 pi over the sphere, so
    that the beam changes its shape and not its flux. `scale` widens or narrows the vertical angles, from the axis or, below 0, from behind (UsdLux
    ShapingAPI, shaping:ies:angleScale)."""
    values = profile.candela
    if normalize:
        power = profile.power()
        values = values * (4.0 * math.pi / power) if power > 0.0 else values
    vertical = profile.vertical if scale == 0.0 else profile.vertical * scale if scale > 0.0 else 180.0 - (180.0 - profile.vertical) * -scale
    head = [len(profile.vertical), len(profile.horizontal), 0.0, 0.0]
    return np.concatenate([head, np.radians(vertical), np.radians(profile.horizontal), values.reshape(-1)]).astype(np.float32)


@kernel
def _interval(tables, first, count, x):
    """Index k < count - 1 with tables[first + k] <= x, and how far x lies towards the next (0 to 1)."""
    low, high = 0, count - 1
    while high - low > 1:
        middle = (low + high) // 2
        if tables[first + middle] <= x:
            low = middle
        else:
            high = middle
    if count < 2:
        return 0, 0.0
    a, b = np.float64(tables[first + low]), np.float64(tables[first + low + 1])
    return low, min(max((x - a) / max(b - a, 1e-12), 0.0), 1.0)


@called_kernel
def profile_at(tables, start, theta, phi):
    """Value of the profile at `start` of the tables, `theta` radians from the axis and `phi` round it; bilinear between
    the measured angles and nothing beyond them (IES LM-63)."""
    vertical, horizontal = int(tables[start]), int(tables[start + 1])
    v0 = start + 4
    h0 = v0 + vertical
    values = h0 + horizontal
    tiny = 1e-5
    if theta < np.float64(tables[v0]) - tiny or theta > np.float64(tables[v0 + vertical - 1]) + tiny:
        return 0.0
    i, s = _interval(tables, v0, vertical, theta)
    j, t = _interval(tables, h0, horizontal, phi)
    i1, j1 = min(i + 1, vertical - 1), min(j + 1, horizontal - 1)
    a = np.float64(tables[values + j * vertical + i]) * (1.0 - s) + np.float64(tables[values + j * vertical + i1]) * s
    b = np.float64(tables[values + j1 * vertical + i]) * (1.0 - s) + np.float64(tables[values + j1 * vertical + i1]) * s
    return a * (1.0 - t) + b * t


@called_kernel
def shaped(lights, tables, i, d):
    """Factor per channel of what light `i` sends along unit `d` (away from the light), its axis being -z."""
    axis_z = row3(lights, i, AXIS_Z)
    cos = min(1.0, max(-1.0, -dot(d, axis_z)))
    theta = math.acos(cos)
    factor = 1.0
    if theta > lights[i, CONE]:
        return 0.0, 0.0, 0.0
    start = lights[i, CONE_START]
    if theta > start and lights[i, CONE] > start:
        t = (theta - start) / (lights[i, CONE] - start)
        factor = 1.0 - t * t * (3.0 - 2.0 * t)
    profile = int(lights[i, PROFILE])
    if profile >= 0:
        phi = math.atan2(dot(d, row3(lights, i, AXIS_Y)), dot(d, row3(lights, i, AXIS_X)))
        factor *= profile_at(tables, profile, theta, phi if phi >= 0.0 else phi + 2.0 * math.pi)
    focus = lights[i, FOCUS]
    if focus <= 0.0:
        return factor, factor, factor
    f = max(0.0, cos) ** focus
    tint = row3(lights, i, FOCUS_TINT)
    return factor * (f + (1.0 - f) * tint[0]), factor * (f + (1.0 - f) * tint[1]), factor * (f + (1.0 - f) * tint[2])
