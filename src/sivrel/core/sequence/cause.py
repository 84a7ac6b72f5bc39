"""Why a moving shot flickers: trials in which one thing at a time is held still, and what would cure it.

Grain is tried with a quarter of the samples, which must make four times its energy: sooner measured than with more of them. Caches that are made
for each frame are tried shared, depth maps traced, and of lights drawn by chance all. What a trial takes away is that cause's share. What none takes
away is light and shadow that move.
"""

from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np

from ..edits.edits import apart
from ..gi.ways import PREPARING
from ..render.recipe import Recipe
from ..scene.model import Light
from .trials import Box, Measured, MotionTrials

FEWER = 4
"""Grain is tried with so many times fewer samples."""
SHARED_KEYS = 3
CONFIRMED, STRUCK = 0.25, 0.1
"""Least share of a confirmed cause; largest of one that is struck off."""
MOSTLY = 0.5
"""Share of the flicker from which a cause explains the grain, too."""
SIDE = 96
"""Side of the box about the worst place, in pixels."""
MOST_SAMPLES = 64.0
"""Most times the samples that a remedy offers."""


@dataclass
class Suspect:
    """One possible cause, tried. share: of the flicker's energy that went away, and its standard error; state: confirmed, struck or open;
    says: what was done, and what came of it; of: what it is a share of, if not of the whole flicker."""

    key: str
    title: str
    share: float = 0.0
    error: float = 0.0
    state: str = "open"
    says: str = ""
    of: str = ""


@dataclass
class Remedy:
    """A change of the recipe or of lights. level: predicted, in times what is just seen; seconds: of a frame; once: before the first frame."""

    title: str
    changes: dict[str, Any]
    level: float
    seconds: float
    once: float = 0.0
    filtered: bool = False


@dataclass
class Cause:
    """time, box: where it was looked at; level: the flicker there, in times what is just seen, and in time filtered; suspects: likeliest first;
    remedies: best first; says: in a sentence."""

    time: float
    box: Box
    level: float
    filtered: float | None = None
    suspects: list[Suspect] = field(default_factory=list)
    remedies: list[Remedy] = field(default_factory=list)
    says: str = ""

    @property
    def first(self) -> Suspect | None:
        return next((one for one in self.suspects if one.state == "confirmed" and not one.of), None)

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def around(box: Box, width: int, height: int, side: int = SIDE) -> Box:
    """A box of `side` pixels about the middle of another, within the picture."""
    x, y = (box[0] + box[2]) // 2, (box[1] + box[3]) // 2
    left, top = max(0, min(x - side // 2, width - side)), max(0, min(y - side // 2, height - side))
    return left, top, min(left + side, width), min(top + side, height)


def find_cause(trials: MotionTrials, seconds: float) -> Cause:
    """Find the cause of the flicker in the boxes of `trials`. seconds: of a whole frame of the sequence, as measured. Raises as `Task.check`."""
    task, recipe, edits = trials.sequence.task, trials.sequence.recipe, trials.sequence.edits
    task.report("rendering the frames about the worst one", 0.05)
    base = trials.measure(recipe, edits)
    cause = Cause(trials.times[len(trials.times) // 2], trials.boxes[0], base.energy**0.5)
    tried = [*_suspects(trials)]
    measured: dict[str, Measured] = {}
    for k, (suspect, values, laid) in enumerate(tried):
        task.report(f"trying: {suspect.title}", 0.2 + 0.7 * k / len(tried))
        measured[suspect.key] = trials.measure(*trials.changed(values, laid))
        _judge(suspect, base, measured[suspect.key], _with_fewer_samples(recipe)[1])
    suspects = [suspect for suspect, _, _ in tried]
    task.report("filtering through time", 0.92)
    in_time = trials.measure(recipe, edits, filtered="in_time")
    cause.filtered = in_time.energy**0.5
    suspects.append(_of_filter(trials.measure(recipe, edits, filtered="alone"), in_time))
    cause.suspects = sorted(suspects, key=_rank)
    cause.remedies = _remedies(trials, cause, base, measured, seconds)
    cause.says = _in_words(cause)
    return cause


def _rank(suspect: Suspect) -> tuple[bool, bool, float]:
    """Likeliest first. Whatever is drawn by chance is grain, too, and goes with more samples: where one thing makes most of it, that comes first.
    What the filter adds comes last: it is not in what was rendered."""
    return bool(suspect.of), suspect.key == "grain" or suspect.share < MOSTLY, -suspect.share


def _of_filter(alone: Measured, in_time: Measured) -> Suspect:
    """What a filter that works on each frame alone makes of the frames, against one that works through time."""
    suspect = Suspect("filter", "noise filter on each frame alone", of="of what it leaves")
    _judge(suspect, alone, in_time, 1.0)
    levels = alone.energy**0.5, in_time.energy**0.5
    suspect.says = f"Filtered alone, frames flicker {levels[0]:.2g} times what is just seen; filtered through time, {levels[1]:.2g}."
    return suspect


def _suspects(trials: MotionTrials) -> list[tuple[Suspect, dict[str, Any], dict[str, Any]]]:
    """Each possible cause with the settings and edits that hold it still."""
    recipe = trials.sequence.recipe
    found = [(Suspect("grain", "grain that is new in each frame"), _with_fewer_samples(recipe)[0], dict[str, Any]())]
    kinds = [PREPARING[way.key].kind for way in recipe.preparing() if not way.of_paths]
    if kinds and recipe.motion.caches != "shared":
        anew = Suspect("caches", f"{' and '.join(kinds)} made anew for each frame")
        found.append((anew, {"motion.caches": "shared", "motion.keys": SHARED_KEYS}, {}))
    mapped = _mapped(trials)
    if mapped:
        laid = {key: value for light in mapped for key, value in ((f"light.{light.name}.shadows.way", "traced"),)}
        found.append((Suspect("depth_maps", "depth maps whose texels move"), {"shadows.way": "traced"}, laid))
    if recipe.lights.seen == "chosen":
        found.append((Suspect("light_choice", "lights drawn by chance"), {"lights.seen": "all"}, {}))
    return found


def _mapped(trials: MotionTrials) -> list[Light]:
    """Lights whose shadows are cut by depth maps."""
    recipe = trials.sequence.recipe
    lights = [light for light in trials.sequence.prepared(trials.times[0]).scene.lights if light.on and light.kind not in ("dome", "portal")]
    return [light for light in lights if (light.shadow.way or recipe.shadows.way) == "depth_map"]


def _with_fewer_samples(recipe: Recipe) -> tuple[dict[str, Any], float]:
    """Settings that take a quarter of a recipe's samples, and how many times fewer they are; more than one sample there must be."""
    wanted = recipe.sampling
    if wanted.seconds > 0.0:
        return {"sampling.seconds": wanted.seconds / FEWER}, FEWER
    if wanted.noise_target > 0.0:
        return {"sampling.noise_target": min(100.0, wanted.noise_target * FEWER**0.5), "sampling.min": 2}, FEWER
    fewer = max(1, wanted.max // FEWER)
    return ({"sampling.max": fewer}, wanted.max / fewer) if fewer < wanted.max else ({"sampling.max": FEWER}, 1.0 / FEWER)


def _judge(suspect: Suspect, base: Measured, trial: Measured, fewer: float) -> None:
    """Fill in a suspect's share of the flicker, and what follows from it. fewer: times that the samples of the trial about grain are fewer."""
    whole = 1.0 / (1.0 - fewer) if suspect.key == "grain" else 1.0
    if base.energy <= 0.0:
        suspect.state, suspect.says = "struck", "There is no flicker that it could cause."
        return
    ratio = trial.energy / base.energy
    suspect.share = float(np.clip((1.0 - ratio) * whole, -1.0, 1.0))
    suspect.error = float(abs(whole) * np.hypot(trial.error / base.energy, ratio * base.error / base.energy))
    if suspect.share > CONFIRMED and suspect.share > 2.0 * suspect.error:
        suspect.state = "confirmed"
    elif suspect.share + suspect.error < CONFIRMED or suspect.share < STRUCK:
        suspect.state = "struck"
    done = {"grain": f"With {fewer:.2g} times fewer samples", "caches": "With caches shared by all frames", "depth_maps": "With traced shadows",
            "light_choice": "With all lights", "filter": "Filtered through time"}[suspect.key]  # fmt: skip
    suspect.says = f"{done} it is seen {trial.energy**0.5:.2g} times as much as the least that is seen, instead of {base.energy**0.5:.2g}."


def _remedies(trials: MotionTrials, cause: Cause, base: Measured, measured: dict[str, Measured], seconds: float) -> list[Remedy]:
    recipe, found, keys = trials.sequence.recipe, [], {one.key: one for one in cause.suspects if one.state == "confirmed"}
    now = base.energy
    if "caches" in keys:
        trial = measured["caches"]
        tried = trials.frames(*trials.changed({"motion.caches": "shared", "motion.keys": SHARED_KEYS}))[0].ready.ways
        once = sum(note.seconds for note in tried) * recipe.motion.keys / min(SHARED_KEYS, len(trials.times))
        found.append(Remedy("share the caches between all frames", {"motion.caches": "shared"}, trial.energy**0.5, seconds, once))
        left = now * (1.0 - keys["caches"].share * 2.0 / 3.0)
        found.append(Remedy("blend the caches of neighbouring frames", {"motion.caches": "blended"}, left**0.5, seconds))
    if "depth_maps" in keys:
        mapped = _mapped(trials)
        laid = {f"light.{light.name}.shadows.way": "traced" for light in mapped if light.shadow.way}
        if recipe.shadows.fit == "view" or any(light.shadow.fit == "view" for light in mapped):
            fitted = {"shadows.fit": "scene", **{f"light.{light.name}.shadows.fit": "scene" for light in mapped if light.shadow.fit}}
            trials.sequence.task.report("trying: depth maps fitted to the scene", 0.95)
            values, edits = apart(fitted)
            trial = trials.measure(*trials.changed(values, edits))
            found.append(Remedy("fit the depth maps to the whole scene", fitted, trial.energy**0.5, seconds))
        found.append(Remedy("trace the shadows", {"shadows.way": "traced", **laid}, measured["depth_maps"].energy ** 0.5, seconds))
    if "light_choice" in keys:
        trial = measured["light_choice"]
        ratio = trial.seconds / max(base.seconds, 1e-6)
        found.append(Remedy("aim at all lights", {"lights.seen": "all"}, trial.energy**0.5, seconds * ratio))
    if "grain" in keys:
        suspect = keys["grain"]
        share = 1.0 if suspect.share + 2.0 * suspect.error >= 1.0 else suspect.share
        wanted = now * share / max(1.0 - now * (1.0 - share), now * share / MOST_SAMPLES)
        times = float(np.clip(np.ceil(wanted * 10.0) / 10.0, 1.1, MOST_SAMPLES))
        samples = min(round(recipe.sampling.max * times), 65536)
        left = now * (1.0 - share + share / times)
        found.append(Remedy(f"take {times:.2g} times the samples", {"sampling.max": samples}, left**0.5, seconds * times))
    if cause.filtered is not None and cause.filtered < cause.level:
        found.append(Remedy("show it filtered through time", {}, cause.filtered, seconds, filtered=True))
    return sorted(found, key=lambda one: (one.level > 1.0, one.seconds if one.level <= 1.0 else one.level))


def _in_words(cause: Cause) -> str:
    if cause.level < 1.0:
        return f"The flicker here is not seen: it is {cause.level:.2f} of what is just seen."
    first = cause.first
    if first is None:
        return "None of the trials takes it away: it is light or shadow that moves, or its cause is still open."
    rest = [one for one in cause.suspects if one.state == "confirmed" and one is not first and not one.of]
    sentence = f"{first.title[0].upper()}{first.title[1:]}: {first.share:.0%} of it (± {first.error:.0%})"
    return sentence + "".join(f", and {one.title}, {one.share:.0%}" for one in rest) + "."
