"""Why a moving shot flickers: trials in which one thing at a time is held still, and what would cure it.

Grain is tried with four times the samples, of which a quarter of its energy must be left. Caches that are made for each frame are tried shared; depth
maps fitted to the whole scene, or traced; lights chosen by chance all. What a trial takes away is that cause's share. What none takes away is light
and shadow that move.
"""

from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np

from ..gi.ways import PREPARING
from ..scene.model import Light
from .trials import Box, Measured, MotionTrials

MORE_SAMPLES = 4
CONFIRMED, STRUCK = 0.25, 0.1
"""Least share of a confirmed cause; largest of one that is struck off."""
SIDE = 96
"""Side of the box about the worst place, in pixels."""
MOST_SAMPLES = 64.0
"""Most times the samples that a remedy offers."""


@dataclass
class Suspect:
    """One possible cause, tried. share: of the flicker's energy that went away, and its standard error; state: confirmed, struck or open;
    says: what was done, and what came of it."""

    key: str
    title: str
    share: float = 0.0
    error: float = 0.0
    state: str = "open"
    says: str = ""


@dataclass
class Remedy:
    """A change of the recipe or of lights. level: predicted, in times what is just seen; seconds: of a frame; once: seconds before the first frame."""

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
        return next((one for one in self.suspects if one.state == "confirmed"), None)

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def around(box: Box, width: int, height: int, side: int = SIDE) -> Box:
    """A box of `side` pixels about the middle of another, within the picture."""
    x, y = (box[0] + box[2]) // 2, (box[1] + box[3]) // 2
    left, top = max(0, min(x - side // 2, width - side)), max(0, min(y - side // 2, height - side))
    return left, top, min(left + side, width), min(top + side, height)


def find_cause(trials: MotionTrials, seconds: float, frame_pixels: int) -> Cause:
    """Find the cause of the flicker in the boxes of `trials`. seconds: of a whole frame of the sequence, as measured; frame_pixels: of it. Raises as
    `Task.check`."""
    task, recipe, edits = trials.sequence.task, trials.sequence.recipe, trials.sequence.edits
    task.report("rendering the frames about the worst one", 0.05)
    base = trials.measure(recipe, edits)
    cause = Cause(trials.times[len(trials.times) // 2], trials.boxes[0], base.energy**0.5)
    tried = [*_suspects(trials)]
    measured: dict[str, Measured] = {}
    for k, (suspect, values, laid) in enumerate(tried):
        task.report(f"trying: {suspect.title}", 0.2 + 0.7 * k / len(tried))
        measured[suspect.key] = trials.measure(*trials.changed(values, laid))
        _judge(suspect, base, measured[suspect.key])
    cause.suspects = sorted((suspect for suspect, _, _ in tried), key=lambda one: -one.share)
    task.report("filtering through time", 0.92)
    cause.filtered = trials.measure(recipe, edits, filtered=True).energy ** 0.5
    cause.remedies = _remedies(trials, cause, base, measured, seconds)
    cause.says = _in_words(cause)
    return cause


def _suspects(trials: MotionTrials) -> list[tuple[Suspect, dict[str, Any], dict[str, Any]]]:
    """Each possible cause with the settings and edits that hold it still."""
    recipe = trials.sequence.recipe
    samples = min(recipe.sampling.max * MORE_SAMPLES, 65536)
    found: list[tuple[Suspect, dict[str, Any], dict[str, Any]]] = [
        (Suspect("grain", "grain that is new in each frame"), {"sampling.max": samples, "sampling.noise_target": 0, "sampling.seconds": 0}, {})
    ]
    kinds = [PREPARING[way.key].kind for way in recipe.preparing() if not way.of_paths]
    if kinds and recipe.motion.caches != "shared":
        found.append((Suspect("caches", f"{' and '.join(kinds)} made anew for each frame"), {"motion.caches": "shared"}, {}))
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
    lights = trials.sequence.prepared(trials.times[0]).scene.lights
    return [
        light for light in lights if light.on and (light.shadow.way or recipe.shadows.way) == "depth_map" and light.kind not in ("dome", "portal")
    ]


def _judge(suspect: Suspect, base: Measured, trial: Measured) -> None:
    """Fill in a suspect's share of the flicker, and what follows from it."""
    whole = MORE_SAMPLES / (MORE_SAMPLES - 1.0) if suspect.key == "grain" else 1.0
    if base.energy <= 0.0:
        suspect.state, suspect.says = "struck", "There is no flicker that it could cause."
        return
    ratio = trial.energy / base.energy
    suspect.share = float(np.clip((1.0 - ratio) * whole, -1.0, 1.0))
    suspect.error = float(whole * np.hypot(trial.error / base.energy, ratio * base.error / base.energy))
    if suspect.share > CONFIRMED and suspect.share > 2.0 * suspect.error:
        suspect.state = "confirmed"
    elif suspect.share + suspect.error < CONFIRMED or suspect.share < STRUCK:
        suspect.state = "struck"
    done = {"grain": f"With {MORE_SAMPLES} times the samples", "caches": "With caches shared by all frames", "depth_maps": "With traced shadows",
            "light_choice": "With all lights"}[suspect.key]  # fmt: skip
    suspect.says = f"{done} it is seen {trial.energy**0.5:.2g} times as much as the least that is seen, instead of {base.energy**0.5:.2g}."


def _remedies(trials: MotionTrials, cause: Cause, base: Measured, measured: dict[str, Measured], seconds: float) -> list[Remedy]:
    recipe, found, keys = trials.sequence.recipe, [], {one.key: one for one in cause.suspects if one.state == "confirmed"}
    now = base.energy
    if "caches" in keys:
        trial = measured["caches"]
        once = sum(note.seconds for note in trials.frames(*trials.changed({"motion.caches": "shared"}))[0].ready.ways)
        found.append(Remedy("share the caches between all frames", {"motion.caches": "shared"}, trial.energy**0.5, seconds, once))
        left = now * (1.0 - keys["caches"].share * 2.0 / 3.0)
        found.append(Remedy("blend the caches of neighbouring frames", {"motion.caches": "blended"}, left**0.5, seconds))
    if "depth_maps" in keys:
        mapped = _mapped(trials)
        laid = {f"light.{light.name}.shadows.way": "traced" for light in mapped if light.shadow.way}
        found.append(Remedy("trace the shadows", {"shadows.way": "traced", **laid}, measured["depth_maps"].energy ** 0.5, seconds))
    if "light_choice" in keys:
        trial = measured["light_choice"]
        ratio = trial.seconds / max(base.seconds, 1e-6)
        found.append(Remedy("aim at all lights", {"lights.seen": "all"}, trial.energy**0.5, seconds * ratio))
    if "grain" in keys:
        share = keys["grain"].share
        wanted = now * share / max(1.0 - now * (1.0 - share), 0.25 * now * share)
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
    rest = [one for one in cause.suspects if one.state == "confirmed" and one is not first]
    sentence = f"{first.title[0].upper()}{first.title[1:]}: {first.share:.0%} of it (± {first.error:.0%})"
    return sentence + "".join(f", and {one.title}, {one.share:.0%}" for one in rest) + "."
