"""Scattering at a hit: opaque, a pane, or the boundary of solid glass. Used by paths, photons and radiosity's rays."""

from typing import NamedTuple

from ..guide.directions import guided_density, guided_direction
from ..guide.regions import LOBES, NOWHERE, SHARE, region_at
from ..kernel import kernel
from ..scene.arrays import GUIDE, SEE_THROUGH, SOLID
from ..vector import add, dot, frame, part_of, scale, to_local, to_world
from .next_surface import CLEAR
from .preview import BASE, Look, evaluate_parts, glass_at, sample_direction, scattering_at


class Shading(NamedTuple):
    """A point that scatters light: its `SurfacePoint`, the row of its object, its `Scattering`, the axes x and y of its
    frame about the normal, the direction to the viewer in that frame, and its region of the guide."""

    point: tuple
    row: int
    scattering: tuple
    x: tuple
    y: tuple
    wo: tuple
    region: int


class Scattered(NamedTuple):
    """A ray that leaves a point. direction: of unit length, in the world; lobe: what scattered it; value: f times cosine, with gloss and gloss_share
    the glossy part of that; density: of sampling it, per steradian, times the number of rays; side: its cosine with the geometric normal; through:
    whether it continues behind the surface; leaves: whether it is valid."""

    direction: tuple
    lobe: int
    value: tuple
    gloss: tuple
    gloss_share: tuple
    density: float
    side: float
    through: bool
    leaves: bool


@kernel
def scattering_met(scene, kind, point, base_rays, gloss_rays, guided, cos_o):
    """(whether it is solid glass, the model) of a point hit as `kind` and seen at cosine `cos_o`; sampled with this many rays by base and by
    gloss, or, if both are 0, with one drawn from all lobes (see `scattering_at`); `guided`:
    the share of the base's directions drawn from the guide."""
    glass = kind == CLEAR and scene.surfaces[point.surface, SEE_THROUGH] == SOLID
    look = point.look
    if glass:
        scattering = glass_at(look.roughness, look.ior if point.front else 1.0 / look.ior, gloss_rays if gloss_rays > 0.0 else 1.0, cos_o)
    else:
        if kind == CLEAR:  # a pane reflects all that it does not let pass
            look = Look((1.0, 1.0, 1.0), look.roughness, 1.0, look.ior, False, (0.0, 0.0, 0.0), 0.0, 0.0)
        scattering = scattering_at(look, base_rays, gloss_rays, guided, cos_o)
    return glass, scattering


@kernel
def shading_met(scene, row, kind, point, direction, base_rays, gloss_rays, by_guide):
    """(whether it is solid glass, the `Shading`) of a point of the object `row` that a ray along `direction` hit as `kind`; `by_guide`: whether the
    guide may be asked there; the rest as in `scattering_met`."""
    guide, region, guided = scene.prepared[GUIDE], NOWHERE, 0.0
    if by_guide:
        region = region_at(guide, point.position, point.geometric_normal)
        if region != NOWHERE and guide.regions[region, LOBES] > 0.0:
            guided = guide.regions[region, SHARE]
    x, y = frame(point.normal)
    wo = to_local(x, y, point.normal, scale(direction, -1.0))
    glass, scattering = scattering_met(scene, kind, point, base_rays, gloss_rays, guided, wo[2])
    return glass, Shading(point, row, scattering, x, y, wo, region)


@kernel
def scatter(scene, shading, glass, choice, pick, u, v):
    """A ray drawn from the scattering at a point: `choice` in [0, 1) picks its lobe, `pick` whether the guide directs one of the base, u and v its
    direction. None leaves on the wrong side of the true surface, as interpolated normals and normal maps could cause."""
    point, scattering, guide = shading.point, shading.scattering, scene.prepared[GUIDE]
    lobe, by_guide = BASE, 0.0
    if pick < scattering.guided and choice >= scattering.coat_chance + scattering.gloss_chance:
        direction = guided_direction(guide, shading.region, point.position, u, v)
        wi = to_local(shading.x, shading.y, point.normal, direction)
    else:
        wi, lobe = sample_direction(scattering, shading.wo, choice, u, v)
        direction = to_world(shading.x, shading.y, point.normal, wi)
    if scattering.guided > 0.0:
        by_guide = guided_density(guide, shading.region, point.position, direction)
    base, gloss, density = evaluate_parts(scattering, shading.wo, wi, by_guide)
    side, through, value = dot(direction, point.geometric_normal), wi[2] < 0.0, add(base, gloss)
    leaves = not (density <= 0.0 or side == 0.0 or (side < 0.0) != through or (through and not glass))
    return Scattered(direction, lobe, value, gloss, part_of(gloss, value), density, side, through, leaves)
