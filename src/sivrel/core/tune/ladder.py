"""The ladder: one setting, or two, rendered at several values on one region, cheapest first, to find the rung above which no gain is visible.

Each rung is rendered twice with different seeds, to separate noise from bias, and compared with brute force. Settings of taste, which change
the result on purpose, are only shown side by side: there is no reference for them, and no value is “enough”.
"""

import itertools
import math
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from ..diagnose.finding import cleared
from ..diagnose.trial_renderer import TrialRenderer
from ..edits.edits import apart, is_edit
from ..errors import Cancelled
from ..measure.cost import work_of
from ..measure.difference import PIXELS_PER_DEGREE, visible_difference
from ..measure.noise import LUMINANCE
from ..measure.verdict import where_seen
from ..render.filter import filter_film
from ..render.frame import Frame
from ..task import OutOfTime
from ..work_time import work_time
from .error import Error, Reference, error_of, reference
from .fits import Fit, fit_power
from .in_motion import JudgeInMotion, MotionLevel
from .render import take
from .varied import LARGER_IS_CHEAPER, Varied, varied

SEEN_SHARE = 0.005
"""Share of a region that must look different for a difference to count as visible."""
REFERENCE_SHARE = 0.3
"""Share of a ladder's time spent on brute force, which is stored for the next."""
SECOND_SEED = 7919
NOT_NOISE = 1e-9


@dataclass
class Rung:
    """One value. values: of the settings, by key; seconds: of the region's pixels; prepares: caches of the whole frame; frame_seconds: both,
    for the whole frame; error against brute force; next, last, reference: share of the region that visibly differs from the next rung, from the
    last one, from brute force (`seen`), and the mean FLIP values (`flip`); flicker: in motion, if asked; light: mean luminance; picture: linear
    colour; against: brute force as it is compared with; skipped: why it was not rendered; predicted: expected seconds."""

    values: dict[str, Any]
    seconds: float = 0.0
    prepares: float = 0.0
    frame_seconds: float = 0.0
    samples: float = 0.0
    error: Error | None = None
    seen: dict[str, float] = field(default_factory=dict)
    flip: dict[str, float] = field(default_factory=dict)
    flicker: MotionLevel | None = None
    enough: bool = False
    light: float = 0.0
    predicted: float = 0.0
    skipped: str = ""
    picture: np.ndarray | None = None
    against: np.ndarray | None = None

    def as_dict(self) -> dict[str, Any]:
        kept = {name: value for name, value in self.__dict__.items() if name != "against"}
        flicker = self.flicker.as_dict() if self.flicker else None
        return {**kept, "error": self.error.as_dict() if self.error else None, "flicker": flicker}


@dataclass
class Ladder:
    """varied: the setting, or two; rungs in order of cost, for two settings all pairs; region in pixels of the frame; fits: curves of the
    frame's seconds, of the noise's variance and of the flicker's energy over the value, for one setting; reference_error: of brute force, as noise;
    take: values from which no difference is visible, nor flicker if that was measured, None if the rungs do not show it; says: that in a sentence;
    filtered: whether all of this is of the pictures as the noise filter shows them, its time included."""

    varied: tuple[Varied, ...]
    region: tuple[int, int, int, int]
    per_degree: float
    rungs: list[Rung] = field(default_factory=list)
    fits: dict[str, Fit] = field(default_factory=dict)
    reference_error: float = 0.0
    reference_seconds: float = 0.0
    take: dict[str, Any] | None = None
    says: str = ""
    complete: bool = False
    filtered: bool = False

    @property
    def of_taste(self) -> bool:
        return any(one.taste for one in self.varied)

    def as_dict(self) -> dict[str, Any]:
        return cleared(
            {
                "varied": [{"key": v.key, "values": list(v.values), "name": v.name, "unit": v.unit, "taste": v.taste} for v in self.varied],
                "region": list(self.region), "per_degree": self.per_degree, "rungs": [rung.as_dict() for rung in self.rungs],
                "fits": {name: fit.as_dict() for name, fit in self.fits.items()}, "reference_error": self.reference_error,
                "reference_seconds": self.reference_seconds, "take": self.take, "says": self.says, "complete": self.complete,
                "filtered": self.filtered,
            }
        )  # fmt: skip


def rungs_of(renderer: TrialRenderer, key: str, values: list[Any] | None, exposure: float) -> Varied:
    """A setting with its rungs, given or chosen around the value in the renderer's recipe. Raises InputError."""
    measured = {} if values or is_edit(key) else renderer.radii()
    return varied(key, values, renderer.recipe, renderer.edits, measured, 2.0**-exposure)


def climb(
    renderer: TrialRenderer, chosen: list[Varied], frame: Frame, exposure: float, *, seconds: float = 60.0,
    per_degree: float = PIXELS_PER_DEGREE, filtered: bool = False, in_motion: JudgeInMotion | None = None,
) -> Ladder:  # fmt: skip
    """Render the rungs on a frame's window, cheapest first, and find which is enough at a viewing distance, as rendered or `filtered`; with
    `in_motion`, so that neither grain nor flicker is seen. Automatically chosen rungs are skipped when `seconds` in total are over. The renderer's
    task receives each rung with the ladder so far, which is returned if it is cancelled."""
    ladder = Ladder(tuple(chosen), frame.window, per_degree, filtered=filtered)
    combinations = [dict(zip([v.key for v in chosen], values, strict=True)) for values in itertools.product(*(v.values for v in chosen))]
    ladder.rungs = [Rung(values) for values in combinations]
    try:
        _climb(renderer, ladder, frame, exposure, seconds, in_motion)
        ladder.complete = True
    except Cancelled:
        pass
    return ladder


def _climb(
    renderer: TrialRenderer, ladder: Ladder, frame: Frame, exposure: float, seconds: float, in_motion: JudgeInMotion | None
) -> None:  # fmt: skip
    begun, held, chosen = work_time(), None, ladder.varied
    if not ladder.of_taste:
        renderer.task.report("rendering brute force", 0.02, ladder)
        held = reference(renderer, frame, REFERENCE_SHARE * seconds)
        ladder.reference_error, ladder.reference_seconds = held.error, held.seconds
    given = all(one.given for one in chosen)
    work = {id(rung): _work(renderer, rung) for rung in ladder.rungs}
    in_turn = sorted(ladder.rungs, key=lambda rung: work[id(rung)]) if len(chosen) > 1 else ladder.rungs
    for k, rung in enumerate(in_turn):
        left = begun + seconds - work_time()
        rung.predicted = _predicted([other for other in in_turn[:k] if other.picture is not None], rung, work, frame)
        if k >= 2 and rung.predicted > left and not given:
            rung.skipped = f"would take about {rung.predicted:.0f} s, and {max(left, 0.0):.0f} s were left; give its value to render it anyway"
            continue
        what = f"rendering {' and '.join(v.shown(rung.values[v.key]) for v in chosen)}"
        what += f", about {rung.predicted:.2g} s" if rung.predicted >= 1.0 else ""
        renderer.task.report(what, 0.3 + 0.7 * k / len(ladder.rungs), ladder)
        if not render_rung(renderer, rung, frame, held, math.inf if given else max(left, 0.2 * seconds), ladder.filtered):
            continue
        if in_motion is not None:
            renderer.task.report(f"{what}, in motion", 0.3 + 0.7 * (k + 0.5) / len(ladder.rungs), ladder)
            rung.flicker = in_motion(*renderer.changed(*apart(rung.values)))
        if held is not None:
            _set_against(ladder, exposure)
        judge(ladder)


def render_rung(renderer: TrialRenderer, rung: Rung, frame: Frame, held: Reference | None, left: float, filtered: bool = False) -> bool:
    """Render a rung with two seeds, and measure it if there is brute force to compare with, `filtered` if asked; False if its caches take longer
    than the time left. Raises Cancelled."""
    recipe, edits = renderer.changed(*apart(rung.values))
    try:
        with renderer.within(work_time() + max(left, 1.0)):
            ready = renderer.ready(recipe, edits, frame.window)[0]
            rung.prepares = renderer.prepares(recipe, edits, frame.window)
    except OutOfTime:
        rung.skipped = "its caches take longer than the time left"
        return False
    seeds = (frame.seed, (frame.seed + SECOND_SEED) % (1 << 32))
    one, other = (take(ready, recipe, replace(frame, seed=seed), renderer.task) for seed in seeds)
    rung.seconds, rung.samples = min(one.seconds, other.seconds), (one.samples + other.samples) / 2.0
    pictures, rung.against = [one.colours[0], other.colours[0]], held.colour if held is not None else None
    if filtered:
        begun = work_time()
        pictures = [filter_film(each.films[0], ready.arrays) for each in (one, other)]
        rung.seconds += (work_time() - begun) / 2.0
        rung.against = filter_film(one.films[0], ready.arrays, rung.against) if rung.against is not None else None
    rung.frame_seconds = rung.prepares + rung.seconds * frame.width * frame.height / frame.pixels
    rung.error = error_of(pictures[0] @ LUMINANCE, pictures[1] @ LUMINANCE, held) if held is not None else None
    rung.picture = pictures[0] if held is not None else (pictures[0] + pictures[1]) / 2.0
    rung.light = float((rung.picture @ LUMINANCE).mean())
    return True


def _work(renderer: TrialRenderer, rung: Rung) -> float:
    """Approximate most rays per pixel of a rung."""
    recipe = renderer.changed(*apart(rung.values))[0]
    return work_of(recipe) * recipe.sampling.max


def _predicted(done: list[Rung], rung: Rung, work: dict[int, float], frame: Frame) -> float:
    """Expected seconds of a rung, from the rays and seconds of the last rendered one; 0 if there is none."""
    if not done:
        return 0.0
    last = done[-1]
    return 2.0 * last.seconds * work[id(rung)] / work[id(last)] + last.prepares * frame.pixels / (frame.width * frame.height)


def _set_against(ladder: Ladder, exposure: float) -> None:
    """Visible differences of rungs: each from the next, from the last rendered, and from brute force."""
    done = [(rung, rung.picture) for rung in ladder.rungs if rung.picture is not None]
    newest, last = done[-1]

    def against(rung: Rung, picture: np.ndarray, name: str, colour: np.ndarray) -> None:
        shown = visible_difference(picture, colour, exposure, ladder.per_degree)
        rung.seen[name], rung.flip[name] = float(where_seen(shown, ladder.per_degree).mean()), float(shown.mean())

    assert newest.against is not None
    against(newest, last, "reference", newest.against)
    for rung, picture in done[:-1]:
        against(rung, picture, "last", last)
    newest.seen["last"] = newest.flip["last"] = 0.0
    if len(done) > 1 and len(ladder.varied) == 1:
        before = done[-2][0]
        before.seen["next"], before.flip["next"] = before.seen["last"], before.flip["last"]


def judge(ladder: Ladder) -> None:
    """Fit the curves, and find the rung from which no difference is visible."""
    done = [rung for rung in ladder.rungs if rung.error is not None]
    for rung in ladder.rungs:
        rung.enough = False
    if len(ladder.varied) == 1:
        key = ladder.varied[0].key
        x = [float(rung.values[key]) for rung in done]
        curves = {"seconds": [r.frame_seconds for r in done], "variance": [max(r.error.noise, NOT_NOISE) ** 2 for r in done if r.error]}
        fits = {name: fit_power(x, y) for name, y in curves.items()}
        if all(rung.flicker for rung in done):
            fits["flicker"] = fit_power(x, [max(r.flicker.level, NOT_NOISE) ** 2 for r in done if r.flicker])
        ladder.fits = {name: fit for name, fit in fits.items() if fit is not None}
    by_cost = sorted(done, key=lambda r: r.frame_seconds) if len(ladder.varied) > 1 else done
    # Rungs after which nothing looks different, including all more expensive ones.
    enough = None
    for k, rung in enumerate(by_cost[:-1]):
        later = [other for other in by_cost[k:-1] if len(ladder.varied) == 1] or [rung]
        still = all(other.seen.get("last", 1.0) < SEEN_SHARE for other in later)
        if still and all(other.flicker is None or other.flicker.hidden for other in (*later, by_cost[-1])):
            enough = rung
            break
    ladder.take = dict(enough.values) if enough else None
    if enough:
        enough.enough = True
    ladder.says = _sentence(ladder, enough, done)


def _sentence(ladder: Ladder, enough: Rung | None, done: list[Rung]) -> str:
    if ladder.of_taste:
        names = " and ".join(one.name for one in ladder.varied)
        return f"Which {names} is right is a matter of taste: the rungs are shown side by side, and none is rated."
    if len(done) < 2:
        return ""
    distance = f"at {ladder.per_degree:g} pixels a degree" + (" once it is filtered" if ladder.filtered else "")
    if enough is not None:
        assert enough.error is not None
        what = ", ".join(f"{v.name} from {v.shown(enough.values[v.key])} on" for v in ladder.varied)
        first = (
            f"{what[0].upper()}{what[1:]}: no visible difference {distance}. {enough.frame_seconds:.3g} s a frame, {enough.error.noise:.1%} noise."
        )
        if enough.flicker is not None:
            first += f" In motion its flicker is {enough.flicker.words}."
        if enough is done[0]:
            first += " It is the lowest rung; lower ones may be enough, too."
        return first + _of_bias(enough, ladder.filtered)
    dearest = done[-1]
    assert dearest.error is not None
    beyond = " or ".join(f"of {v.name} beyond {v.shown(dearest.values[v.key])}" for v in ladder.varied)
    text = f"The last rung still looks different from those before it {distance}; add rungs {beyond}."
    if dearest.flicker is not None:
        text += _of_flicker(ladder, dearest)
    fit = ladder.fits.get("variance")
    if fit is not None and dearest.error.noise > 0.0:
        wanted = _dearer(ladder.varied[0], dearest, fit.reaches(dearest.error.noise**2 / 4.0))
        if wanted is not None:
            text += f" By its curve noise falls to {dearest.error.noise / 2.0:.1%} at about {wanted:.3g}."
        elif fit.floor > 0.5 * dearest.error.noise**2:
            text += f" Its noise stays at {fit.floor**0.5:.1%}: the rest comes from other sources."
    return text + _of_bias(dearest, ladder.filtered)


def _of_flicker(ladder: Ladder, dearest: Rung) -> str:
    """What the flicker of the last rung says, and where by its curve it would no longer be seen."""
    assert dearest.flicker is not None
    if dearest.flicker.hidden:
        return ""
    fit, text = ladder.fits.get("flicker"), f" In motion it flickers {dearest.flicker.words}"
    wanted = _dearer(ladder.varied[0], dearest, fit.reaches(1.0)) if fit is not None else None
    if wanted is not None:
        return f"{text}; by its curve that is no longer seen at about {wanted:.3g}."
    stays = fit is not None and fit.floor > 0.5 * dearest.flicker.level**2
    return f"{text}, most of which this setting does not change." if stays else f"{text}."


def _dearer(chosen: Varied, dearest: Rung, wanted: float | None) -> float | None:
    """A value from a curve, rounded for whole settings; None if it is not beyond the most expensive rung."""
    if wanted is None or not 0.0 < wanted < 1e9:
        return None
    cheaper_up, stands = chosen.key in LARGER_IS_CHEAPER, float(dearest.values[chosen.key])
    if all(isinstance(value, int) for value in chosen.values):
        wanted = float(math.floor(wanted) if cheaper_up else math.ceil(wanted))
    return wanted if (wanted < stands if cheaper_up else wanted > stands) and wanted > 0.0 else None


def _of_bias(rung: Rung, filtered: bool) -> str:
    error = rung.error
    if error is None or error.bias < 0.02 or error.bias < 2.0 * error.bias_error:
        return ""
    light = f", {abs(error.light - 1.0):.1%} of the light {'lost' if error.light < 1.0 else 'too much'}" if abs(error.light - 1.0) > 0.005 else ""
    falls = "the filter's part of which falls with more samples" if filtered else "which more samples do not remove"
    return f" Against brute force {error.bias:.1%} of it is bias{light}, {falls}."
