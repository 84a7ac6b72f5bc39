"""The diagnosis against renders with planted flaws, and clean twins: what is found, whether it is there, whether the cause named first is right
and the confidence just, whether remedies work, and how far predictions were off.

Seeds for tuning and for reporting are apart: this module reports, from FIRST on; what was tuned was tuned below TUNED.
"""

import os
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from sivrel.core.diagnose import grain
from sivrel.core.diagnose.case import Case
from sivrel.core.diagnose.detectors import is_exact
from sivrel.core.diagnose.diagnosis import Diagnosis, diagnose
from sivrel.core.diagnose.finding import Finding, cleared
from sivrel.core.diagnose.fireflies import sparkling
from sivrel.core.diagnose.paired_render import PairedRender
from sivrel.core.diagnose.render import render_case
from sivrel.core.diagnose.retest import amount_in, of_mended_scene
from sivrel.core.diagnose.retesting import Side, retest_on
from sivrel.core.diagnose.trial_renderer import TrialRenderer
from sivrel.core.diagnose.truth import Coarse
from sivrel.core.render.frame import Frame
from sivrel.core.render.warmup import warm_up
from tests.corpus import GROUPS
from tests.flaws import Planted, clean

TUNED, FIRST, SEEDS, TWINS = 100, 5000, 1, 2
SECONDS, LONG = 16.0, 8.0
ALONE = "no bounced light"
"""Kinds that rest on what is exact; of the others each finding is looked for again, for long and with random numbers of its own."""
BINS = (0.0, 0.5, 0.8, 0.95, 1.01)


@dataclass
class Score:
    """What came of one kind of planted flaw."""

    planted: int = 0
    found: int = 0
    right: int = 0
    cured: int = 0
    tried: int = 0
    time_off: list[float] = field(default_factory=list)
    gain_off: list[float] = field(default_factory=list)
    sure: list[tuple[float, bool]] = field(default_factory=list)
    confirmed: int = 0
    invented: list[str] = field(default_factory=list)
    missed: list[str] = field(default_factory=list)
    failed: list[str] = field(default_factory=list)


def confirmed(finding: Finding, case: Case, renderer: TrialRenderer, truths: dict[str, tuple[Coarse, PairedRender | None]]) -> bool:
    """Whether a finding is there when it is looked for again, for long, with random numbers that the diagnosis never saw."""
    if finding.measure in ("bias", "structure") and not is_exact(finding.kind) and finding.cause_key != ALONE:
        answer = cleared(finding.as_dict())
        edits = finding.suspects[0].edits if of_mended_scene(answer) else {}
        name = str(sorted(edits.items()))
        if name not in truths:
            truth = Coarse(case.grid, 900_000)
            truth.refine(*renderer.truth(edits), LONG, renderer.task)
            truths[name] = truth, renderer.paired(truth, LONG / 2.0)
        truth, case.paired = truths[name]
        value, error = amount_in(answer, case, truth)
        return value > max(0.35 * finding.amount, 2.0 * error)
    if is_exact(finding.kind) or finding.cause_key == ALONE:
        return finding.evidence.get("trial_amount", 1.0) > 0.0
    again = render_case(
        renderer.scene, renderer.recipe, renderer.edits, None, Frame(renderer.frame.width, renderer.frame.height, None, 4242), caches=renderer.caches
    )  # fmt: skip
    if finding.measure == "sparkle":
        return int(sparkling(again[0]).sum()) > 0.3 * finding.amount * case.light.size
    # Grain: what two renders differ by, with nothing in common but the scene.
    assert finding.mask is not None
    mask = case.spread(finding.mask)
    apart = np.abs(again[0].light - case.light)[mask]
    robust = float(np.median(apart)) * 1.4826 / 2.0**0.5
    claimed = float(np.median(case.error[mask]))
    return robust > 0.4 * claimed


def proven(finding: Finding, case: Case, renderer: TrialRenderer, score: Score) -> None:
    """Render the first remedy that a render can prove, and measure the finding again."""
    remedy = next((r for r in finding.remedies if r.changes and (r.seconds is None or r.seconds < 150.0)), None)
    if remedy is None or finding.kind == "smear":
        return
    recipe, edits = renderer.changed(remedy.values, remedy.edits)
    made = render_case(renderer.scene, recipe, edits, None, renderer.frame, caches=renderer.caches)
    child, child_renderer = made
    result = retest_on(cleared(finding.as_dict()), cleared(remedy.__dict__), Side(child, child_renderer), Side(case, renderer), LONG / 3.0)
    score.tried += 1
    score.cured += result.verdict in ("gone", "smaller")
    if result.verdict not in ("gone", "smaller"):
        score.failed.append(f"{finding.kind} by {finding.cause_key}: {result.verdict}, {result.said}")
    if remedy.seconds and child.seconds:
        score.time_off.append(abs(remedy.seconds - child.seconds) / child.seconds)
    if remedy.amount is not None and result.before > 0.0:
        score.gain_off.append(abs(remedy.amount / finding.amount - result.after / result.before))


def _noisiest(renderer: TrialRenderer) -> str:
    """The source of most of the noise, from another render with random numbers of its own."""
    again, _ = render_case(
        renderer.scene, renderer.recipe, renderer.edits, None, Frame(renderer.frame.width, renderer.frame.height, None, 4243), caches=renderer.caches
    )  # fmt: skip
    found = next((f for f in grain.find(again) if f.kind == "grain"), None)
    sources = found.evidence.get("sources", {}) if found is not None else {}
    return f"source {max(sources, key=sources.get)}" if sources else ""


def judged(planted: Planted, made: Diagnosis, case: Case, renderer: TrialRenderer, score: Score) -> None:
    truths: dict[str, tuple[Coarse, PairedRender | None]] = {}
    for finding in made.findings:
        if confirmed(finding, case, renderer, truths):
            score.confirmed += 1
        else:
            score.invented.append(f"{finding.kind}: {finding.title}")
    for kinds, causes in planted.flaws:
        causes = causes or {_noisiest(renderer)}
        score.planted += 1
        ours = [f for f in made.findings if f.kind in kinds]
        if not ours:
            score.missed.append("/".join(sorted(kinds)))
            continue
        best = next((f for f in ours if f.cause_key in causes), ours[0])
        score.found += 1
        right = best.cause_key in causes
        score.right += right
        if not right:
            score.missed.append(f"{best.kind} by {best.cause_key or 'nothing'}")
        if best.confidence is not None and best.cause_key:
            score.sure.append((best.confidence, right))
        proven(best, case, renderer, score)


def group(name: str) -> Callable[[], str]:
    """The benchmark of one group of cases."""
    return lambda: diagnosis(groups=(name,), twins=0)


def diagnosis(
    first: int = FIRST, seeds: int = SEEDS, twins: int = TWINS, names: tuple[str, ...] = (), groups: tuple[str, ...] = tuple(GROUPS)
) -> str:
    """The table: a line for each case, sums of each group, one line for clean twins."""
    warm_up()
    begun, lines, scores = time.perf_counter(), [], {}
    for number, sort in enumerate(groups):
        mine: dict[str, Score] = {}
        for name, case_of in GROUPS[sort].items():
            if names and name not in names:
                continue
            score = mine[name] = Score()
            for seed in range(first + 100 * number, first + 100 * number + seeds):
                _score(case_of, seed, score)
            lines.append(_line(name, score))
            print(lines[-1], file=sys.stderr, flush=True)
        if mine:
            lines.append(f"{sort}: {_sums(list(mine.values()))}")
            scores.update(mine)
    found = [f.title for seed in range(first, first + twins) for f in _of_twin(seed)]
    lines.append(f"clean twins: {len(found)} findings in {twins} {found}")
    lines.append(f"all: {_sums(list(scores.values()))}")
    lines.append(f"{time.perf_counter() - begun:.0f} s on {os.cpu_count()} cores")
    return "\n  ".join(lines)


def _score(case_of: Callable[[int], Planted], seed: int, score: Score) -> None:
    try:
        planted = case_of(seed)
        case, renderer = planted.render()
        judged(planted, diagnose(case, renderer, seconds=SECONDS), case, renderer, score)
    except Exception as error:  # a case that can't be judged counts as one that was missed
        score.planted += 1
        score.invented.append(f"failed: {type(error).__name__} {error}")


def _of_twin(seed: int) -> list[Finding]:
    case, renderer = clean(seed).render()
    return diagnose(case, renderer, seconds=SECONDS).findings


def _line(name: str, s: Score) -> str:
    time_off, gain = (f"{np.median(v):.0%}" if v else "–" for v in (s.time_off, s.gain_off))
    wrong = (f", not confirmed {s.invented}" if s.invented else "") + (f", missed {s.missed}" if s.missed else "")
    wrong += f", remedies failed {s.failed}" if s.failed else ""
    return (
        f"{name}: found {s.found} of {s.planted}, cause right {s.right}, remedy worked {s.cured} of {s.tried}, time off {time_off}, gain off {gain}, "
        f"findings confirmed {s.confirmed} of {s.confirmed + len(s.invented)}{wrong}"
    )


def _sums(scores: list[Score]) -> str:
    planted, found, right = (sum(getattr(s, name) for s in scores) for name in ("planted", "found", "right"))
    tried, cured, confirmed_ = (sum(getattr(s, name) for s in scores) for name in ("tried", "cured", "confirmed"))
    invented = sum(len(s.invented) for s in scores)
    times, gains = [v for s in scores for v in s.time_off], [v for s in scores for v in s.gain_off]
    sure = [pair for s in scores for pair in s.sure]
    bins = []
    for low, high in zip(BINS[:-1], BINS[1:], strict=True):
        inside = [right for value, right in sure if low <= value < high]
        if inside:
            bins.append(f"{low:.0%} to {min(high, 1.0):.0%} sure: {np.mean(inside):.0%} of {len(inside)} right")
    return (
        f"recall {found / max(planted, 1):.2f}, precision {confirmed_ / max(confirmed_ + invented, 1):.2f}, "
        f"cause right {right / max(planted, 1):.2f} (of those found {right / max(found, 1):.2f}), "
        f"remedies worked {cured / max(tried, 1):.2f} of {tried}, "
        f"predicted time off {np.median(times) if times else 0:.0%} (median), predicted gain off {np.median(gains) if gains else 0:.0%} of the flaw; "
        + "; ".join(bins)
    )
