"""Remedies of a finding, the cheapest sufficient one first, each with its predicted amount and render time."""

from typing import Any

from ..render.recipe import Recipe
from ..task import OutOfTime
from ..work_time import work_time
from .case import Case
from .detectors import is_tried, patch_amount
from .finding import NO_TIME, PROVEN, STRUCK, Finding, Remedy, Suspect, Trial
from .grain import remedies as grain_remedies
from .measures import NEED_TRUTH, whole_error
from .trial_renderer import TrialRenderer
from .trials import Common, TrialRegion

NO_SETTING = "No setting cures this: {why}."
MOST_CONFIRMED, CONFIRMING_SEED = 2, 70_000
WORSE, LEAST_WORSE = 1.15, 0.005
"""Factor and margin by which a remedy may raise the total error of a region before it is withdrawn."""
LEAST_HELP = 0.85
"""Largest share of a flaw that a remedy may leave when rendered again."""
MOST_TIMES = 20.0
"""Render time relative to the proof's above which a remedy ranks behind those that help only partly."""


def add_remedies(case: Case, finding: Finding) -> None:
    """Fill the finding's remedies, first those that leave nothing visible in an acceptable time, by render time."""
    if finding.remedies or case.recipe is None:
        _sort(case, finding)
        return
    if finding.kind == "grain":
        finding.remedies = grain_remedies(case, finding)
    else:
        finding.remedies = _of_trials(case, finding)
    sheet = next((t for t in finding.trials if t.suspect.startswith("sheet ") and t.verdict == PROVEN), None)
    if finding.cause_key == "gap":
        finding.note = NO_SETTING.format(why="the incoming light is real, and the joint is open")
    elif sheet is not None and not any(t.verdict == PROVEN and not t.suspect.startswith(("sheet ", "way ")) for t in finding.trials):
        finding.note = NO_SETTING.format(why="the wall is a sheet")
    _sort(case, finding)


def try_remedies(case: Case, renderer: TrialRenderer, finding: Finding, until: float) -> None:
    """Render remedies with unknown effect on the finding's place, while there is time, store what they leave, and sort again."""
    open_ones = [r for r in finding.remedies if (r.amount is None or r.basis == "predicted") and r.changes]
    if not open_ones or not is_tried(finding.measure) or finding.measure in NEED_TRUTH:
        return
    region = TrialRegion(case, finding)
    about = region.about(finding)
    base = None
    for remedy in open_ones:
        if work_time() + 1.0 > until:
            break
        try:
            recipe, edits = renderer.changed(remedy.values, remedy.edits)
            with renderer.within(until):
                ready = renderer.ready(recipe, edits, region.pixels)[0]
                prepares = renderer.prepares(recipe, edits, region.pixels)
        except OutOfTime:
            continue
        base = base or renderer.patch(renderer.base(), renderer.recipe, region.frame, 0.4)
        patch = renderer.patch(ready, recipe, region.frame, 0.4)
        left, was = (patch_amount(finding.measure, one, None, about).value for one in (patch, base))
        share = left / max(was, 1e-9)
        remedy.amount, remedy.seen, remedy.basis = finding.amount * share, finding.seen * share, "trial"
        if case.pixel_seconds is not None:
            remedy.seconds = case.pixel_seconds * patch.rate / max(base.rate, 1e-12) + prepares
    _sort(case, finding)


def confirm_remedies(common: Common, until: float) -> None:
    """Render the best remedy of a finding once more, with other random numbers and caches made for the whole frame, and store the
    result; one that does not help, or raises the total error, is withdrawn, and the next is tried."""
    case, renderer, finding, truth, before = common.case, common.renderer, common.finding, common.truth, common.before
    if truth is None or before.value <= 0.0:
        return
    for remedy in [r for r in finding.remedies if r.basis == "trial" and r.changes][:MOST_CONFIRMED]:
        if work_time() > until:
            return
        if any(key.startswith(("object.", "card.")) for key in remedy.edits):
            return  # a fixed scene has its own brute force, which its trial was compared with
        try:
            recipe, edits = renderer.changed(remedy.values, remedy.edits)
            with renderer.within(until):
                ready, prepares = renderer.ready(recipe, edits)
        except OutOfTime:
            continue
        patch = renderer.patch(ready, recipe, common.region.frame, common.slice, first_seed=CONFIRMING_SEED, **common.how)
        after = patch_amount(finding.measure, patch, truth, common.about)
        left = after.value / before.value
        errors = whole_error(common.base, truth, case.samples), whole_error(patch, truth, case.samples)
        if _is_worse(*errors) or left - 2.0 * after.error / before.value > LEAST_HELP:
            finding.remedies.remove(remedy)
            why = f"the total error went from {errors[0]:.1%} to {errors[1]:.1%}" if _is_worse(*errors) else f"{left:.0%} of it stayed"
            finding.withdrawn.append(f"“{remedy.words.rstrip('.')}” is withdrawn: rendered again, {why}.")
            continue
        remedy.amount, remedy.amount_error = finding.amount * left, finding.amount * after.error / before.value
        remedy.seen, remedy.basis = finding.seen * left, "two trials"
        if case.pixel_seconds is not None:
            remedy.seconds = case.pixel_seconds * patch.rate / max(common.base.rate, 1e-12) + prepares
        break
    _sort(case, finding)


def _is_worse(before: float | None, after: float | None) -> bool:
    """Whether the total error has grown by more than noise explains."""
    return before is not None and after is not None and after > WORSE * before + LEAST_WORSE


def _of_trials(case: Case, finding: Finding) -> list[Remedy]:
    by_key, offers = {s.key: s for s in finding.suspects}, []
    for trial in finding.trials:
        suspect = by_key[trial.suspect]
        if trial.verdict in (STRUCK, NO_TIME) or not suspect.cure or (trial.explained or 0.0) < 0.2:
            continue
        if _is_worse(trial.whole_before, trial.whole_after):
            words = suspect.cure.rstrip(".")
            finding.withdrawn.append(
                f"“{words}” is withdrawn: in its trial the total error went from {trial.whole_before:.1%} to {trial.whole_after:.1%}."
            )
            continue
        left = finding.amount * max(0.0, 1.0 - (trial.explained or 0.0))
        seen = finding.seen * max(0.0, 1.0 - (trial.explained or 0.0))
        seconds = _seconds(case, trial, suspect)
        offers.append(
            Remedy(
                suspect.cure,
                dict(suspect.values),
                dict(suspect.edits),
                left,
                finding.amount * (trial.error or 0.0),
                seen,
                seconds,
                "trial",
                suspect.costs,
            )
        )
        for other in suspect.others:
            other.amount, other.seen, other.basis, other.seconds = None, None, "", None
            offers.append(other)
    return offers + finding.combined


def _seconds(case: Case, trial: Trial, suspect: Suspect) -> float | None:
    """Render time after a trial's change: its time per sample relative to the unchanged one, over all pixels, plus caches; if less was prepared
    for the trial than the remedy needs, in proportion."""
    if case.pixel_seconds is None or trial.rate is None:
        return None
    defaults, times = Recipe().flat(), 1.0
    for key, value in suspect.tried.items():
        offered = suspect.values.get(key, defaults[key])
        if isinstance(value, int | float) and value:
            times *= offered / value
    return case.pixel_seconds * trial.rate + trial.prepares * times


def _sort(case: Case, finding: Finding) -> None:
    def order(remedy: Remedy) -> tuple[Any, ...]:
        enough = remedy.seen is not None and remedy.seen < finding.threshold
        too_long = case.seconds is not None and remedy.seconds is not None and remedy.seconds > MOST_TIMES * case.seconds
        mends = any(key.startswith(("object.", "card.")) for key in remedy.edits)
        return (
            not enough or too_long,
            not remedy.changes,
            too_long,
            not (mends and finding.note.startswith("No setting")),
            remedy.seconds if remedy.seconds is not None else 1e9,
        )

    finding.remedies.sort(key=order)
