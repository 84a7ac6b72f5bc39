"""Brute force: a new random path from every sample, with no memory between pixels (Kajiya 1986, eq. 2)."""

from .way import Way

BRUTE_FORCE = 1
WAY = Way(
    key="brute_force",
    code=BRUTE_FORCE,
    title="brute force",
    seen=True,
    beyond=True,
    does="Traces paths anew for every sample: right on average everywhere, whatever the scene.",
    costs="Even grain that falls with the square root of the samples; slow in dark rooms.",
    asks_beyond=True,
    pilots={"brute_force": 0.0},
)
