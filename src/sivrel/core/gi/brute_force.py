"""Brute force: an independent random path for every sample, nothing shared between pixels (Kajiya 1986, eq. 2)."""

from .way import Way

BRUTE_FORCE = 1
WAY = Way(
    key="brute_force",
    code=BRUTE_FORCE,
    title="brute force",
    seen=True,
    beyond=True,
    does="Traces new paths for every sample: unbiased in every scene.",
    costs="Grain falls with the square root of the samples; slow in dark rooms.",
    asks_beyond=True,
    pilots={"brute_force": 0.0},
)
