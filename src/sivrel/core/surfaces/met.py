"""How what a ray has met scatters: opaque, a pane, or the boundary of solid glass."""

from ..kernel import kernel
from ..scene.arrays import SEE_THROUGH, SOLID
from ..scene.next_surface import CLEAR
from .preview import Look, glass_at, scattering_at


@kernel
def scattering_met(scene, kind, point, base_rays, gloss_rays, cos_o):
    """(whether it is solid glass, the model) of a point met as `kind` and seen at cosine `cos_o`; sampled with so many rays by base and by
    gloss, or, where both are 0, with one drawn from all lobes (see `scattering_at`)."""
    glass = kind == CLEAR and scene.surfaces[point.surface, SEE_THROUGH] == SOLID
    look = point.look
    if glass:
        scattering = glass_at(look.roughness, look.ior if point.front else 1.0 / look.ior, gloss_rays if gloss_rays > 0.0 else 1.0, cos_o)
    else:
        if kind == CLEAR:  # what a pane does not let pass it reflects wholly
            look = Look((1.0, 1.0, 1.0), look.roughness, 1.0, look.ior, False, (0.0, 0.0, 0.0), 0.0, 0.0)
        scattering = scattering_at(look, base_rays, gloss_rays, cos_o)
    return glass, scattering
