"""Directional albedo of a GGX layer: the table that conserves energy in the surface model.

One bounce between microfacets loses energy on rough surfaces. Kulla & Conty 2017, "Revisiting Physically Based Shading",
give it back in a second, diffuse-like lobe that needs the directional albedo of the first. With Schlick's Fresnel term
the albedo is linear in the reflectance at normal incidence: E = F0 A + B (Karis 2013, "Real Shading").

The table is computed by `python -m sivrel.core.surfaces.albedo` and stored beside this file.
"""

from pathlib import Path

import numpy as np

from ..kernel import allocating_kernel, kernel
from .ggx import alpha_of, masking, masking_shadowing, sample_visible_normal

SIZE = 80
"""Nodes per axis: square root of the cosine (finer near grazing), and roughness."""
QUADRATURE = 384
TAIL = 5
FILE = Path(__file__).with_name("albedo.npy")


@allocating_kernel
def _integrate(size, quadrature):
    """A and B at every node, float64 [roughness, cosine, 2], by the midpoint rule over visible normals."""
    table = np.empty((size, size, 2), np.float64)
    for i in range(size):
        alpha = alpha_of(i / (size - 1))
        for j in range(size):
            cos_o = max(1e-4, (j / (size - 1)) ** 2)
            wo = (np.sqrt(1.0 - cos_o * cos_o), 0.0, cos_o)
            a = b = 0.0
            for k in range(quadrature):
                # Finer towards u = 1: the long tail of a narrow lobe is there, part of which leaves the hemisphere.
                rest = 1.0 - (k + 0.5) / quadrature
                u, density = 1.0 - rest**TAIL, TAIL * rest ** (TAIL - 1)
                for l in range(quadrature):
                    h = sample_visible_normal(wo, alpha, u, (l + 0.5) / quadrature)
                    o_dot_h = wo[0] * h[0] + wo[1] * h[1] + wo[2] * h[2]
                    cos_i = 2.0 * o_dot_h * h[2] - cos_o
                    if cos_i <= 0.0:
                        continue
                    weight = density * masking_shadowing(cos_o, cos_i, alpha) / masking(cos_o, alpha)
                    schlick = (1.0 - o_dot_h) ** 5
                    a += weight * (1.0 - schlick)
                    b += weight * schlick
            table[i, j, 0], table[i, j, 1] = a / quadrature**2, b / quadrature**2
    return table


def make_table(size: int = SIZE, quadrature: int = QUADRATURE) -> np.ndarray:
    """float64 [roughness, cosine + 1, 2] of A and B; the last column holds their averages over the hemisphere,
    2 times the integral of E(mu) mu, with mu = s² so that d mu = 2 s d s."""
    table = _integrate(size, quadrature)
    s = np.linspace(0.0, 1.0, 2001)
    nodes = np.linspace(0.0, 1.0, size)
    average = np.empty((size, 1, 2))
    for i in range(size):
        for c in range(2):
            e = np.interp(s, nodes, table[i, :, c])
            average[i, 0, c] = np.trapezoid(2.0 * e * s**2 * 2.0 * s, s)
    return np.concatenate([table, average], axis=1)


TABLE = np.load(FILE) if FILE.exists() else np.zeros((SIZE, SIZE + 1, 2))


@kernel
def directional_albedo(cos_v, roughness):
    """(A, B) of the GGX layer for light from a direction at cosine `cos_v`."""
    x = min(max(roughness, 0.0), 1.0) * (SIZE - 1)
    y = np.sqrt(min(max(cos_v, 0.0), 1.0)) * (SIZE - 1)
    i, j = min(int(x), SIZE - 2), min(int(y), SIZE - 2)
    fx, fy = x - i, y - j
    w00, w01, w10, w11 = (1.0 - fx) * (1.0 - fy), (1.0 - fx) * fy, fx * (1.0 - fy), fx * fy
    a = w00 * TABLE[i, j, 0] + w01 * TABLE[i, j + 1, 0] + w10 * TABLE[i + 1, j, 0] + w11 * TABLE[i + 1, j + 1, 0]
    b = w00 * TABLE[i, j, 1] + w01 * TABLE[i, j + 1, 1] + w10 * TABLE[i + 1, j, 1] + w11 * TABLE[i + 1, j + 1, 1]
    return a, b


@kernel
def average_albedo(roughness):
    """(A, B) averaged over the hemisphere."""
    x = min(max(roughness, 0.0), 1.0) * (SIZE - 1)
    i = min(int(x), SIZE - 2)
    f = x - i
    a = (1.0 - f) * TABLE[i, SIZE, 0] + f * TABLE[i + 1, SIZE, 0]
    b = (1.0 - f) * TABLE[i, SIZE, 1] + f * TABLE[i + 1, SIZE, 1]
    return a, b


if __name__ == "__main__":
    np.save(FILE, make_table())
