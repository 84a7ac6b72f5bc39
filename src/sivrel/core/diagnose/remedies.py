"""Remedies: what cures a finding, the cheapest that suffices first, each with the amount and the render time that it is predicted to leave."""

from ..render.recipe import Recipe
from ..work_time import work_time
from .case import Case
from .finding import NO_TIME, PROVEN, STRUCK, Finding, Remedy, Suspect, Trial
from .grain import remedies as grain_remedies
from .measures import MEASURES, NEED_TRUTH
from .stand import OutOfTime, Stand
from .trials import TrialRegion

NO_SETTING = "No setting cures this: {why}."
MOST_TIMES = 20.0
"""Times the proof's own time from which on a remedy is no answer for today, and stands behind those that help by a part."""


def add_remedies(case: Case, finding: Finding) -> None:
    """Fill the finding's remedies, those first that leave nothing to be seen in a time that one may wait for, by render time."""
    if finding.remedies or case.recipe is None:
        _sort(case, finding)
        return
    if finding.kind == "grain":
        finding.remedies = grain_remedies(case, finding)
    else:
        finding.remedies = _of_trials(case, finding)
    sheet = next((t for t in finding.trials if t.suspect.startswith("sheet ") and t.verdict == PROVEN), None)
    if finding.cause_key == "gap":
        finding.note = NO_SETTING.format(why="the light that comes in is real, and the joint is open")
    elif sheet is not None and not any(t.verdict == PROVEN and not t.suspect.startswith(("sheet ", "way ")) for t in finding.trials):
        finding.note = NO_SETTING.format(why="the wall is a sheet")
    _sort(case, finding)


def try_remedies(case: Case, stand: Stand, finding: Finding, until: float) -> None:
    """Render remedies whose effect nobody knows on the finding's spot, while there is time, and say what they leave; sort anew."""
    open_ones = [r for r in finding.remedies if r.amount is None and r.changes]
    if not open_ones or finding.measure not in MEASURES or finding.measure in NEED_TRUTH:
        return
    region = TrialRegion(case, finding)
    about, measure = region.about(finding), MEASURES[finding.measure]
    base = None
    for remedy in open_ones:
        if work_time() + 1.0 > until or stand.cancel:
            break
        stand.until = until
        try:
            recipe, edits = stand.changed(remedy.values, remedy.edits)
            ready = stand.ready(recipe, edits, region.pixels)[0]
            prepares = stand.prepares(recipe, edits, region.pixels)
        except OutOfTime:
            continue
        base = base or stand.patch(stand.base(), stand.recipe, region.frame, 0.4)
        patch = stand.patch(ready, recipe, region.frame, 0.4)
        if base is None or patch is None:
            return
        share = measure(patch, None, about).value / max(measure(base, None, about).value, 1e-9)
        remedy.amount, remedy.seen, remedy.basis = finding.amount * share, finding.seen * share, "trial"
        if case.pixel_seconds is not None:
            remedy.seconds = case.pixel_seconds * patch.rate / max(base.rate, 1e-12) + prepares
    _sort(case, finding)


def _of_trials(case: Case, finding: Finding) -> list[Remedy]:
    by_key, offers = {s.key: s for s in finding.suspects}, []
    for trial in finding.trials:
        suspect = by_key[trial.suspect]
        if trial.verdict in (STRUCK, NO_TIME) or not suspect.cure or (trial.explained or 0.0) < 0.2:
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
    """Render time after a trial's change: its rate of samples against the one as it is, over all pixels, and what it prepares; where less was made
    ready for the trial than is offered, in proportion."""
    if case.pixel_seconds is None or trial.rate is None:
        return None
    defaults, times = Recipe().flat(), 1.0
    for key, value in suspect.tried.items():
        offered = suspect.values.get(key, defaults[key])
        if isinstance(value, int | float) and value:
            times *= offered / value
    return case.pixel_seconds * trial.rate + trial.prepares * times


def _sort(case: Case, finding: Finding) -> None:
    def order(remedy: Remedy) -> tuple:
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
