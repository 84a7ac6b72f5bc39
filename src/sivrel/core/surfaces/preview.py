"""The surface model: a diffuse base under a GGX layer, or metal, blended by `metallic`, all of it under a clear coat
(UsdPreviewSurface 2.6); or glass.

Directions are in the frame of the surface, z along the shading normal, both on the same side but through glass. The opaque
model is reciprocal and reflects all light when its colours are white: the diffuse base and light that bounces more
than once between microfacets are weighted by the energy the glossy layer leaves (Kulla & Conty 2017, sections "Diffuse" and
"Energy"), and everything under the coat by what the coat leaves.
"""

import math
from typing import NamedTuple

from ..kernel import called_kernel, kernel
from ..vector import add, luminance, multiply, scale
from .albedo import average_albedo, directional_albedo
from .ggx import alpha_of, distribution, masking_shadowing, sample_visible_normal, visible_normal_density
from .glass import evaluate_glass, kept_by_one_bounce, sample_glass

INVERSE_PI = 1.0 / math.pi
COAT_F0 = 0.04
"""Reflectance of the clear coat at normal incidence: that of lacquer with index 1.5."""
ROUGH = 0.4
"""Least roughness of wide gloss: its brightest direction is then about twelve times as bright as a diffuse surface."""
BASE, GLOSS, GLASS = 0, 1, 2
"""What scattered a ray: the diffuse base; the glossy layer, metal or coat; glass."""


class Look(NamedTuple):
    """The model's parameters at one point.

    base, roughness, metallic, ior: as in UsdPreviewSurface; an ior of 1 means no glossy layer
    specular: reflectance at normal incidence that replaces ior and metallic, if `by_specular` is set
    coat, coat_roughness: strength and roughness of the clear coat
    """

    base: tuple
    roughness: float
    metallic: float
    ior: float
    by_specular: bool
    specular: tuple
    coat: float
    coat_roughness: float


class Scattering(NamedTuple):
    """The model evaluated at one point, for one viewing direction.

    diffuse: colour of the base times its share; f0: reflectance of the layer at normal incidence; glossy: any layer
    roughness, alpha: width of the layer, or of glass
    many: strength of light after many microfacet bounces; its part over the base, as a number, is base_many
    base_f0: reflectance at normal incidence of the clear layer over the base
    left_o, left_average: share of light that this clear layer lets through towards the eye, and on average
    escape_o, escape_average: 1 - E towards the eye, and on average
    coat, coat_roughness, coat_left_o, coat_left_average: strength of the coat, and what it lets through, as above
    gloss_chance, coat_chance: probability of sampling these lobes
    base_rays, gloss_rays, coat_rays: how many rays each lobe is sampled with, on average
    guided: share of the base's directions that are drawn from the guide
    eta: relative refractive index of the other side, 0 for anything but glass; raised: see `glass.evaluate_glass`
    """

    diffuse: tuple
    f0: tuple
    glossy: bool
    roughness: float
    alpha: float
    multiscatter: tuple
    base_f0: float
    base_multiscatter: float
    left_o: float
    left_average: float
    escape_o: float
    escape_average: float
    coat: float
    coat_roughness: float
    coat_left_o: float
    coat_left_average: float
    gloss_chance: float
    coat_chance: float
    base_rays: float
    gloss_rays: float
    coat_rays: float
    guided: float
    eta: float
    raised: float


@kernel
def _multiscatter(f0, e_average):
    """Colour of light after many microfacet bounces (Kulla & Conty 2017, with Turquin's squared average)."""
    f = f0 + (1.0 - f0) / 21.0
    return f * f * e_average / (1.0 - f * (1.0 - e_average))


@kernel
def glass_at(roughness, eta, rays, cos_o):
    """The model for a boundary of glass seen at cosine `cos_o`, sampled with `rays` rays."""
    black = (0.0, 0.0, 0.0)
    return Scattering(
        black, black, True, roughness, alpha_of(roughness), black, 0.0, 0.0, 1.0, 1.0, 1.0, 1.0, 0.0, 0.0, 1.0, 1.0, 1.0, 0.0,
        0.0, rays, 0.0, 0.0, eta, 1.0 / kept_by_one_bounce(cos_o, roughness, eta),
    )  # fmt: skip


@called_kernel
def scattering_at(look, base_rays, gloss_rays, guided, cos_o):
    """The model for a surface of the given `Look` seen at cosine `cos_o`. It is sampled with this many rays by its base and by
    its gloss, or, if both are 0, with one ray drawn from all lobes; `guided` is the share of the base's directions drawn from the guide."""
    metal = 0.0 if look.by_specular else min(max(look.metallic, 0.0), 1.0)
    coat = min(max(look.coat, 0.0), 1.0)
    layered = look.ior > 1.0 or metal > 0.0 or look.by_specular
    base, roughness = look.base, look.roughness
    diffuse, black = scale(base, 1.0 - metal), (0.0, 0.0, 0.0)
    coat_e = coat_e_average = 0.0
    if coat > 0.0:
        a, b = directional_albedo(cos_o, look.coat_roughness)
        a_average, b_average = average_albedo(look.coat_roughness)
        coat_e, coat_e_average = coat * (COAT_F0 * a + b), coat * (COAT_F0 * a_average + b_average)
    f0, multiscatter, base_f0, base_multiscatter = black, black, 0.0, 0.0
    left_o, left_average, escape_o, escape_average = 1.0, 1.0, 1.0, 1.0
    gloss, rest = 0.0, luminance(diffuse)
    if layered:
        specular = look.specular
        base_f0 = ((look.ior - 1.0) / (look.ior + 1.0)) ** 2
        if look.by_specular:
            f0 = specular
            base_f0 = max(specular[0], specular[1], specular[2])
        else:
            clear = (1.0 - metal) * base_f0
            f0 = add(scale(base, metal), (clear, clear, clear))
        a, b = directional_albedo(cos_o, roughness)
        a_average, b_average = average_albedo(roughness)
        escape_o, escape_average = 1.0 - (a + b), max(1e-9, 1.0 - (a_average + b_average))
        e_average = a_average + b_average
        base_multiscatter = _multiscatter(base_f0, e_average)
        if look.by_specular:
            multiscatter = (_multiscatter(specular[0], e_average), _multiscatter(specular[1], e_average), _multiscatter(specular[2], e_average))
        else:
            clear = (1.0 - metal) * base_multiscatter
            multiscatter = (
                metal * _multiscatter(base[0], e_average) + clear,
                metal * _multiscatter(base[1], e_average) + clear,
                metal * _multiscatter(base[2], e_average) + clear,
            )
        left_o = 1.0 - (base_f0 * a + b + base_multiscatter * escape_o)
        left_average = max(1e-9, 1.0 - (base_f0 * a_average + b_average + base_multiscatter * escape_average))
        gloss = luminance(f0) * a + b
        rest = luminance(multiscatter) * escape_o + luminance(diffuse) * left_o
    gloss, rest = (1.0 - coat_e) * gloss, (1.0 - coat_e) * rest
    total = max(1e-9, coat_e + gloss + rest)
    gloss_chance, coat_chance = gloss / total, coat_e / total
    if not layered and coat <= 0.0:
        gloss_chance = coat_chance = 0.0
    n_base, n_gloss, n_coat = 1.0 - gloss_chance - coat_chance, gloss_chance, coat_chance
    if base_rays + gloss_rays > 0.0:
        shiny = gloss_chance + coat_chance
        n_base = base_rays
        n_gloss = gloss_rays * gloss_chance / shiny if shiny > 0.0 else 0.0
        n_coat = gloss_rays * coat_chance / shiny if shiny > 0.0 else 0.0
    return Scattering(
        diffuse, f0, layered, roughness, alpha_of(roughness), multiscatter, base_f0, base_multiscatter, left_o, left_average, escape_o,
        escape_average, coat, look.coat_roughness, 1.0 - coat_e, max(1e-9, 1.0 - coat_e_average), gloss_chance, coat_chance,
        n_base, n_gloss, n_coat, guided, 0.0, 1.0,
    )  # fmt: skip


@kernel
def is_rough(look):
    """Whether all gloss of a surface is wide, so that its light can be found like that of a diffuse one."""
    return is_wide(look, ROUGH)


@kernel
def is_wide(look, least):
    """Whether all gloss of a surface is at least as wide as that of a roughness of `least`."""
    layered = look.ior > 1.0 or look.metallic > 0.0 or look.by_specular
    return (not layered or look.roughness >= least) and (look.coat <= 0.0 or look.coat_roughness >= least)


@kernel
def with_base(s, share):
    """The model with a part of its base, a colour; it is sampled as before."""
    return Scattering(
        multiply(s.diffuse, share), s.f0, s.glossy, s.roughness, s.alpha, s.multiscatter, s.base_f0, s.base_multiscatter, s.left_o, s.left_average,
        s.escape_o, s.escape_average, s.coat, s.coat_roughness, s.coat_left_o, s.coat_left_average, s.gloss_chance, s.coat_chance, s.base_rays,
        s.gloss_rays, s.coat_rays, s.guided, s.eta, s.raised,
    )  # fmt: skip


@kernel
def evaluate_parts(s, wo, wi, by_guide):
    """(f cos_i of the base, f cos_i of glossy layer and coat or of glass, density of sampling `wi` per steradian, times the
    number of rays). `by_guide`: the density of the guide along `wi`."""
    cos_o, cos_i = wo[2], wi[2]
    black = (0.0, 0.0, 0.0)
    if s.eta > 0.0:
        value, density = evaluate_glass(wo, wi, s.alpha, s.eta, s.raised)
        return black, (value, value, value), s.gloss_rays * density
    if cos_o <= 0.0 or cos_i <= 0.0:
        return black, black, 0.0
    lambert = cos_i * INVERSE_PI
    density = s.base_rays * (lambert + s.guided * (by_guide - lambert))
    hx, hy, hz = wo[0] + wi[0], wo[1] + wi[1], wo[2] + wi[2]
    length = math.sqrt(hx * hx + hy * hy + hz * hz)
    cos_h, o_dot_h = hz / length, (wo[0] * hx + wo[1] * hy + wo[2] * hz) / length
    schlick = (1.0 - o_dot_h) ** 5
    base, gloss = scale(s.diffuse, lambert), black
    if s.glossy:
        a, b = directional_albedo(cos_i, s.roughness)
        escape_i = 1.0 - (a + b)
        gloss = scale(s.multiscatter, s.escape_o * escape_i / s.escape_average * lambert)
        left_i = 1.0 - (s.base_f0 * a + b + s.base_multiscatter * escape_i)
        base = scale(base, s.left_o * left_i / s.left_average)
        common = distribution(cos_h, s.alpha) * masking_shadowing(cos_o, cos_i, s.alpha) / (4.0 * cos_o)
        fresnel = add(scale(s.f0, 1.0 - schlick), (schlick, schlick, schlick))
        gloss = add(gloss, scale(fresnel, common))
        density += s.gloss_rays * visible_normal_density(cos_o, cos_h, o_dot_h, s.alpha) / (4.0 * o_dot_h)
    if s.coat > 0.0:
        a, b = directional_albedo(cos_i, s.coat_roughness)
        left_i, alpha = 1.0 - s.coat * (COAT_F0 * a + b), alpha_of(s.coat_roughness)
        base = scale(base, s.coat_left_o * left_i / s.coat_left_average)
        # A narrow lobe under the coat crosses it at like angles twice: the lesser share keeps it from giving light.
        gloss = scale(gloss, min(s.coat_left_o, left_i))
        coat = s.coat * (COAT_F0 + (1.0 - COAT_F0) * schlick)
        coat *= distribution(cos_h, alpha) * masking_shadowing(cos_o, cos_i, alpha) / (4.0 * cos_o)
        gloss = add(gloss, (coat, coat, coat))
        density += s.coat_rays * visible_normal_density(cos_o, cos_h, o_dot_h, alpha) / (4.0 * o_dot_h)
    return base, gloss, density


@kernel
def evaluate(s, wo, wi):
    """Without a guide: (f cos_i as a colour, density of sampling `wi` per steradian)."""
    base, gloss, density = evaluate_parts(s, wo, wi, 0.0)
    return add(base, gloss), density


@kernel
def sample_direction(s, wo, choice, u, v):
    """A sampled direction and its lobe, BASE, GLOSS or GLASS; z at or, except for glass, below 0 means that
    nothing is scattered. `choice` in [0, 1) picks the lobe: the lowest numbers the coat, then gloss, then the base."""
    if s.eta > 0.0:
        return sample_glass(wo, s.alpha, s.eta, choice, u, v), GLASS
    if choice < s.coat_chance + s.gloss_chance:
        alpha = alpha_of(s.coat_roughness) if choice < s.coat_chance else s.alpha
        h = sample_visible_normal(wo, alpha, u, v)
        d = 2.0 * (wo[0] * h[0] + wo[1] * h[1] + wo[2] * h[2])
        return (d * h[0] - wo[0], d * h[1] - wo[1], d * h[2] - wo[2]), GLOSS
    r, phi = math.sqrt(u), 2.0 * math.pi * v
    return (r * math.cos(phi), r * math.sin(phi), math.sqrt(max(0.0, 1.0 - u))), BASE
