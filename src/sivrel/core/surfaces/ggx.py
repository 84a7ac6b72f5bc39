"""The GGX distribution of microfacets with height-correlated Smith shadowing, in the frame of the surface (z up).

Walter et al. 2007, "Microfacet Models for Refraction through Rough Surfaces" (distribution, eq. 33); Heitz 2014,
"Understanding the Masking-Shadowing Function", eq. 99 (height-correlated G2); Heitz 2018, "Sampling the GGX
Distribution of Visible Normals", listing 1.
"""

import math

from ..kernel import kernel
from ..vector import normalize

MIN_ALPHA = 1e-3
"""Smallest width: looks like a mirror, and still has a finite density."""


@kernel
def alpha_of(roughness):
    """Width of the distribution for an artist's roughness (Burley 2012: its square)."""
    return max(roughness * roughness, MIN_ALPHA)


@kernel
def distribution(cos_h, alpha):
    """D(h) per steradian."""
    a2 = alpha * alpha
    # sin² + a² cos² written without cancellation near the pole of a narrow lobe.
    d = 1.0 - cos_h * cos_h + a2 * cos_h * cos_h
    return a2 / (math.pi * d * d)


@kernel
def smith_lambda(cos_v, alpha):
    c2 = cos_v * cos_v
    return 0.5 * (math.sqrt(1.0 + alpha * alpha * max(0.0, 1.0 - c2) / c2) - 1.0)


@kernel
def masking(cos_v, alpha):
    """G1 of one direction."""
    return 1.0 / (1.0 + smith_lambda(cos_v, alpha))


@kernel
def masking_shadowing(cos_o, cos_i, alpha):
    """Height-correlated G2 of two directions."""
    return 1.0 / (1.0 + smith_lambda(cos_o, alpha) + smith_lambda(cos_i, alpha))


@kernel
def sample_visible_normal(wo, alpha, u, v):
    """A microfacet normal with the density D(h) G1(wo) max(0, wo.h) / cos(wo)."""
    vh = normalize((alpha * wo[0], alpha * wo[1], wo[2]))
    length2 = vh[0] * vh[0] + vh[1] * vh[1]
    if length2 > 0.0:
        inverse = 1.0 / math.sqrt(length2)
        t1 = (-vh[1] * inverse, vh[0] * inverse, 0.0)
    else:
        t1 = (1.0, 0.0, 0.0)
    t2 = (
        vh[1] * t1[2] - vh[2] * t1[1],
        vh[2] * t1[0] - vh[0] * t1[2],
        vh[0] * t1[1] - vh[1] * t1[0],
    )
    r, phi = math.sqrt(u), 2.0 * math.pi * v
    p1, p2 = r * math.cos(phi), r * math.sin(phi)
    s = 0.5 * (1.0 + vh[2])
    p2 = (1.0 - s) * math.sqrt(max(0.0, 1.0 - p1 * p1)) + s * p2
    p3 = math.sqrt(max(0.0, 1.0 - p1 * p1 - p2 * p2))
    nh = (
        p1 * t1[0] + p2 * t2[0] + p3 * vh[0],
        p1 * t1[1] + p2 * t2[1] + p3 * vh[1],
        p1 * t1[2] + p2 * t2[2] + p3 * vh[2],
    )
    return normalize((alpha * nh[0], alpha * nh[1], max(1e-12, nh[2])))


@kernel
def visible_normal_density(cos_o, cos_h, o_dot_h, alpha):
    """Density of `sample_visible_normal` per steradian of h."""
    return distribution(cos_h, alpha) * masking(cos_o, alpha) * max(0.0, o_dot_h) / cos_o
