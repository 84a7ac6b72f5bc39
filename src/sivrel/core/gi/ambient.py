"""Flat ambient light: a constant in place of all bounced light, darkened in creases by how much lies near.

Zhukov, Iones & Kronin 1998, "An Ambient Light Illumination Model": obscurance with a distance past which nothing darkens. It knows no
colour of what is near and no brightness of the room: cheap, and wrong in both.
"""

from ..kernel import kernel
from ..vector import scale
from .way import Way

AMBIENT = 2
WAY = Way(
    key="ambient",
    code=AMBIENT,
    title="flat ambient",
    seen=True,
    beyond=False,
    does="Adds the same light everywhere, less in creases: fast, for drafts and stylised work.",
    costs="No colour bleeds and the brightness is a guess: what you set, not what the room does.",
    bounces=False,
    elsewhere="it stands for all bounced light at once",
)


@kernel
def ambient_at(settings, scattering, occlusion):
    """Radiance that the base of a surface sends on of the ambient light, as a colour; `occlusion` is the share of it that is near no
    other surface."""
    open_share = 1.0 - settings.ambient_occlusion * (1.0 - occlusion)
    return scale(scattering.diffuse, settings.ambient * open_share)
