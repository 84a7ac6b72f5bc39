"""No shadows: the light passes through everything."""

from ..kernel import kernel
from .way import ShadowWay

OFF = 0


@kernel
def _share(scene, stack, i, p, d, distance, target):
    return (1.0, 1.0, 1.0)


WAY = ShadowWay(
    "off",
    OFF,
    "no shadows",
    "The light passes through everything: sometimes useful for a fill light.",
    "Objects float, and walls do not stop the light.",
    share=_share,
)
