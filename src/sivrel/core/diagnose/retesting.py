"""A complete retest: brute force on both proofs, with fresh random numbers, for as long as noise leaves the verdict open."""

from typing import Any, NamedTuple

from .case import Case
from .measures import NEED_TRUTH
from .paired_render import PairedRender
from .retest import UNCERTAIN, Retested, amount_in, of_mended_scene, retest
from .trial_renderer import TrialRenderer
from .truth import Coarse

FRESH_SEED = 300_000
"""First seed of brute force in retests. The diagnosis' own seeds selected the place, partly because their noise was high there."""
TRIES = 3
"""Most extensions of the renders, each twice as long as the last."""


class Side(NamedTuple):
    """One of the two proofs, with its renderer."""

    case: Case
    renderer: TrialRenderer


def retest_on(finding: dict[str, Any], remedy: dict[str, Any], child: Side, parent: Side | None, seconds: float) -> Retested:
    """Measure a finding on its remedy's proof, `child`, and on the proof it was found on, `parent`; brute force takes `seconds` of work
    first, and more while the verdict is not certain. finding, remedy: as stored."""
    was = parent.case if parent is not None else None
    if finding["measure"] not in (*NEED_TRUTH, "smear"):
        return retest(finding, remedy, child.case, None, None, was)
    truth = held = Coarse(child.case.grid, FRESH_SEED)
    if parent is not None and remedy.get("edits") and not of_mended_scene(finding):
        held = Coarse(parent.case.grid, FRESH_SEED)  # the scene was different
    for side in (child, parent):
        if side is not None:
            side.case.paired = PairedRender()
    for k in range(TRIES):
        _refine(truth, child, seconds * 2.0**k)
        before = None
        if parent is not None:
            if held is not truth:
                _refine(held, parent, seconds * 2.0**k)
            else:
                _follow(truth, parent, seconds * 2.0**k)
            before = amount_in(finding, parent.case, held)[0]
        result = retest(finding, remedy, child.case, truth, before, was)
        if result.verdict != UNCERTAIN:
            break
    return result


def _refine(truth: Coarse, side: Side, seconds: float) -> None:
    truth.refine(*side.renderer.truth(), seconds, side.renderer.task)
    _follow(truth, side, seconds)


def _follow(truth: Coarse, side: Side, seconds: float) -> None:
    """Render the proof's own recipe paired with brute force, which reduces the noise of their difference."""
    assert side.case.paired is not None
    side.case.paired.follow(truth, side.renderer.base(), side.renderer.recipe, seconds / 2.0, side.renderer.task)
