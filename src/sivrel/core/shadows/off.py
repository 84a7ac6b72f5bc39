"""No shadows: the light passes through everything."""

from .way import ShadowWay

OFF = 0
WAY = ShadowWay(
    "off",
    OFF,
    "no shadows",
    "The light passes through everything: sometimes wanted on a fill.",
    "Objects float, and walls do not stop the light.",
)
