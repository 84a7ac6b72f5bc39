"""The colour of a glowing body, and colours from spectra.

Planck's law through the CIE 1931 colour matching functions in the analytic fit of Wyman, Sloan & Shirley 2013, "Simple
Analytic Approximations to the CIE XYZ Color Matching Functions" (multi-lobe fit), to linear Rec.709 (ITU-R BT.709-6).
"""

import functools

import numpy as np

WAVELENGTHS = np.arange(380.0, 781.0, 5.0)
"""Wavelengths of spectra, in nanometres."""
XYZ_TO_RGB = np.array(
    [[3.2404542, -1.5371385, -0.4985314], [-0.9692660, 1.8760108, 0.0415560], [0.0556434, -0.2040259, 1.0572252]]
)  # fmt: skip
"""Of the Rec.709 primaries with white D65."""
SECOND_RADIATION = 1.438776877e7
"""Planck's second constant in nanometre kelvin (CODATA 2018)."""


def _lobe(wavelength: np.ndarray, centre: float, below: float, above: float) -> np.ndarray:
    t = (wavelength - centre) * np.where(wavelength < centre, below, above)
    return np.exp(-0.5 * t * t)


@functools.cache
def matching_functions() -> np.ndarray:
    """float64 [wavelengths, 3]: x, y, z of the 1931 observer at WAVELENGTHS."""
    w = WAVELENGTHS
    x = 0.362 * _lobe(w, 442.0, 0.0624, 0.0374) + 1.056 * _lobe(w, 599.8, 0.0264, 0.0323) - 0.065 * _lobe(w, 501.1, 0.0490, 0.0382)
    y = 0.821 * _lobe(w, 568.8, 0.0213, 0.0247) + 0.286 * _lobe(w, 530.9, 0.0613, 0.0322)
    z = 1.217 * _lobe(w, 437.0, 0.0845, 0.0278) + 0.681 * _lobe(w, 459.0, 0.0385, 0.0725)
    return np.stack([x, y, z], axis=1)


def planck(temperature: float) -> np.ndarray:
    """Spectral radiance of a black body at WAVELENGTHS, in arbitrary units; temperature in kelvin."""
    w = WAVELENGTHS
    return (560.0 / w) ** 5 / np.expm1(SECOND_RADIATION / (w * temperature))


def spectrum_to_xyz(spectrum: np.ndarray) -> np.ndarray:
    """XYZ (float64 [3], unscaled) of a spectrum given at WAVELENGTHS."""
    return np.trapezoid(spectrum[:, None] * matching_functions(), WAVELENGTHS, axis=0)


def xyz_to_rgb(xyz: np.ndarray) -> np.ndarray:
    """Linear Rec.709 of XYZ [..., 3]; colours outside the gamut have negative components."""
    return xyz @ XYZ_TO_RGB.T


@functools.lru_cache(maxsize=256)
def blackbody_rgb(temperature: float) -> tuple[float, float, float]:
    """Linear Rec.709 colour of a black body at `temperature` kelvin, of luminance one; no component below zero."""
    xyz = spectrum_to_xyz(planck(temperature))
    rgb = np.maximum(xyz_to_rgb(xyz / xyz[1]), 0.0)
    rgb /= float(rgb @ (0.2126, 0.7152, 0.0722))
    return float(rgb[0]), float(rgb[1]), float(rgb[2])
