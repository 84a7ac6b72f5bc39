"""Advice: from facts that were measured on a shot to recipes for a draft, a final still and a moving shot; each choice with its fact.

Ways are ranked by the error that they are foretold to leave in the time given: noise from what brute force leaves of each source here, bias from
what each way showed on other shots (docs/benchmarks.md). Where the first two are closer than such a guess is good, the facts do not decide: it says
so, and names the match that would.
"""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..diagnose.finding import cleared
from ..render.recipe import Recipe, with_values
from .candidates import candidate
from .facts import SAMPLES, Facts

UNDECIDED = 1.2
"""Times by which the second way's foretold error has to be larger for the facts to decide."""
DRAFT_SHARE, LEAST_DRAFT, MOST_DRAFT = 0.1, 1.5, 10.0
GLASS, SHINY, SPIKY = 0.05, 0.02, 0.5
"""Share of the light through glass from which it rules the choice; and that counts at all; share of the variance in a hundredth of the pixels from
which rare paths bring it."""
MANY_LIGHTS = 12
DEEPEST = 24
LONG = 100
"""Frames that a moving shot is taken to have."""


@dataclass(frozen=True)
class Fact:
    name: str
    value: str
    means: str


@dataclass(frozen=True)
class Choice:
    """key, value: of the recipe; shown: the value in words; because: the fact that led to it; unless: what would change it."""

    key: str
    value: Any
    because: str
    unless: str = ""

    @property
    def shown(self) -> str:
        return f"{self.value:g}" if isinstance(self.value, int | float) else str(self.value).replace("_", " ")


@dataclass(frozen=True)
class Guess:
    """A way's error, foretold, after some seconds: noise and bias apart; prepares: seconds of its caches."""

    name: str
    noise: float
    bias: float
    prepares: float

    @property
    def total(self) -> float:
        return float((self.noise**2 + self.bias**2) ** 0.5)


@dataclass
class Advised:
    """purpose: draft, final still, moving shot; says: in a sentence; way: the one that is advised; seconds a frame; values: of the recipe; match:
    names of the ways between which the facts do not decide, empty where they do; guesses: of all ways, the best first."""

    purpose: str
    says: str
    way: str
    seconds: float
    values: dict[str, Any]
    choices: list[Choice]
    match: list[str] = field(default_factory=list)
    guesses: list[Guess] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        return {
            "purpose": self.purpose, "says": self.says, "way": self.way, "seconds": self.seconds, "values": self.values, "match": self.match,
            "choices": [{**c.__dict__, "shown": c.shown} for c in self.choices], "guesses": [{**g.__dict__, "total": g.total} for g in self.guesses],
        }  # fmt: skip


@dataclass
class Advice:
    """recipes: for a draft, a final still, a moving shot; facts, in words; measured: the facts as numbers."""

    recipes: list[Advised]
    facts: list[Fact]
    measured: Facts
    complete: bool = True

    def as_dict(self) -> dict[str, Any]:
        return cleared(
            {
                "recipes": [one.as_dict() for one in self.recipes],
                "facts": [fact.__dict__ for fact in self.facts],
                "measured": self.measured.as_dict(),
                "seconds_taken": self.measured.seconds,
                "complete": self.complete,
            }
        )


def advise(facts: Facts, recipe: Recipe, *, seconds: float) -> Advice:
    """Recipes for a shot with these facts, where a final frame may take some seconds."""
    draft = min(max(DRAFT_SHARE * seconds, LEAST_DRAFT), MOST_DRAFT, seconds)
    still = [_advised(name, facts, recipe, time, guesses_of(facts, time)) for name, time in (("Draft", draft), ("Final still", seconds))]
    return Advice([*still, _advised("Moving shot", facts, recipe, seconds, guesses_moving(facts, seconds))], facts_in_words(facts), facts)


def _noise(facts: Facts, seconds: float) -> float:
    """Noise of brute force after some seconds: falling as the pilots showed at first, as the root of the samples in the end."""
    samples = max(seconds / max(facts.rate, 1e-9), 0.5)
    power = (facts.falls - 0.5) / 2.0 if samples > SAMPLES else facts.falls
    return float(facts.grain * (samples / SAMPLES) ** power)


OF_WAYS = {
    # bias: of all, and with the share of indirect light; share of the most that a cache spares; seconds of its caches, in those of one sample a pixel
    "brute_force/radiance_cache": (0.010, 0.05, 0.0, 1.5),
    "irradiance_cache": (0.004, 0.09, 0.6, 6.0),
    "irradiance_cache/radiance_cache": (0.010, 0.06, 1.2, 5.0),
    "baked": (0.010, 0.03, 0.7, 50.0),
}
"""What matches on eleven shots showed of each way (seeds below 100; docs/benchmarks.md)."""
MOST_OF_BAKE = 8.0
PHOTON_GAIN, PHOTON_BIAS, PHOTONS_TAKE = 1.65, 0.03, 4.0
THROUGH_GLASS = 0.25
"""Bias of caches by the share of light through glass: they serve what lies behind alone, and caustics not at all."""


def _shorter(facts: Facts) -> float:
    """Times less variance at equal time where a cell ends paths at the first bounce: what deep bounces bring of the noise goes."""
    return float(1.0 + facts.noise.get("bounced light", 0.0) * ((1.0 - facts.kept) ** -1.6 - 1.0))


def guesses_of(facts: Facts, seconds: float) -> list[Guess]:
    """What each way would leave in a still of so many seconds, the best first."""
    found = [Guess("brute_force", _noise(facts, seconds), 0.0, 0.0)]
    for name, (bias, more, share, rates) in OF_WAYS.items():
        prepares = rates * facts.rate
        gain = _shorter(facts) if share == 0.0 else max(1.0, share * facts.bound)
        if name == "baked":
            gain = min(gain, MOST_OF_BAKE)
        if seconds - prepares > 2.0 * facts.rate:
            own = bias + more * facts.indirect + THROUGH_GLASS * (facts.glass + facts.gloss)
            found.append(Guess(name, _noise(facts, seconds - prepares) / gain**0.5, own, prepares))
    if facts.glass > GLASS and facts.inside:
        found.append(Guess("photon_map", _noise(facts, seconds) / PHOTON_GAIN**0.5, PHOTON_BIAS, PHOTONS_TAKE * facts.rate))
    return sorted(found, key=lambda g: g.total)


def guesses_moving(facts: Facts, seconds: float) -> list[Guess]:
    """The same of a shot in which something moves: without what is made anew for each frame and seen at once, which flickers. What is made once
    is shared by all frames."""
    plain = _noise(facts, seconds)
    found = [Guess("brute_force", plain, 0.0, 0.0)]
    if not (facts.motion.objects or facts.motion.lights) and facts.inside:
        bias, more, _, rates = OF_WAYS["baked"]
        own = bias + more * facts.indirect + THROUGH_GLASS * (facts.glass + facts.gloss)
        found.append(Guess("brute_force/baked", plain / _shorter(facts) ** 0.5, own, rates * facts.rate / LONG))
    return sorted(found, key=lambda g: g.total)


def _advised(purpose: str, facts: Facts, recipe: Recipe, seconds: float, guesses: list[Guess]) -> Advised:
    best = guesses[0]
    rivals = [g for g in guesses[1:] if g.total < UNDECIDED * best.total]
    # Of ways that are foretold level, the one that needs no tuning and shows no bias.
    plain = next((g for g in [best, *rivals] if g.name == "brute_force"), None)
    chosen = plain if rivals and plain is not None else best
    choices = [*_ways(facts, chosen, guesses, purpose), *_limits(facts), *_lights(facts), *_samples(facts, chosen, seconds)]
    values = {**candidate(chosen.name, recipe).values, **{c.key: c.value for c in choices}}
    with_values(recipe, values)
    match = [chosen.name, *(g.name for g in [best, *rivals] if g.name != chosen.name)] if rivals else []
    title = candidate(chosen.name, recipe).title
    says = f"{title[0].upper()}{title[1:]}: about {chosen.total:.1%} off in {seconds:.3g} s, of which {chosen.bias:.1%} is bias."
    if match:
        level = " and ".join(candidate(name, recipe).title for name in match[:2])
        level += f", nor for {len(match) - 2} more" if len(match) > 2 else ""
        says = f"The facts do not decide between {level}: a match of {seconds:.3g} s would. Till then {title}."
    return Advised(purpose, says, chosen.name, seconds, values, choices, match, guesses)


def _ways(facts: Facts, chosen: Guess, guesses: list[Guess], purpose: str) -> list[Choice]:
    seen, _, beyond = chosen.name.partition("/")
    share, told = facts.noise.get("bounced light", 0.0), []
    plain = next(g for g in guesses if g.name == "brute_force")
    if seen == "brute_force":
        if purpose == "Moving shot":
            because = "What is looked up at the first hit is made anew as the camera moves, and flickers; paths do not."
            unless = "a still, where the other card holds."
        elif facts.bound < 2.0:
            because = f"Were bounced light known everywhere, the frame would be {facts.bound:.1f} times as fast at most."
            unless = "if bounced light brought more of the noise: fewer lights at the camera's surfaces, or a closed space."
        else:
            because = f"Paths come to {plain.noise:.1%} noise; what a cache spares, its own error of some per cent gives back."
            unless = "with less time a frame, a cache."
    elif seen == "photon_map":
        because = f"{facts.glass:.0%} of the light comes by glass, which photons find and paths from the camera hardly do."
        unless = "without the glass, brute force or an irradiance cache."
    else:
        because = f"Bounced light brings {share:.0%} of the noise; known everywhere, the frame were {facts.bound:.0f} times as fast."
        unless = f"with much more time a frame, brute force: it has no bias, and would leave {plain.noise:.1%} noise now."
    told.append(Choice("gi.seen", seen, because, unless))
    if beyond == "radiance_cache":
        told.append(Choice("gi.beyond", beyond, f"Each bounce passes on {facts.kept:.0%} of the light: cells end the paths at the first.",
                           "walls thinner than a cell, through which it bleeds."))  # fmt: skip
    elif beyond == "baked":
        told.append(Choice("gi.beyond", beyond, "Nothing but the camera moves, so what lies beyond is solved once for all frames.",
                           "moving lights or objects, which make a bake stale."))  # fmt: skip
    elif seen != "photon_map":
        told.append(Choice("gi.beyond", "brute_force", f"Each bounce passes on {facts.kept:.0%} of the light: there is little to shorten."
                           if facts.kept < 0.4 else "Paths to the end have no bias.", ""))  # fmt: skip
    return told


def _limits(facts: Facts) -> list[Choice]:
    bounces = int(np.clip(facts.bounces, 1, DEEPEST))
    found = [
        Choice(
            "limits.diffuse_bounces",
            bounces,
            f"After {facts.bounces} diffuse {'bounce' if facts.bounces == 1 else 'bounces'} 1 % of the light is left.",
            "brighter walls, which take more.",
        )
    ]
    if facts.glass > SHINY:
        found.append(Choice("limits.refractions", 16, f"{facts.glass:.0%} of the light comes through glass, which fewer crossings would blacken."))
        found.append(Choice("limits.reflections", 8, "Mirrors inside the glass are seen in each other."))
    if facts.glass > SHINY and facts.spikes > SPIKY:
        found.append(
            Choice(
                "caustics.on",
                "yes",
                f"{facts.spikes:.0%} of the noise lies in a hundredth of the pixels: rare paths through glass, which photons find.",
                "an even picture without sparkle, where they are spared.",
            )
        )
    return found


def _lights(facts: Facts) -> list[Choice]:
    if facts.lights < MANY_LIGHTS:
        return []
    if facts.lights_that_matter * 3 > facts.lights or facts.lights > 4 * MANY_LIGHTS:
        because = f"{facts.lights} lights, of which {facts.lights_that_matter} bring 95 % of the direct light: some are drawn by importance."
        return [Choice("lights.seen", "chosen", because, "if one soft light rules, all of them.")]
    return [Choice("lights.seen", "all", f"Of {facts.lights} lights {facts.lights_that_matter} bring 95 % of the direct light.")]


def _samples(facts: Facts, chosen: Guess, seconds: float) -> list[Choice]:
    left = max(seconds - chosen.prepares, 0.1 * seconds)
    samples = int(np.clip(round(left / max(facts.rate, 1e-9)), 1, 65536))
    return [
        Choice(
            "sampling.max",
            samples,
            f"A frame of one sample a pixel takes {facts.rate:.2g} s.",
            "a budget, which splits them over sources and pixels.",
        )
    ]


def facts_in_words(facts: Facts) -> list[Fact]:
    """Each fact with its value and what it means for the choice."""
    noise = ", ".join(f"{name} {share:.0%}" for name, share in sorted(facts.noise.items(), key=lambda n: -n[1]))
    moving = [name for name, on in (("camera", facts.motion.camera), ("objects", facts.motion.objects), ("lights", facts.motion.lights)) if on]
    little = "It is little: whatever finds it, few will see." if facts.indirect < 0.1 else "How it is found decides the picture."
    served = "Caches do not serve there." if facts.glass + facts.gloss > 0.1 else "Little that caches can not serve."
    rare = "Rare paths bring it: fireflies." if facts.spikes > SPIKY else "It is even grain."
    leaks = "Caches, photons and cells leak there: mend them in the survey first." if facts.thin else "Nothing for caches to leak through."
    where = "inside" if facts.inside else "outside"
    return [
        Fact("indirect light", f"{facts.indirect:.0%}", f"of all light. {little}"),
        Fact("gloss, glass", f"{facts.gloss:.0%}, {facts.glass:.0%}", f"of the light by what scattered it first. {served}"),
        Fact("open", f"{facts.open:.0%}", f"of the rays from what is seen leave the scene: {where}."),
        Fact("bounces", f"{facts.bounces}", f"diffuse ones until 1 % of the light is left; each passes on {facts.kept:.0%}."),
        Fact("noise", noise, "of a sample's variance by source."),
        Fact("most a cache spares", f"{facts.bound:.1f} ×", "the time at equal noise, if bounced light were known everywhere for nothing."),
        Fact("spikes", f"{facts.spikes:.0%}", f"of the variance lies in the noisiest hundredth of the pixels. {rare}"),
        Fact("dark", f"{facts.dark:.0%}", "of the picture is darker than a ninth of middle grey."),
        Fact(
            "lights",
            f"{facts.lights}",
            f"are on; {facts.lights_that_matter} bring 95 % of the direct light, glow met by chance {facts.glow:.0%} of it.",
        ),
        Fact("thin", f"{len(facts.thin)}", f"sheets without thickness between bright and dark. {leaks}"),
        Fact("moves", ", ".join(moving) or "nothing", "between two frames of the file."),
        Fact("grain", f"{facts.grain:.1%}", f"by brute force at {SAMPLES} samples, {facts.rate * SAMPLES:.3g} s a frame."),
    ]
