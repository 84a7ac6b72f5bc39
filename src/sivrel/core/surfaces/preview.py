"""The surface model: a diffuse base under a GGX layer, or metal, blended by `metallic` (UsdPreviewSurface 2.6).

Directions are in the frame of the surface, z along the shading normal, both on the same side. The model is reciprocal
and reflects all light when its colours are white: the diffuse base and the light that bounces more than once between
microfacets are weighted by what the glossy layer leaves (Kulla & Conty 2017, sections "Diffuse" and "Energy").
"""

import math
from typing import NamedTuple

from ..kernel import kernel
from ..vector import add, luminance, scale
from .albedo import average_albedo, directional_albedo
from .ggx import alpha_of, distribution, masking_shadowing, sample_visible_normal, visible_normal_density

INVERSE_PI = 1.0 / math.pi


class Scattering(NamedTuple):
    """The model at one point, seen from one direction.

    diffuse: colour of the base times its share; f0: reflectance of the layer at normal incidence; glossy: any layer
    roughness, alpha: width of the layer
    many: strength of light after many microfacet bounces; its part over the base, as a number, is base_many
    base_f0: reflectance at normal incidence of the clear layer over the base
    left_o, left_average: share of light that this clear layer lets through towards the eye, and on average
    escape_o, escape_average: 1 - E towards the eye, and on average
    chance: probability of sampling the layer's lobe
    """

    diffuse: tuple
    f0: tuple
    glossy: bool
    roughness: float
    alpha: float
    many: tuple
    base_f0: float
    base_many: float
    left_o: float
    left_average: float
    escape_o: float
    escape_average: float
    chance: float


@kernel
def _many_bounces(f0, e_average):
    """Colour of light after many microfacet bounces (Kulla & Conty 2017, with Turquin's squared average)."""
    f = f0 + (1.0 - f0) / 21.0
    return f * f * e_average / (1.0 - f * (1.0 - e_average))


@kernel
def scattering_at(base, roughness, metallic, ior, cos_o):
    """The model for a surface of linear colour `base` seen at cosine `cos_o`."""
    metal = min(max(metallic, 0.0), 1.0)
    layered = ior > 1.0 or metal > 0.0
    diffuse = scale(base, 1.0 - metal)
    black = (0.0, 0.0, 0.0)
    if not layered:
        return Scattering(diffuse, black, False, 1.0, 1.0, black, 0.0, 0.0, 1.0, 1.0, 1.0, 1.0, 0.0)
    base_f0 = ((ior - 1.0) / (ior + 1.0)) ** 2
    clear = (1.0 - metal) * base_f0
    f0 = add(scale(base, metal), (clear, clear, clear))
    a, b = directional_albedo(cos_o, roughness)
    a_average, b_average = average_albedo(roughness)
    escape_o, escape_average = 1.0 - (a + b), max(1e-9, 1.0 - (a_average + b_average))
    e_average = a_average + b_average
    base_many = _many_bounces(base_f0, e_average)
    clear = (1.0 - metal) * base_many
    many = (
        metal * _many_bounces(base[0], e_average) + clear,
        metal * _many_bounces(base[1], e_average) + clear,
        metal * _many_bounces(base[2], e_average) + clear,
    )
    left_o = 1.0 - (base_f0 * a + b + base_many * escape_o)
    left_average = max(1e-9, 1.0 - (base_f0 * a_average + b_average + base_many * escape_average))
    gloss = luminance(f0) * a + b
    rest = luminance(many) * escape_o + luminance(diffuse) * left_o
    chance = gloss / max(1e-9, gloss + rest)
    return Scattering(
        diffuse, f0, True, roughness, alpha_of(roughness), many, base_f0, base_many, left_o, left_average,
        escape_o, escape_average, chance,
    )  # fmt: skip


@kernel
def evaluate_parts(s, wo, wi):
    """(f cos_i of the base, f cos_i of the glossy layer, density of sampling `wi` per steradian)."""
    cos_o, cos_i = wo[2], wi[2]
    black = (0.0, 0.0, 0.0)
    if cos_o <= 0.0 or cos_i <= 0.0:
        return black, black, 0.0
    lambert = cos_i * INVERSE_PI
    if not s.glossy:
        return scale(s.diffuse, lambert), black, lambert
    a, b = directional_albedo(cos_i, s.roughness)
    escape_i = 1.0 - (a + b)
    rough = s.escape_o * escape_i / s.escape_average * lambert
    gloss = scale(s.many, rough)
    left_i = 1.0 - (s.base_f0 * a + b + s.base_many * escape_i)
    base = scale(s.diffuse, s.left_o * left_i / s.left_average * lambert)
    density = (1.0 - s.chance) * lambert
    hx, hy, hz = wo[0] + wi[0], wo[1] + wi[1], wo[2] + wi[2]
    length = math.sqrt(hx * hx + hy * hy + hz * hz)
    if length > 0.0:
        cos_h = hz / length
        o_dot_h = (wo[0] * hx + wo[1] * hy + wo[2] * hz) / length
        if o_dot_h > 0.0:
            schlick = (1.0 - o_dot_h) ** 5
            common = distribution(cos_h, s.alpha) * masking_shadowing(cos_o, cos_i, s.alpha) / (4.0 * cos_o)
            fresnel = add(scale(s.f0, 1.0 - schlick), (schlick, schlick, schlick))
            gloss = add(gloss, scale(fresnel, common))
            density += s.chance * visible_normal_density(cos_o, cos_h, o_dot_h, s.alpha) / (4.0 * o_dot_h)
    return base, gloss, density


@kernel
def evaluate(s, wo, wi):
    """(f cos_i as a colour, density of sampling `wi` per steradian)."""
    base, gloss, density = evaluate_parts(s, wo, wi)
    return add(base, gloss), density


@kernel
def sample_direction(s, wo, choice, u, v):
    """A direction to follow and whether the glossy lobe gave it; z <= 0 means that nothing is scattered."""
    if choice < s.chance:
        h = sample_visible_normal(wo, s.alpha, u, v)
        d = 2.0 * (wo[0] * h[0] + wo[1] * h[1] + wo[2] * h[2])
        return (d * h[0] - wo[0], d * h[1] - wo[1], d * h[2] - wo[2]), True
    r, phi = math.sqrt(u), 2.0 * math.pi * v
    return (r * math.cos(phi), r * math.sin(phi), math.sqrt(max(0.0, 1.0 - u))), False
