"""No bounced light: what the lights reach directly, and nothing else."""

from .way import Way

OFF = 0
WAY = Way(
    key="off",
    code=OFF,
    title="nothing",
    seen=True,
    beyond=True,
    does="Direct light only: good for judging lights one by one.",
    costs="What only bounced light reaches stays black, and rough reflections show the lights alone.",
    bounces=False,
)
