"""Daylight from place, date and time: the sky's panorama, and the sun's colour and direction.

The sky: Preetham, Shirley & Smits 1999, "A Practical Analytic Model for Daylight" (Perez' distribution, section A.2).
The sun: a disc like a 5778 K black body, through Rayleigh scattering and aerosol (same paper, section A.1), from
133 800 lux outside the atmosphere. Ozone, water vapour and mixed gases are left out; they absorb a few per cent of visible light.
The sun's position comes from the `astral` library.
"""

import math
from dataclasses import dataclass
from datetime import datetime

import numpy as np

from ..errors import InputError
from ..scene.model import Colour
from .blackbody import WAVELENGTHS, planck, spectrum_to_xyz, xyz_to_rgb

SUN_ANGLE = 0.533
"""Mean apparent diameter of the sun in degrees."""
OUTSIDE = 133_800.0
"""Illuminance of the sun outside the atmosphere in lux (IESNA, solar illuminance constant about 128 to 134 klx)."""
HEIGHT, WIDTH = 256, 512
"""Size of the sky's panorama in pixels."""
GROUND_ALBEDO = 0.2
"""Albedo of the ground below the horizon."""
_ZENITH_X = np.array([[0.00166, -0.00375, 0.00209, 0.0], [-0.02903, 0.06377, -0.03202, 0.00394], [0.11693, -0.21196, 0.06052, 0.25886]])
_ZENITH_Y = np.array([[0.00275, -0.00610, 0.00317, 0.0], [-0.04214, 0.08970, -0.04153, 0.00516], [0.15346, -0.26756, 0.06670, 0.26688]])
_PEREZ = {  # A to E as slope and offset in turbidity
    "Y": ((0.1787, -1.4630), (-0.3554, 0.4275), (-0.0227, 5.3251), (0.1206, -2.5771), (-0.0670, 0.3703)),
    "x": ((-0.0193, -0.2592), (-0.0665, 0.0008), (-0.0004, 0.2125), (-0.0641, -0.8989), (-0.0033, 0.0452)),
    "y": ((-0.0167, -0.2608), (-0.0950, 0.0092), (-0.0079, 0.2102), (-0.0441, -1.6537), (-0.0109, 0.0529)),
}


@dataclass(frozen=True)
class Daylight:
    """towards_sun: unit vector, y up; elevation in degrees; sky: float32 [HEIGHT, WIDTH, 4] radiance in nits;
    sun: irradiance of a surface facing it, in Rec.709 with luminance in lux."""

    towards_sun: np.ndarray
    elevation: float
    sky: np.ndarray
    sun: Colour


def sun_position(latitude: float, longitude: float, moment: str) -> tuple[float, float]:
    """(elevation, azimuth from north through east) of the sun in degrees. Raises InputError."""
    from astral import Observer
    from astral.sun import azimuth, elevation

    try:
        when = datetime.fromisoformat(moment)
    except ValueError:
        raise InputError(f"The moment “{moment}” can't be read; write it like 2026-06-21T12:00+00:00.") from None
    if when.tzinfo is None:
        raise InputError(f"The moment “{moment}” has no time zone; write it like {when.isoformat(timespec='minutes')}+00:00.")
    place = Observer(latitude, longitude)
    return float(elevation(place, when, with_refraction=True)), float(azimuth(place, when))


def direction(elevation: float, azimuth: float, north: float = 0.0) -> np.ndarray:
    """Unit vector, y up, north at -z turned by `north` degrees towards +x; angles in degrees."""
    e, a = math.radians(elevation), math.radians(azimuth + north)
    return np.array([math.cos(e) * math.sin(a), math.sin(e), -math.cos(e) * math.cos(a)])


def perez(channel: str, turbidity: float, theta: np.ndarray, gamma: np.ndarray) -> np.ndarray:
    """Perez' distribution F of a channel Y, x or y: theta from the zenith, gamma from the sun (Preetham et al., eq. 3)."""
    a, b, c, d, e = (slope * turbidity + offset for slope, offset in _PEREZ[channel])
    cos = np.maximum(np.cos(theta), 0.01)
    return (1.0 + a * np.exp(b / cos)) * (1.0 + c * np.exp(d * gamma) + e * np.cos(gamma) ** 2)


def zenith(turbidity: float, theta_sun: float) -> tuple[float, float, float]:
    """(luminance in nits, x, y) at the zenith, the sun `theta_sun` radians from it (Preetham et al., section A.2)."""
    chi = (4.0 / 9.0 - turbidity / 120.0) * (math.pi - 2.0 * theta_sun)
    luminance = (4.0453 * turbidity - 4.9710) * math.tan(chi) - 0.2155 * turbidity + 2.4192
    powers, t = np.array([theta_sun**3, theta_sun**2, theta_sun, 1.0]), np.array([turbidity**2, turbidity, 1.0])
    return 1000.0 * max(luminance, 0.0), float(t @ _ZENITH_X @ powers), float(t @ _ZENITH_Y @ powers)


def sky_xyY(turbidity: float, theta_sun: float, theta: np.ndarray, gamma: np.ndarray) -> np.ndarray:
    """float64 [..., 3]: x, y and luminance in nits of the sky, theta from the zenith and gamma from the sun."""
    luminance, x, y = zenith(turbidity, theta_sun)
    values = []
    for channel, at_zenith in (("x", x), ("y", y), ("Y", luminance)):
        there = perez(channel, turbidity, np.zeros(1), np.full(1, theta_sun))[0]
        values.append(at_zenith * perez(channel, turbidity, theta, gamma) / there)
    return np.stack(values, axis=-1)


def sun_irradiance(turbidity: float, elevation: float) -> Colour:
    """Irradiance of a surface that faces the sun, its luminance in lux (Preetham et al., section A.1)."""
    if elevation <= 0.0:
        return 0.0, 0.0, 0.0
    zenith_degrees = 90.0 - elevation
    mass = 1.0 / (math.cos(math.radians(zenith_degrees)) + 0.15 * (93.885 - zenith_degrees) ** -1.253)
    micrometres = WAVELENGTHS / 1000.0
    rayleigh = np.exp(-0.008735 * micrometres**-4.08 * mass)
    aerosol = np.exp(-(0.04608 * turbidity - 0.04586) * micrometres**-1.3 * mass)
    outside = planck(5778.0)
    xyz = spectrum_to_xyz(outside * rayleigh * aerosol) * (OUTSIDE / spectrum_to_xyz(outside)[1])
    r, g, b = np.maximum(xyz_to_rgb(xyz), 0.0)
    return float(r), float(g), float(b)


def daylight(latitude: float, longitude: float, moment: str, turbidity: float = 3.0, north: float = 0.0) -> Daylight:
    """Sky and sun at a place and time. Raises InputError when the moment can't be read or the sun is not up."""
    elevation, azimuth = sun_position(latitude, longitude, moment)
    if elevation < 0.0:
        raise InputError(f"At {moment} the sun is {-elevation:.1f}° below the horizon; this sky is for daytime, so give another moment.")
    sun = direction(elevation, azimuth, north)
    latitude_of_row = np.pi * (0.5 - (np.arange(HEIGHT) + 0.5) / HEIGHT)
    longitude_of_column = np.pi * (1.0 - 2.0 * (np.arange(WIDTH) + 0.5) / WIDTH)
    up, turn = np.meshgrid(latitude_of_row, longitude_of_column, indexing="ij")
    d = np.stack([np.sin(turn) * np.cos(up), np.sin(up), np.cos(turn) * np.cos(up)], axis=-1)
    gamma = np.arccos(np.clip(d @ sun, -1.0, 1.0))
    xyy = sky_xyY(turbidity, math.radians(90.0 - elevation), np.minimum(np.pi / 2.0 - up, np.pi / 2.0 - 1e-3), gamma)
    x, y, luminance = (xyy[..., k] for k in range(3))
    xyz = np.stack([x / y * luminance, luminance, (1.0 - x - y) / y * luminance], axis=-1)
    rgb = np.maximum(xyz_to_rgb(xyz), 0.0)
    above = up > 0.0
    irradiance_sun = sun_irradiance(turbidity, elevation)
    solid = np.cos(up) * (np.pi / HEIGHT) * (2.0 * np.pi / WIDTH)
    sky_on_ground = (rgb * (solid * np.maximum(d[..., 1], 0.0))[..., None])[above].sum(axis=0)
    ground = GROUND_ALBEDO / math.pi * (sky_on_ground + np.array(irradiance_sun) * max(sun[1], 0.0))
    picture = np.ones((HEIGHT, WIDTH, 4), np.float32)
    picture[..., :3] = np.where(above[..., None], rgb, ground)
    return Daylight(sun, elevation, picture, irradiance_sun)
