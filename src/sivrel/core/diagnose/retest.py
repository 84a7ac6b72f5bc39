"""The retest: a finding is measured again on its remedy's proof and compared with the prediction."""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from .blotches import INDEPENDENT, bands_of
from .case import Case
from .detectors import own_amount
from .finding import mask_of
from .measures import bias_of, covariance, root
from .truth import Coarse

GONE, SMALLER, UNCHANGED, WORSE, UNCERTAIN = "gone", "smaller", "unchanged", "worse", "not certain"
LEAST_CHANGE = 0.15
"""Share of an amount below which it counts as unchanged."""
MOST_UNCERTAIN = 0.5
"""Relative size of two standard errors above which the result is uncertain."""


@dataclass(frozen=True)
class Retested:
    """verdict; before, after: the finding's amount, and the standard error of the latter; seen: visibility after, in thresholds of the eye;
    predicted,
    predicted_seen: the prediction; seconds of the proof, predicted_seconds; said: all of it in a sentence"""

    verdict: str
    before: float
    after: float
    error: float
    seen: float
    predicted: float | None
    seconds: float | None
    predicted_seconds: float | None
    said: str

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def of_mended_scene(finding: dict[str, Any]) -> bool:
    """Whether the amount is real light that the fixed scene lacks, or that was not computed: it is compared with brute force of the remedy's
    proof, before and after."""
    return bool(
        (finding["kind"] == "leak" and finding["about"] == "gap") or finding["kind"] == "two suns" or finding["cause_key"] == "no bounced light"
    )


def retest(
    finding: dict[str, Any], remedy: dict[str, Any], case: Case, truth: Coarse | None, before: float | None = None, parent: Case | None = None
) -> Retested:
    """Measure a stored finding on the case of its remedy's proof; `truth` is brute force of the scene there, for flaws of the
    light. `before`: its amount measured in the same way on the proof it was found on, if known; `parent`: that proof's case."""
    if before is None and finding["measure"] == "noise" and parent is not None and parent.light.shape == case.light.shape:
        before = amount_in(finding, parent, None, case)[0]
    was = before if before is not None else float(finding["amount"])
    after, error = amount_in(finding, case, truth, parent)
    share = after / was if was > 0.0 else 1.0
    seen = float(finding["seen"]) * share if finding["measure"] != "time" else 0.0
    noise = 2.0 * error / max(was, 1e-12)
    if (finding["measure"] in ("bias", "structure", "noise", "sparkle") and seen < finding["threshold"]) or share < max(0.12, noise):
        verdict = GONE
    elif share < 1.0 - LEAST_CHANGE - min(noise, 0.3):
        verdict = SMALLER
    elif share > 1.0 + LEAST_CHANGE + min(noise, 0.5):
        verdict = WORSE
    else:
        # An error as large as the change means there is no result.
        verdict = UNCERTAIN if abs(share - 1.0) > LEAST_CHANGE or noise > MOST_UNCERTAIN else UNCHANGED
    predicted = remedy.get("amount")
    left = predicted / finding["amount"] if predicted is not None and finding["amount"] else None
    said = _said(verdict, share, noise, left, case.seconds, remedy.get("seconds"))
    return Retested(verdict, was, after, error, max(seen, 0.0), predicted, case.seconds, remedy.get("seconds"), said)


def _said(verdict: str, share: float, noise: float, predicted: float | None, seconds: float | None, predicted_seconds: float | None) -> str:
    what = {
        GONE: "It is gone",
        SMALLER: f"It is {max(0.0, 1.0 - share):.0%} smaller",
        UNCHANGED: "It is unchanged",
        UNCERTAIN: f"It looks {abs(1.0 - share):.0%} {'smaller' if share < 1.0 else 'larger'}, but noise alone changes it by {noise:.0%}",
        WORSE: f"It is {share - 1.0:.0%} larger",
    }[verdict]
    sentences = [what + (f"; predicted {predicted - 1.0:+.0%}, measured {share - 1.0:+.0%}" if predicted is not None else "") + "."]
    if seconds is not None and predicted_seconds:
        sentences.append(f"It took {seconds:.3g} s; {predicted_seconds:.3g} s were predicted.")
    return " ".join(sentences)


def amount_in(finding: dict[str, Any], case: Case, truth: Coarse | None, parent: Case | None = None) -> tuple[float, float]:
    """The amount of a stored finding in the case of another proof, and its standard error; `parent`: the case it is compared with."""
    measured = own_amount(finding, case, truth, parent)
    if measured is not None:
        return measured
    mask = mask_of(finding["mask"])
    if mask.shape != (case.grid.rows, case.grid.columns):
        mask = case.in_cells(case.spread(mask), 0.5)
    assert truth is not None
    if finding["measure"] == "bias":
        light, against, variance = case.against(truth)
        signed = bias_of(light, variance, against, np.zeros_like(variance), mask, case.exposure)
        return max(0.0, finding["sign"] * signed.value), signed.error
    one, other = bands_of(case, truth)
    inside = mask & case.flat if (mask & case.flat).sum() > 8 else mask
    return root(*covariance(one[inside], other[inside], max(2.0, inside.sum() * INDEPENDENT)))
