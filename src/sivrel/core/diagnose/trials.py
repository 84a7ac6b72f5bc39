"""Trials: a small render of the flaw for each suspect, with only that cause changed, until one explains it.

Each trial measures the flaw's amount without and with the change and, for flaws of the light, against brute force of the same place. The share
of the flaw removed by the change, and its error, decide: proven if certainly more than half was removed, struck off if
certainly less than a third was.
"""

import math
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np
from scipy import ndimage

from ..errors import Cancelled
from ..task import OutOfTime
from ..work_time import work_time
from .blotches import WIDE
from .case import Case
from .detectors import patch_amount
from .finding import NO_TIME, OPEN, PROVEN, STRUCK, Finding, Remedy, Suspect, Trial
from .grain import RAISE
from .grid import Grid
from .measures import MEASURES, NEED_TRUTH, About, Amount, explained, spread_of, whole_error
from .patch import Patch
from .trial_renderer import TrialRenderer

CELLS, MARGIN = 900, 40
"""Most cells of a trial's region, and margin in pixels for which records are made."""
CERTAIN = 0.9
MOST_LEFT, MOST_WENT = 0.5, 1.0 / 3.0
"""Share of a flaw that a cause must explain, and below which it is struck off."""
MOST_TO_PREPARE = 7.0
"""Most seconds of preparation for one suspect."""
SHARE_TO_PREPARE = 0.3
"""The same, as a share of the time left for all trials."""
NEARLY = 0.4
"""Share that a specific cause must explain to be preferred to the way as a whole."""
OF_SOURCE = 0.25, 0.12
"""The same for a source of grain, since no single source need cause half of it."""
OF_LEDGER = 0.08
"""Uncertainty of the ledger's share of a source, for one place instead of the whole picture."""
CERTAIN_IN_SCENE = 4.0
"""Standard errors by which light must fall without the unwanted part of the scene."""
SCENE_SAMPLES = 50_000
"""Total samples of each of the two renders with and without the unwanted part of the scene."""
SCENE_SEEDS = 90_000, 95_000
SCENE_TIMES = 1, 4
"""Factor on these if the first are not certain."""
MOST_SPARKLES, SPARKLING = 16, 9000
"""Samples per pixel, and pixels, for counting fireflies."""


class TrialRegion:
    """The part of the frame that a finding's trials render. frame: to render; cells: bool, the part the flaw covers."""

    def __init__(self, case: Case, finding: Finding) -> None:
        self.case, grid = case, case.grid
        fine = 1
        if finding.measure == "sparkle" or finding.kind == "steps" or (finding.mask is not None and finding.mask.sum() <= 40):
            fine = max(1, round(grid.step)) if finding.kind == "steps" or finding.measure == "sparkle" else 2 if grid.step >= 2 else 1
        self.fine = fine
        x0, y0, x1, y1 = self._window(grid, finding, fine)
        self.frame = replace(grid.frame(), width=grid.columns * fine, height=grid.rows * fine, region=(x0 * fine, y0 * fine, x1 * fine, y1 * fine))
        mask = finding.mask[y0:y1, x0:x1] if finding.mask is not None else np.ones((y1 - y0, x1 - x0), bool)
        if not mask.any() or finding.measure == "sparkle":
            mask = np.ones_like(mask)
        self.mask = np.repeat(np.repeat(mask, fine, axis=0), fine, axis=1)
        if finding.measure == "structure" and self.mask.mean() < 0.9:
            # A margin of one cell belongs to a blotch or step.
            self.mask = ndimage.binary_dilation(self.mask, iterations=fine)
        box = grid.pixels_of((x0, y0, x1, y1))
        self.pixels = (max(0, box[0] - MARGIN), max(0, box[1] - MARGIN), min(grid.width, box[2] + MARGIN), min(grid.height, box[3] + MARGIN))

    @staticmethod
    def _window(grid: Grid, finding: Finding, fine: int) -> tuple[int, int, int, int]:
        """The cells of the region: those of the flaw with a margin, limited to a size that renders soon, around its main part."""
        wx0, wy0, wx1, wy1 = grid.cells_of(grid.window)
        x0, y0, x1, y1 = grid.cells_of(finding.box)
        x0, y0, x1, y1 = max(wx0, x0 - 2), max(wy0, y0 - 2), min(wx1, x1 + 2), min(wy1, y1 + 2)
        most = CELLS / (fine * fine) * (4 if fine > 1 else 1)
        if finding.measure == "sparkle":
            most = SPARKLING / (fine * fine)
        area = (x1 - x0) * (y1 - y0)
        if area <= most:
            return x0, y0, x1, y1
        shrink = math.sqrt(most / area)
        w, h = max(4, int((x1 - x0) * shrink)), max(4, int((y1 - y0) * shrink))
        mask = finding.mask
        if mask is None or not mask.any():
            cx, cy = (x0 + x1) // 2, (y0 + y1) // 2
        else:
            dense = ndimage.uniform_filter(mask.astype(float), (min(h, mask.shape[0]), min(w, mask.shape[1])), mode="constant")
            cy, cx = (int(v) for v in np.unravel_index(int(dense.argmax()), dense.shape))
        x, y = min(max(x0, cx - w // 2), x1 - w), min(max(y0, cy - h // 2), y1 - h)
        return x, y, x + w, y + h

    def about(self, finding: Finding) -> About:
        return About(self.mask, finding.sign, self.case.exposure, self.case.samples, self.case.mean, wide=WIDE * self.fine)


class Common(NamedTuple):
    """Data shared by all trials of a finding: its region; brute force of it, if the measure needs that; the unchanged region, and the amount
    of the flaw there; parameters of the measure; seconds for each patch, and its other render settings."""

    case: Case
    renderer: TrialRenderer
    finding: Finding
    region: TrialRegion
    truth: Patch | None
    base: Patch
    before: Amount
    about: About
    slice: float
    how: dict[str, Any]


def of_the_scene(finding: Finding) -> bool:
    """Whether it is real light that the scene should not have, so no recipe is at fault."""
    return (finding.kind == "leak" and finding.about == "gap") or finding.kind == "two suns"


def try_suspects(case: Case, renderer: TrialRenderer, finding: Finding, until: float, end: float, slice_: float) -> Common | None:
    """Render the finding's suspects in turn, each for about `slice_` seconds, until one is proven or the work time is `until`, or `end`
    for slow preparation; sets its trials, cause and confidence. A started trial is finished. Returns what later trials of the same
    finding can reuse; None if there is nothing."""
    region = TrialRegion(case, finding)
    if of_the_scene(finding):
        _try_in_scene(renderer, finding, region, 1.5 * slice_)
        return None
    about = region.about(finding)
    how = {"samples": max(1, min(MOST_SPARKLES, round(case.samples)))} if finding.measure == "sparkle" else {}
    truth: Patch | None = None
    if finding.measure in NEED_TRUTH:
        ready, recipe = renderer.truth() if finding.kind != "steps" else renderer.traced()
        truth = renderer.patch(ready, recipe, region.frame, 1.5 * slice_, first_seed=90_000)
        finding.pictures["traced" if finding.kind == "steps" else "brute force"] = truth.colour
    base = renderer.patch(renderer.base(), renderer.recipe, region.frame, slice_, **how)
    finding.pictures["as it is"] = base.colour
    if finding.measure == "sparkle":
        about = about._replace(samples=base.samples, spread=spread_of(base.light, base.variance))
    before = patch_amount(finding.measure, base, truth, about)
    finding.evidence |= {"trial_amount": before.value, "trial_error": before.error}
    if finding.measure in NEED_TRUTH and before.value < 3.0 * before.error and before.value < 0.5 * finding.amount:
        finding.note, finding.chance = "A closer look against brute force does not confirm it: it was noise.", True
        finding.confidence = 0.0
        return None
    common = Common(case, renderer, finding, region, truth, base, before, about, slice_, how)
    prepared_by = until
    try:
        for k, suspect in enumerate(finding.suspects):
            now = work_time()
            if now + 0.6 * slice_ > until and k > 0:
                break
            prepared_by = max(until, min(end, now + MOST_TO_PREPARE, now + SHARE_TO_PREPARE * (end - now)))
            with renderer.within(prepared_by):
                trial = _try(common, suspect)
            finding.trials.append(trial)
            if trial.verdict == PROVEN and not (suspect.whole and k + 1 < len(finding.suspects)):
                break
        if work_time() < until - slice_:
            with renderer.within(prepared_by):
                _combine(common)
    except Cancelled:
        if finding.trials:  # what was tried counts
            _conclude(finding)
        raise
    _conclude(finding)
    return common


def _try(common: Common, suspect: Suspect) -> Trial:
    """Render a suspect's change, and judge it."""
    case, renderer, finding, region, truth, base, before, about, slice_, how = common
    begun = work_time()
    changes = {**(suspect.tried or suspect.values), **suspect.edits}
    recipe, edits = renderer.changed(suspect.tried or suspect.values, suspect.edits)
    try:
        ready = renderer.ready(recipe, edits, region.pixels)[0]
        prepares = renderer.prepares(recipe, edits, region.pixels)
    except OutOfTime:
        return Trial(suspect.key, suspect.says, changes, None, None, NO_TIME, work_time() - begun)
    against = truth
    if suspect.edits and finding.measure in NEED_TRUTH and any(key.startswith(("object.", "card.")) for key in suspect.edits):
        # A fixed scene has its own brute force.
        true_ready, true_recipe = renderer.truth(suspect.edits)
        against = renderer.patch(true_ready, true_recipe, region.frame, slice_, first_seed=90_000)
    patch = renderer.patch(ready, recipe, region.frame, slice_, **how)
    after = patch_amount(finding.measure, patch, against, about)
    whole = [whole_error(one, true, case.samples) if true is not None else None for one, true in ((base, truth), (patch, against))]
    if finding.measure == "noise":
        # As a share of variance, extrapolated from three quarters of the source's noise to all of it.
        share = explained(Amount(before.value**2, 2.0 * before.value * before.error), Amount(after.value**2, 2.0 * after.value * after.error))
        scale = 1.0 / (1.0 - 1.0 / RAISE)
        ledger = finding.evidence.get("sources", {}).get(suspect.key.removeprefix("source "))
        share = _with_ledger(Amount(share.value * scale, share.error * scale), ledger)
    elif suspect.inverse:
        # A flaw that falls with the root of a number is tried with a lower number: its growth equals the gain of a higher one.
        ratio = (after.value / max(before.value, 1e-9)) ** 2
        error = 2.0 * ratio**0.5 * float(np.hypot(after.error, ratio**0.5 * before.error)) / max(before.value, 1e-9)
        share = Amount(1.0 - max(0.0, 1.0 - (ratio - 1.0) / (suspect.inverse - 1.0)) ** 0.5, error / (suspect.inverse - 1.0))
    else:
        share = explained(before, after)
    least, most = OF_SOURCE if finding.measure == "noise" else (MOST_LEFT, MOST_WENT)
    of_cause = brings(before, after, suspect.raised) if suspect.raised else share
    chance = max(of_cause.error, 0.02)
    verdict = OPEN
    if _normal((of_cause.value - least) / chance) > CERTAIN:
        verdict = PROVEN
    elif _normal((most - of_cause.value) / chance) > CERTAIN:
        verdict = STRUCK
    return Trial(
        suspect.key,
        suspect.says,
        changes,
        float(share.value),
        float(share.error),
        verdict,
        work_time() - begun,
        amount=float(after.value),
        rate=patch.rate / max(base.rate, 1e-12),
        prepares=prepares,
        picture=patch.colour,
        brings=float(of_cause.value),
        brings_error=float(of_cause.error),
        whole_before=whole[0],
        whole_after=whole[1],
    )


def brings(before: Amount, after: Amount, raised: float) -> Amount:
    """Share of a flaw's square due to something that was raised by `raised`: it falls in proportion, the rest stays."""
    ratio, scale = after.value / max(before.value, 1e-9), 1.0 / (1.0 - 1.0 / raised)
    error = 2.0 * ratio * float(np.hypot(after.error, ratio * before.error)) / max(before.value, 1e-9)
    return Amount(min(1.0, (1.0 - ratio**2) * scale), error * scale)


def _with_ledger(trial: Amount, ledger: float | None) -> Amount:
    """A source's share of the noise from a trial and from the ledger of the whole render, weighted by certainty."""
    if ledger is None:
        return trial
    weights = 1.0 / max(trial.error, 0.02) ** 2, 1.0 / OF_LEDGER**2
    value = (trial.value * weights[0] + ledger * weights[1]) / sum(weights)
    return Amount(value, sum(weights) ** -0.5)


def _combine(common: Common) -> None:
    """If the best change leaves something visible, try it together with the next best, as a remedy."""
    case, renderer, finding, region, truth, base, before, about, slice_, how = common
    by_key = {s.key: s for s in finding.suspects}
    useful = [t for t in finding.trials if (t.explained or 0.0) > 0.15 and t.verdict != STRUCK and not by_key[t.suspect].whole]
    useful.sort(key=lambda t: -(t.explained or 0.0))
    if finding.measure == "noise" or len(useful) < 2 or finding.seen * (1.0 - (useful[0].explained or 0.0)) < finding.threshold:
        return
    one, other = (by_key[t.suspect] for t in useful[:2])
    values, edits = {**other.values, **one.values}, {**other.edits, **one.edits}
    try:
        recipe, laid = renderer.changed(values, edits)
        ready, prepares = renderer.ready(recipe, laid, region.pixels)[0], renderer.prepares(recipe, laid, region.pixels)
    except OutOfTime:
        return
    patch = renderer.patch(ready, recipe, region.frame, slice_, **how)
    if any(key.startswith(("object.", "card.")) for key in edits):
        return
    left = 1.0 - explained(before, patch_amount(finding.measure, patch, truth, about)).value
    words = f"{one.cure.rstrip('.')}; and {other.cure[0].lower()}{other.cure[1:]}"
    seconds = case.pixel_seconds * patch.rate / max(base.rate, 1e-12) + prepares if case.pixel_seconds is not None else None
    finding.combined.append(
        Remedy(
            words,
            values,
            edits,
            finding.amount * max(left, 0.0),
            finding.amount * 0.1,
            finding.seen * max(left, 0.0),
            seconds,
            "trial",
            ", ".join(c for c in (one.costs, other.costs) if c),
        )
    )


def _try_in_scene(renderer: TrialRenderer, finding: Finding, region: TrialRegion, slice_: float) -> None:
    """Light from a gap or a second sun is real: brute force with it, against brute force without it."""
    suspect, begun = finding.suspects[0], work_time()
    samples = max(8, SCENE_SAMPLES // max(1, region.mask.size))
    patches: list[Patch] = []
    for times in SCENE_TIMES:
        # Two independent renders: their difference is noise, and the variation of light over the place is not.
        pairs = [_with_and_without(renderer, suspect, region, slice_, samples * times // 2, seed) for seed in SCENE_SEEDS]
        patches, again = pairs
        amount = _brought(finding, region, patches, again)
        if finding.kind == "two suns":
            finding.amount = max(amount.value, 0.02)  # where both shine, each contributes a part
        # The place was selected for its strength, so a lower amount than at first does not refute the cause.
        share = Amount(min(1.0, amount.value / max(finding.amount, 1e-9)), amount.error / max(finding.amount, 1e-9))
        certain = amount.value > CERTAIN_IN_SCENE * amount.error and finding.seen * share.value > finding.threshold
        if certain or amount.value + 2.0 * amount.error < 0.1 * finding.amount:
            break
    finding.pictures["as it is"] = patches[0].colour
    verdict = PROVEN if certain else OPEN
    finding.trials.append(
        Trial(
            suspect.key,
            suspect.says,
            dict(suspect.edits),
            share.value,
            share.error,
            verdict,
            work_time() - begun,
            amount=0.0,
            rate=patches[1].rate / max(patches[0].rate, 1e-12),
            prepares=0.0,
            picture=patches[1].colour,
        )
    )
    _conclude(finding)
    if certain:
        finding.confidence = round(min(0.99, _normal(amount.value / max(amount.error, 1e-9) - CERTAIN_IN_SCENE + 1.0)), 3)


def _with_and_without(renderer: TrialRenderer, suspect: Suspect, region: TrialRegion, slice_: float, samples: int, seed: int) -> list[Patch]:
    """Brute force of the region without and with the suspect's edits, with the same random numbers: they differ only by the light of the gap
    or the sun."""
    patches = []
    for edits in ({}, suspect.edits):
        ready, recipe = renderer.truth(edits)
        patches.append(renderer.patch(ready, recipe, region.frame, slice_, samples=samples, first_seed=seed))
    return patches


def _brought(finding: Finding, region: TrialRegion, one: list[Patch], other: list[Patch]) -> Amount:
    """Light of the cause in the region's mask, relative to the light without it, from two pairs of renders."""
    about, bias = region.about(finding), MEASURES["bias"]
    value = (bias(one[0], one[1], about).value + bias(other[0], other[1], about).value) / 2.0
    apart = [(as_is.light - without.light)[region.mask] for as_is, without in (one, other)]
    light = max(float((one[1].light + other[1].light)[region.mask].mean()) / 2.0, 1e-12)
    return Amount(value, float(np.sqrt(np.square(apart[0] - apart[1]).mean() / 4.0 / apart[0].size)) / light)


def _normal(z: float) -> float:
    return 0.5 * (1.0 + math.erf(z / math.sqrt(2.0)))


def _conclude(finding: Finding) -> None:
    """Name the cause: among proven ones the most specific that explains most; otherwise, with less confidence, the best that was not struck off."""
    by_key = {s.key: s for s in finding.suspects}
    proven = [t for t in finding.trials if t.verdict == PROVEN]
    nearly = [t for t in finding.trials if t.verdict == OPEN and _share(t) >= NEARLY and not by_key[t.suspect].whole]
    # A setting of a way is a better answer than the way itself, even if less certain.
    specific = [t for t in proven if not by_key[t.suspect].whole] or nearly or proven
    if specific:
        best = max(specific, key=_share)
    else:
        left = [t for t in finding.trials if t.verdict == OPEN and _share(t) > 0.2]
        if not left:
            finding.confidence = 0.0
            finding.note = finding.note or "No tested cause explains it."
            return
        best = max(left, key=_share)
    least = (OF_SOURCE if finding.measure == "noise" else (MOST_LEFT, 0.0))[0]
    finding.cause, finding.cause_key = best.says, best.suspect
    finding.confidence = round(min(0.99, _normal((_share(best) - least) / max(best.brings_error or best.error or 0.0, 0.05))), 3)
    named = by_key[best.suspect].kind
    if named and named != finding.kind:
        finding.evidence["looked_like"] = finding.kind
        finding.kind = named


def _share(trial: Trial) -> float:
    """Share of the flaw that a trial attributes to its cause."""
    return (trial.explained if trial.brings is None else trial.brings) or 0.0
