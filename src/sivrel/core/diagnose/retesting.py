"""A retest with what it takes: brute force on both proofs, with random numbers that chose nothing, for as long as chance leaves the verdict open."""

from typing import Any, NamedTuple

from .case import Case
from .measures import NEED_TRUTH
from .paired_render import PairedRender
from .retest import UNCERTAIN, Retested, amount_in, of_mended_scene, retest
from .trial_renderer import TrialRenderer
from .truth import Coarse

FRESH_SEED = 300_000
"""First seed of the brute force of retests: that of the diagnosis has chosen the place, by chance also where it was high there."""
TRIES = 3
"""Times that the renders are gone on with, each twice as long as before."""


class Side(NamedTuple):
    """One of the two proofs, and where it can be rendered."""

    case: Case
    renderer: TrialRenderer


def retest_on(finding: dict[str, Any], remedy: dict[str, Any], child: Side, parent: Side | None, seconds: float) -> Retested:
    """Measure a finding on the proof of its remedy, `child`, and on the proof that it was found on, `parent`; brute force takes `seconds` of work
    first, and more while the verdict is not certain. finding, remedy: as they were kept."""
    was = parent.case if parent is not None else None
    if finding["measure"] not in (*NEED_TRUTH, "smear"):
        return retest(finding, remedy, child.case, None, None, was)
    truth = held = Coarse(child.case.grid, FRESH_SEED)
    if parent is not None and remedy.get("edits") and not of_mended_scene(finding):
        held = Coarse(parent.case.grid, FRESH_SEED)  # the scene was another one
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
    """Render the proof's own recipe as brute force was rendered: they differ by less then."""
    assert side.case.paired is not None
    side.case.paired.follow(truth, side.renderer.base(), side.renderer.recipe, seconds / 2.0, side.renderer.task)
