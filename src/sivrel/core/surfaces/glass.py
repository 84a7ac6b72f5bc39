"""Glass: a boundary between air and a clear solid, smooth or rough, in the frame of the surface (z up, towards the viewer).

Walter et al. 2007, "Microfacet Models for Refraction through Rough Surfaces", equations 16, 17, 20 and 38, with visible
normals (Heitz 2018). Paths carry basic radiance, that is radiance over the square of the refractive
index (Nicodemus 1963), so a boundary only applies the Fresnel share. One bounce between the microfacets
of a rough boundary loses light; both lobes are scaled up to compensate for it (Turquin 2019, "Practical
Multiple Scattering Compensation for Microfacet Models"). Energy is conserved towards the eye; the model is not reciprocal.

The table of the loss is computed by `python -m sivrel.core.surfaces.glass` and stored beside this file.
"""

import math
from pathlib import Path

import numpy as np

from ..kernel import allocating_kernel, called_kernel, kernel
from ..vector import dot, scale
from .ggx import alpha_of, distribution, masking, masking_shadowing, sample_visible_normal, visible_normal_density

COSINES, ROUGHNESSES, INDICES = 20, 14, 20
LARGEST_INDEX = 3.0
"""Relative indices from one over this to this, evenly in their logarithm."""
QUADRATURE = 64
TAIL = 3
FILE = Path(__file__).with_name("glass.npy")


@kernel
def fresnel(cos, eta):
    """Share of unpolarised light reflected by a boundary at cosine `cos`, seen from the side on which the other side has the
    relative refractive index `eta`."""
    sin2 = (1.0 - cos * cos) / (eta * eta)
    if sin2 >= 1.0:
        return 1.0
    cos_t = math.sqrt(1.0 - sin2)
    s = (cos - eta * cos_t) / (cos + eta * cos_t)
    p = (eta * cos - cos_t) / (eta * cos + cos_t)
    return 0.5 * (s * s + p * p)


@kernel
def pane_reflects(cos, ior):
    """Reflectance of a thin pane: both faces, with all reflections between them (Stokes 1862)."""
    r = fresnel(cos, ior)
    return 2.0 * r / (1.0 + r)


@kernel
def _refract(wo, h, o_dot_h, eta):
    """The refracted direction; its z is 0 for total reflection."""
    sin2 = (1.0 - o_dot_h * o_dot_h) / (eta * eta)
    if sin2 >= 1.0:
        return 0.0, 0.0, 0.0
    along = o_dot_h / eta - math.sqrt(1.0 - sin2)
    return along * h[0] - wo[0] / eta, along * h[1] - wo[1] / eta, along * h[2] - wo[2] / eta


@allocating_kernel
def _integrate(cosines, roughnesses, indices, quadrature):
    """Energy after one bounce, float64 [index, roughness, cosine], by the midpoint rule over visible normals."""
    table = np.empty((indices, roughnesses, cosines))
    for e in range(indices):
        eta = LARGEST_INDEX ** (2.0 * e / (indices - 1) - 1.0)
        for i in range(roughnesses):
            alpha = alpha_of(i / (roughnesses - 1))
            for j in range(cosines):
                cos_o = max(1e-4, (j / (cosines - 1)) ** 2)
                wo = (math.sqrt(1.0 - cos_o * cos_o), 0.0, cos_o)
                kept = weights = 0.0
                for k in range(quadrature):
                    rest = 1.0 - (k + 0.5) / quadrature
                    u, density = 1.0 - rest**TAIL, TAIL * rest ** (TAIL - 1)
                    weights += density * quadrature
                    for l in range(quadrature):
                        h = sample_visible_normal(wo, alpha, u, (l + 0.5) / quadrature)
                        o_dot_h = dot(wo, h)
                        reflected = fresnel(o_dot_h, eta)
                        cos_i = 2.0 * o_dot_h * h[2] - cos_o
                        if cos_i > 0.0:
                            kept += density * reflected * masking_shadowing(cos_o, cos_i, alpha) / masking(cos_o, alpha)
                        through = _refract(wo, h, o_dot_h, eta)
                        if through[2] < 0.0:
                            kept += density * (1.0 - reflected) * masking(-through[2], alpha)
                table[e, i, j] = kept / weights
    return table


def make_table(cosines: int = COSINES, roughnesses: int = ROUGHNESSES, indices: int = INDICES, quadrature: int = QUADRATURE) -> np.ndarray:
    """float64 [index, roughness, cosine]: the share of light left after one bounce between microfacets."""
    return _integrate(cosines, roughnesses, indices, quadrature)


TABLE = np.load(FILE) if FILE.exists() else np.ones((INDICES, ROUGHNESSES, COSINES))


@called_kernel
def kept_by_one_bounce(cos_o, roughness, eta):
    """The share of light left after one bounce, from the table."""
    x = math.sqrt(min(max(cos_o, 0.0), 1.0)) * (COSINES - 1)
    y = min(max(roughness, 0.0), 1.0) * (ROUGHNESSES - 1)
    z = (math.log(eta) / math.log(LARGEST_INDEX) + 1.0) * 0.5 * (INDICES - 1)
    z = min(max(z, 0.0), INDICES - 1.0)
    i, j, k = min(int(x), COSINES - 2), min(int(y), ROUGHNESSES - 2), min(int(z), INDICES - 2)
    total = 0.0
    for corner in range(8):
        di, dj, dk = corner & 1, (corner >> 1) & 1, corner >> 2
        share = (x - i if di else 1.0 - x + i) * (y - j if dj else 1.0 - y + j) * (z - k if dk else 1.0 - z + k)
        total += share * TABLE[k + dk, j + dj, i + di]
    return total


@called_kernel
def evaluate_glass(wo, wi, alpha, eta, raised):
    """(f |cos_i| as a number, density of `sample_glass` per steradian); `raised` is the inverse of the share left after one bounce. wi may
    lie on either side."""
    cos_o, cos_i = wo[2], wi[2]
    if cos_o <= 0.0 or cos_i == 0.0:
        return 0.0, 0.0
    index = 1.0 if cos_i > 0.0 else eta
    h = (wo[0] + index * wi[0], wo[1] + index * wi[1], wo[2] + index * wi[2])
    length = math.sqrt(dot(h, h))
    if length <= 0.0:
        return 0.0, 0.0
    h = scale(h, (1.0 if h[2] > 0.0 else -1.0) / length)
    o_dot_h, i_dot_h = dot(wo, h), dot(wi, h)
    if o_dot_h <= 0.0 or (i_dot_h > 0.0) != (cos_i > 0.0):
        return 0.0, 0.0
    reflected = fresnel(o_dot_h, eta)
    visible = visible_normal_density(cos_o, h[2], o_dot_h, alpha)
    if cos_i > 0.0:
        value = reflected * distribution(h[2], alpha) * masking_shadowing(cos_o, cos_i, alpha) / (4.0 * cos_o)
        return value * raised, reflected * visible / (4.0 * o_dot_h)
    # The half vector turns with the refracted ray (Walter et al. 2007, equation 17, seen from the viewer's side).
    turned = eta * eta * abs(i_dot_h) / (o_dot_h + eta * i_dot_h) ** 2
    density = (1.0 - reflected) * visible * turned
    return density * masking(-cos_i, alpha) * raised, density


@kernel
def glass_reflects(wo, alpha, eta, u, v):
    """Least `choice` with which `sample_glass` refracts."""
    return fresnel(dot(wo, sample_visible_normal(wo, alpha, u, v)), eta)


@kernel
def sample_glass(wo, alpha, eta, choice, u, v):
    """A sampled direction, on either side; z 0 if nothing is scattered."""
    h = sample_visible_normal(wo, alpha, u, v)
    o_dot_h = dot(wo, h)
    if choice < fresnel(o_dot_h, eta):
        d = (2.0 * o_dot_h * h[0] - wo[0], 2.0 * o_dot_h * h[1] - wo[1], 2.0 * o_dot_h * h[2] - wo[2])
        return d if d[2] > 0.0 else (0.0, 0.0, 0.0)
    d = _refract(wo, h, o_dot_h, eta)
    return d if d[2] < 0.0 else (0.0, 0.0, 0.0)


if __name__ == "__main__":
    np.save(FILE, make_table().astype(np.float32))
