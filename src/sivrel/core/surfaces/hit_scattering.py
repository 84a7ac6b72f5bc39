"""Scattering at a hit: opaque, a pane, or the boundary of solid glass. Used by paths, photons and radiosity's rays."""

from typing import NamedTuple

from ..kernel import kernel
from ..scene.arrays import SEE_THROUGH, SOLID
from ..vector import add, dot, frame, part_of, scale, to_local, to_world
from .next_surface import CLEAR
from .preview import Look, evaluate_parts, glass_at, sample_direction, scattering_at


class Shading(NamedTuple):
    """A point that scatters light: its `SurfacePoint`, the row of its object, its `Scattering`, the axes x and y of its
    frame about the normal, and the direction to the viewer in that frame."""

    point: tuple
    row: int
    scattering: tuple
    x: tuple
    y: tuple
    wo: tuple


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
def scattering_met(scene, kind, point, base_rays, gloss_rays, cos_o):
    """(whether it is solid glass, the model) of a point hit as `kind` and seen at cosine `cos_o`; sampled with this many rays by base and by
    gloss, or, if both are 0, with one drawn from all lobes (see `scattering_at`)."""
    glass = kind == CLEAR and scene.surfaces[point.surface, SEE_THROUGH] == SOLID
    look = point.look
    if glass:
        scattering = glass_at(look.roughness, look.ior if point.front else 1.0 / look.ior, gloss_rays if gloss_rays > 0.0 else 1.0, cos_o)
    else:
        if kind == CLEAR:  # a pane reflects all that it does not let pass
            look = Look((1.0, 1.0, 1.0), look.roughness, 1.0, look.ior, False, (0.0, 0.0, 0.0), 0.0, 0.0)
        scattering = scattering_at(look, base_rays, gloss_rays, cos_o)
    return glass, scattering


@kernel
def shading_met(scene, row, kind, point, direction, base_rays, gloss_rays):
    """(whether it is solid glass, the `Shading`) of a point of the object `row` that a ray along `direction` hit as `kind`; the rest as in
    `scattering_met`."""
    x, y = frame(point.normal)
    wo = to_local(x, y, point.normal, scale(direction, -1.0))
    glass, scattering = scattering_met(scene, kind, point, base_rays, gloss_rays, wo[2])
    return glass, Shading(point, row, scattering, x, y, wo)


@kernel
def scatter(shading, glass, choice, u, v):
    """A ray drawn from the scattering at a point: `choice` in [0, 1) picks its lobe, u and v its direction. None leaves on the wrong side of the
    true surface, as interpolated normals and normal maps could cause."""
    point = shading.point
    wi, lobe = sample_direction(shading.scattering, shading.wo, choice, u, v)
    base, gloss, density = evaluate_parts(shading.scattering, shading.wo, wi)
    direction = to_world(shading.x, shading.y, point.normal, wi)
    side, through, value = dot(direction, point.geometric_normal), wi[2] < 0.0, add(base, gloss)
    leaves = not (density <= 0.0 or side == 0.0 or (side < 0.0) != through or (through and not glass))
    return Scattered(direction, lobe, value, gloss, part_of(gloss, value), density, side, through, leaves)
