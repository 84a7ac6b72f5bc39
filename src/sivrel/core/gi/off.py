"""No bounced light: direct light only."""

from .way import Way

OFF = 0
WAY = Way(
    key="off",
    code=OFF,
    title="nothing",
    seen=True,
    beyond=True,
    does="Direct light only: good for judging lights one by one.",
    costs="Places that only bounced light reaches stay black, and rough reflections show only the lights.",
    bounces=False,
)
