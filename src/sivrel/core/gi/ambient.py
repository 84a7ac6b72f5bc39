"""Flat ambient light: a constant in place of all bounced light, darkened in creases by nearby surfaces.

Zhukov, Iones & Kronin 1998, "An Ambient Light Illumination Model": obscurance with a distance past which nothing darkens. It ignores
the colours nearby and the brightness of the room: cheap, and wrong in both.
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
    costs="No colour bleeding, and the brightness is set by hand, not found.",
    bounces=False,
    elsewhere="it replaces all bounced light at once",
)


@kernel
def ambient_at(settings, scattering, occlusion):
    """Radiance of the ambient light reflected by a surface's diffuse base, as a colour; `occlusion` is the unoccluded share: rays that hit no
    surface nearby."""
    open_share = 1.0 - settings.ambient_occlusion * (1.0 - occlusion)
    return scale(scattering.diffuse, settings.ambient * open_share)
