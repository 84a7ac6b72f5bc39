"""A whole diagnosis: what the picture itself shows, at once; where it deviates from brute force; what the scene causes; then trials and remedies.

`diagnose` takes a case and, if the picture was rendered here, a renderer of trials. One module per flaw; a line in detectors.py
adds one.
"""

from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from ..caches import Cache, hash_of
from ..errors import Cancelled
from ..survey import gaps
from ..survey.finding import Mend
from ..survey.finding import SceneFinding as Gap
from ..survey.look import Look
from ..work_time import work_time
from . import blotches, dim, fireflies, glass, leaks, smear, suns
from .case import Case
from .contributors import trace_contributors
from .detector import Detector
from .detectors import DETECTORS, is_exact
from .finding import PROVEN, Finding, cleared
from .paired_render import PairedRender
from .regions import Region, places_off
from .remedies import add_remedies, confirm_remedies, try_remedies
from .suspects import ways_in_use
from .trial_renderer import TrialRenderer
from .trials import of_the_scene, try_suspects
from .truth import Coarse, dependencies

TRUTH_SECONDS, ECHO_SECONDS = 0.1, 0.05
"""Shares of the time for a round of brute force and of the paired render."""
PAIR_SECONDS, SLICE = 2.4, 0.9
EFFORT = 0.3
"""Share of a survey's rays used to search for gaps."""
KIND_OF_PAIR, KIND_OF_GAPS = "brute force without gaps", "survey of gaps"
MOST_OF_A_KIND = 2
LEAST_OF_TRIALS = 0.6
"""Least share of the time for trials, however long the steps before took."""
CACHES_OF_TRIALS = 2.0
"""Number of times that trials may remake the proof's caches beyond the given time."""
MOST_OVER, MOST_CONFIRMING = 1.1, 1.4
"""Factor on the time until which remedies may be tried."""
LEAST_TO_LOOK = 0.3
"""Share of the time that must be left for a longer look."""
SAME_PLACE = 0.3
"""Overlap from which two findings are the same."""


@dataclass
class Diagnosis:
    """findings: worst first; withdrawn: suspected flaws that were none; seconds by stage; first: seconds until the first findings;
    truth_error: standard error of brute force's mean light, as a share; complete: whether there was time for everything; filtered: whether the
    noise filter's picture was judged"""

    findings: list[Finding]
    withdrawn: list[Finding]
    seconds: dict[str, float]
    first: float
    truth_error: float | None = None
    complete: bool = True
    outside: bool = False
    filtered: bool = False

    def as_dict(self) -> dict[str, Any]:
        return cleared(
            {
                "findings": [f.as_dict() for f in self.findings], "withdrawn": [f.as_dict() for f in self.withdrawn], "seconds": self.seconds,
                "first": self.first, "truth_error": self.truth_error, "complete": self.complete, "outside": self.outside, "filtered": self.filtered,
            }
        )  # fmt: skip


def find_in_picture(case: Case) -> list[Finding]:
    """Findings from the picture and its passes only, worst first."""
    found = [finding for one in DETECTORS if one.find is not None for finding in one.find(case)]
    return sorted(found, key=lambda f: -f.rank)


def find_off(case: Case, truth: Coarse) -> list[Finding]:
    """Where the picture's light deviates from brute force, and the kind of flaw that suggests before any trial."""
    if case.recipe is None:
        return []
    off = places_off(case, truth)
    whole = [finding for one in DETECTORS if one.find_off is not None for finding in one.find_off(case, truth, off)]
    blotchy = blotches.find(case, truth)
    found = [*whole, *blotchy, *smear.find_off(case, truth)]
    signs = {finding.sign for finding in whole}
    both = any(f.kind == "flat" and case.recipe.gi.seen == "ambient" for f in whole)
    for region in off.regions:
        detector, score = _best(case, region)
        if score <= 0.0 or both or (region.sign in signs and detector is not glass.DETECTOR):
            continue
        # Where light varies in patches, a single patch is not a finding.
        if blotchy and _is_patch(region, blotchy[0]):
            continue
        assert detector.describe is not None
        made = detector.describe(case, region)
        # A deviation that no shortcut of the recipe could cause is noise: rare paths that only one of the two renders found.
        if made.suspects and sum(f.kind == made.kind for f in found) < MOST_OF_A_KIND:
            found.append(made)
    return found


def _best(case: Case, region: Region) -> tuple[Detector, float]:
    """The detector that fits a place best, and how well."""
    scored = [(one.claims(case, region), one) for one in DETECTORS if one.claims is not None]
    score, detector = max(scored, key=lambda s: s[0])
    return detector, score


def _is_patch(region: Region, blotch: Finding) -> bool:
    wide = blotch.evidence["share_blotchy"] > 0.2
    return abs(region.contrast) < (5.0 if wide else 2.5) * blotch.contrast and region.share < 0.1


def diagnose(
    case: Case, renderer: TrialRenderer | None = None, *, seconds: float = 20.0
) -> Diagnosis:  # fmt: skip
    """Find the flaws of a picture; with a renderer, prove their causes by trials within about `seconds` in total, and offer remedies.

    The renderer's task receives each step with the findings so far; if it is cancelled, these are returned. Brute
    force is stored in the renderer's caches for the next diagnosis of the same view.
    """
    begun = work_time()
    result = Diagnosis(find_in_picture(case), [], {}, work_time() - begun, outside=renderer is None, filtered=case.unfiltered is not None)
    result.seconds["picture"] = result.first

    def say(what: str, share: float) -> None:
        assert renderer is not None
        renderer.task.report(what, share, sorted(result.findings, key=lambda f: -f.rank))

    if renderer is not None and case.recipe is not None:
        try:
            _by_trials(case, renderer, result, say, begun, seconds)
        except Cancelled:
            result.complete = False
    for finding in result.findings:
        add_remedies(case, finding)
    if renderer is not None and result.complete:
        since = work_time()
        try:
            _prove_remedies(case, renderer, result.findings, begun, seconds)
        except Cancelled:
            result.complete = False
        result.seconds["remedies"] = work_time() - since
    for finding in result.findings if result.filtered else ():
        finding.evidence["filtered"] = True
    result.withdrawn = [f for f in result.findings if f.chance]
    result.findings = sorted((f for f in result.findings if not f.chance), key=lambda f: -f.rank)
    result.complete &= all(f.trials or is_exact(f.kind) or f.confidence is not None for f in result.findings)
    return result


def _prove_remedies(case: Case, renderer: TrialRenderer, found: list[Finding], begun: float, seconds: float) -> None:
    """Try remedies with unknown effect, and the best of the others once more."""
    for finding in found:
        try_remedies(case, renderer, finding, begun + MOST_OVER * seconds)
    for finding in sorted(found, key=lambda f: -f.rank):
        common = renderer.tried.get(id(finding))
        if common is not None and not finding.chance:
            confirm_remedies(common, begun + MOST_CONFIRMING * seconds)


def _by_trials(
    case: Case, renderer: TrialRenderer, result: Diagnosis, say: Callable[[str, float], None], begun: float, seconds: float
) -> None:  # fmt: skip
    """The stages that render: caches as the proof had them, brute force, the scene, trials. Findings are added to the result as they come."""
    now = work_time()

    def stage(name: str) -> None:
        nonlocal now
        result.seconds[name], now = work_time() - now, work_time()

    say("making the caches ready", 0.05)
    case.radii, case.glowing, case.own_shadows = renderer.radii(), renderer.glowing(), renderer.own_shadows()
    if case.seconds is None:
        _time(case, renderer)
    for finding in result.findings:
        if finding.kind == "fireflies":
            finding.suspects = fireflies.suspects(case, finding.about, fireflies.sparkling(case))
    stage("caches")
    truth = _against_brute_force(case, renderer, result, say, seconds)
    result.findings = result.findings + dim.without_bounces(case, renderer)
    _against_spacing(case, renderer, result.findings)
    stage("brute force")
    result.findings = _named_once(result.findings + _of_scene(case, renderer, result.findings))
    inside = case.grid.inside()
    result.truth_error = float((truth.variance[inside].sum() ** 0.5) / max(truth.light[inside].sum(), 1e-12))
    stage("scene")
    # A trial may have to remake a cache: if that takes long, trials have up to twice the time.
    caches = min(CACHES_OF_TRIALS * renderer.ready(renderer.recipe, renderer.edits)[1], seconds)
    until = max(begun + seconds, now + LEAST_OF_TRIALS * seconds) + caches
    _trials(case, renderer, result.findings, until, say)
    stage("trials")
    if case.paired is not None and until - now > LEAST_TO_LOOK * seconds:
        _look_longer(case, renderer, truth, result, say, until)
        stage("a longer look")
    result.findings = _without_repeats(result.findings)


def _against_brute_force(
    case: Case, renderer: TrialRenderer, result: Diagnosis, say: Callable[[str, float], None], seconds: float
) -> Coarse:  # fmt: skip
    """Render brute force of the grid, and the picture's paired render, and add deviations to the findings; refine twice if nothing was stored, and
    once more if nothing was found."""
    of_picture, (truth, ready, recipe) = result.findings, renderer.coarse(case.grid)
    case.paired = PairedRender() if renderer.recipe_differs(recipe) else None
    rounds = 2 if truth.samples == 0 else 1
    for k in range(rounds + 1):
        if k == rounds and (case.paired is None or any(f.measure in ("bias", "structure") for f in result.findings)):
            break
        say("rendering brute force", 0.08 + 0.25 * k / (rounds + 1))
        truth.refine(ready, recipe, TRUTH_SECONDS * seconds, renderer.task)
        if case.paired is not None:
            case.paired.follow(truth, renderer.base(), renderer.recipe, ECHO_SECONDS * seconds, renderer.task)
        result.findings = _merged(of_picture, find_off(case, truth))
    say("checking the scene", 0.34)
    renderer.keep_coarse(truth, ready, recipe)
    return truth


def _look_longer(
    case: Case, renderer: TrialRenderer, truth: Coarse, result: Diagnosis, say: Callable[[str, float], None], until: float
) -> None:  # fmt: skip
    """Refine brute force with half of the time left from trials, and try new findings."""
    assert case.paired is not None
    say("looking longer", 0.9)
    ready, recipe = renderer.truth()
    seconds = (until - work_time()) / 2.0
    truth.refine(ready, recipe, seconds / 2.0, renderer.task)
    case.paired.follow(truth, renderer.base(), renderer.recipe, seconds / 2.0, renderer.task)
    renderer.keep_coarse(truth, ready, recipe)
    known = [f for f in result.findings if not f.chance]
    new = [f for f in find_off(case, truth) if all(_overlap(f, k) < SAME_PLACE for k in known if k.measure in ("bias", "structure"))]
    new = [f for f in new if f.measure == "bias" or all(k.kind != f.kind for k in known)]
    if new:
        _feed_leaks(case, renderer, new, renderer.look(EFFORT))
        result.findings = result.findings + new
        _trials(case, renderer, new, until, say)


def _time(case: Case, renderer: TrialRenderer) -> None:
    """Estimated render time of the picture on this machine, from its whole frame on the coarse grid."""
    cells = case.grid.cells_of(case.grid.window)
    patch = renderer.patch(renderer.base(), renderer.recipe, case.grid.frame(0, cells), 0.0, samples=2)
    case.pixel_seconds = patch.rate * case.samples * case.light.size
    case.seconds = case.pixel_seconds + renderer.ready(renderer.recipe, renderer.edits)[1]


def _against_spacing(case: Case, renderer: TrialRenderer, found: list[Finding]) -> None:
    """Relate the size of blotches to the cache's own distances."""
    depths = case.picture.passes.get("depth")
    for finding in found:
        if finding.kind != "blotches" or depths is None:
            continue
        x0, y0 = case.picture.frame.window[:2]
        covered: np.ndarray = np.isfinite(depths[..., 0])
        covered = covered & case.spread(finding.mask) if finding.mask is not None else covered
        there = np.zeros((case.grid.height, case.grid.width), bool)
        rows, columns = covered.shape[:2]
        there[y0 : y0 + rows, x0 : x0 + columns] = covered
        set_by = renderer.spacing(float(np.median(depths[..., 0][covered])), there) if covered.any() else None
        if set_by is not None:
            finding.evidence["spacing_px"] = set_by[1]
            finding.why += f" They are about {finding.size:.0f} pixels wide; {set_by[0].format(round(set_by[1]))}."


def _merged(found: list[Finding], off: list[Finding]) -> list[Finding]:
    """Findings from brute force replace those of the same kind from the picture only."""
    kinds = {f.kind for f in off if f.kind in ("black glass", "smear")}
    return [f for f in found if f.kind not in kinds] + off


def _named_once(found: list[Finding]) -> list[Finding]:
    """A lost shadow in the same place as steps is reported as steps only."""
    stepped = [f for f in found if f.kind == "steps"]
    return [f for f in found if not (f.kind == "lost contact shadow" and any(_overlap(f, s) > 0.5 for s in stepped))]


def _without_repeats(found: list[Finding]) -> list[Finding]:
    """Merge findings of the same kind and cause into the worst of those that had the kind from the start."""
    kept: list[Finding] = []
    for finding in sorted(found, key=lambda f: ("looked_like" in f.evidence, -f.rank)):
        same = next((k for k in kept if finding.cause_key and (k.kind, k.cause_key) == (finding.kind, finding.cause_key) and k.kind != "grain"), None)
        if same is None:
            kept.append(finding)
            continue
        same.evidence["places"] = same.evidence.get("places", 1) + 1
        same.share = min(1.0, same.share + finding.share)
        if same.evidence["places"] == 2:
            same.why += " It shows elsewhere, too."
    return kept


def _overlap(one: Finding, other: Finding) -> float:
    if one.mask is None or other.mask is None:
        return 0.0
    return float((one.mask & other.mask).sum() / max(1, one.mask.sum()))


def _of_scene(case: Case, renderer: TrialRenderer, found: list[Finding]) -> list[Finding]:
    """Flaws caused by the scene itself: suns that disagree, gaps that let light in, and sheets as suspects of the leaks found."""
    look = renderer.look(EFFORT)
    made = suns.find(case, look)
    if not look.inside:
        return made
    _feed_leaks(case, renderer, found, look)
    open_joints = _gaps(renderer, look)
    if open_joints:
        edits = {key: value for gap in open_joints for mend in gap.mends[:1] for key, value in mend.edits.items()}
        pair = _pair(case, renderer, edits)
        if pair is not None:
            made += leaks.find_in_scene(case, pair, open_joints)
    return made


def _feed_leaks(case: Case, renderer: TrialRenderer, found: list[Finding], look: Look) -> None:
    """Add to leaks the source of their light, and suspect the scene's sheets."""
    leaking = [f for f in found if f.kind == "leak"]
    if not leaking or not look.inside or case.recipe is None or not ways_in_use(case.recipe):
        return
    sheets = leaks.sheet_suspects(look)
    for finding in leaking:
        trace_contributors(case, renderer, finding, look)
        finding.suspects = sorted([*finding.suspects, *sheets], key=lambda s: -s.prior)


def _pair(case: Case, renderer: TrialRenderer, edits: dict[str, Any]) -> leaks.Pair | None:
    """Brute force with and without the gaps, stored or rendered now."""
    depends = dependencies(*renderer.truth(edits), case.grid)
    kept = renderer.found(KIND_OF_PAIR, depends)
    if kept is not None:
        return leaks.Pair(kept.arrays["open"], kept.arrays["closed"])
    begun, pair = work_time(), leaks.render_pair(renderer, case.grid, edits, PAIR_SECONDS)
    renderer.keep(Cache(KIND_OF_PAIR, renderer.scene.name, depends, pair._asdict(), {"seconds": work_time() - begun}))
    return pair


def _gaps(renderer: TrialRenderer, look: Look) -> list[Gap]:
    """The gaps of a scene, from an earlier search if stored."""
    depends = {"geometry": hash_of(renderer.base().geometry.hash(), look.arrays.objects), "camera": hash_of(look.camera.to_world)}
    kept = renderer.found(KIND_OF_GAPS, depends)
    if kept is not None:
        return [Gap(**{**found_gap, "mends": [Mend(**mend) for mend in found_gap["mends"]]}) for found_gap in kept.notes["gaps"]]
    begun, found = work_time(), gaps.check(look)
    notes = {"seconds": work_time() - begun, "count": len(found), "unit": "gaps", "gaps": [asdict(gap) for gap in found]}
    renderer.keep(Cache(KIND_OF_GAPS, renderer.scene.name, depends, {}, notes))
    return found


def _trials(case: Case, renderer: TrialRenderer, found: list[Finding], until: float, say: Callable[[str, float], None]) -> None:
    """Try the suspects of each finding, worst first, while there is time; each gets its share of the rest. A cause proven for one finding is tried
    first for the next: one cause often shows in many places."""
    proven: set[str] = set()
    waiting = [f for f in sorted(found, key=lambda f: -f.rank) if f.suspects and not is_exact(f.kind)]
    waiting.sort(key=lambda f: not of_the_scene(f))  # those take a second each
    for k, finding in enumerate(waiting):
        left = until - work_time()
        if left < SLICE:
            break
        say(f"trying causes: {finding.title}", 0.4 + 0.55 * k / max(1, len(waiting)))
        own = min(left, max(3.0 * SLICE, 1.6 * left / (len(waiting) - k)))
        finding.suspects.sort(key=lambda s: (s.key not in proven, -s.prior))
        common = try_suspects(
            case, renderer, finding, work_time() + own, until, max(0.25, min(SLICE if finding.measure != "noise" else 0.6 * SLICE, own / 5.0))
        )
        if common is not None:
            renderer.tried[id(finding)] = common
        proven |= {trial.suspect for trial in finding.trials if trial.verdict == PROVEN}
