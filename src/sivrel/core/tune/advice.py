"""Advice: recipes for a draft, a final still and a moving shot, from facts measured on the shot; each choice with its fact.

Ways are ranked by their predicted error in the given time, noise and bias, from pilots of each on this shot. If
the first two are closer than the accuracy of the prediction, the advice says so and names the match that would decide.
"""

from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any

from ..diagnose.finding import cleared
from ..edits.edits import Edits
from ..errors import InputError
from ..render.recipe import Recipe, with_values
from .candidates import WITH, candidate
from .facts import SPIKY, Facts
from .guesses import Guess, guesses_moving, guesses_of
from .in_motion import JUST_SEEN, JudgeInMotion, MotionLevel
from .match import follows_camera
from .pilots import SAMPLES

UNDECIDED = 1.1
"""Ratio of another way's predicted error to the first's from which the facts decide."""
PLAIN, PLAIN_IN_DOUBT = 1.03, 1.25
"""Ratio to the least predicted error up to which brute force is preferred, since it needs no tuning and has no bias; also if that error is so
uncertain (the simplest within a standard error of the best: Breiman et al. 1984, "Classification and Regression Trees", section 3.4)."""
WAYS_IN_MOTION = 3
"""Ways, the best of a still, that are tried in motion."""
NEARLY = 1.25
"""Ratio of flicker to the least up to which error decides."""
DRAFT_SHARE, LEAST_DRAFT, MOST_DRAFT = 0.1, 1.5, 10.0


@dataclass(frozen=True)
class Fact:
    name: str
    value: str
    means: str


@dataclass(frozen=True)
class Choice:
    """key, value: of the recipe; shown: the value in words; because: the fact behind it; unless: what would change it."""

    key: str
    value: Any
    because: str
    unless: str = ""

    @property
    def shown(self) -> str:
        return f"{self.value:g}" if isinstance(self.value, int | float) else str(self.value).replace("_", " ")


@dataclass
class Advised:
    """purpose: draft, final still, moving shot; says: in a sentence; way: the recommended one; seconds per frame; values: of the recipe; match:
    names of ways between which the facts do not decide, empty if they do; guesses: of all ways, the best first."""

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
    """recipes: for a draft, a final still, a moving shot, none while ways are still being tried; facts, in words; measured: the facts as numbers;
    seconds of a final frame; ways: those tried, in words, with their predicted error in that time, best first; untried: name, title and
    reason of the others."""

    recipes: list[Advised]
    facts: list[Fact]
    measured: Facts
    seconds: float
    ways: list[tuple[str, Guess]]
    untried: list[tuple[str, str, str]] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        return cleared(
            {
                "recipes": [one.as_dict() for one in self.recipes],
                "facts": [fact.__dict__ for fact in self.facts],
                "measured": self.measured.as_dict(),
                "seconds": self.seconds,
                "ways": [{**guess.__dict__, "title": title, "total": guess.total} for title, guess in self.ways],
                "untried": [{"name": name, "title": title, "why": why} for name, title, why in self.untried],
                "seconds_taken": self.measured.seconds,
                "complete": bool(self.recipes),
            }
        )


def advise(
    facts: Facts, recipe: Recipe, *, seconds: float, complete: bool = True, in_motion: JudgeInMotion | None = None, edits: Edits | None = None
) -> Advice:  # fmt: skip
    """Recipes for a shot with these facts, where a final frame may take some seconds; none while the facts are incomplete. in_motion: judges recipes
    for the moving shot by trials. Raises as `Task.check`."""
    ways = [(candidate(guess.name, recipe).title, guess) for guess in guesses_of(facts, seconds)] if facts.ways else []
    untried = [(name, candidate(name, recipe).title, why) for name, why in facts.untried.items()]
    if not complete:
        return Advice([], facts_in_words(facts), facts, seconds, ways, untried)
    draft = min(max(DRAFT_SHARE * seconds, LEAST_DRAFT), MOST_DRAFT, seconds)
    recipes = [_advised(name, facts, recipe, time, guesses_of(facts, time)) for name, time in (("Draft", draft), ("Final still", seconds))]
    recipes.append(_advised("Moving shot", facts, recipe, seconds, guesses_moving(facts, seconds)))
    with suppress(InputError):  # nothing could be judged in motion: the advice of the still stands
        if in_motion is not None:
            recipes[-1] = _tried_in_motion(facts, recipe, seconds, in_motion, edits or Edits())
    return Advice(recipes, facts_in_words(facts), facts, seconds, ways, untried)


def _advised(purpose: str, facts: Facts, recipe: Recipe, seconds: float, guesses: list[Guess]) -> Advised:
    # A way that was not tried is neither chosen nor rejected: it may be better, and a match would decide.
    tried = [g for g in guesses if g.tried]
    best, plain = tried[0], next(g for g in tried if g.name == "brute_force")
    enough = max(PLAIN * best.total, min(PLAIN_IN_DOUBT * best.total, best.total + best.spread))
    chosen = plain if plain.total <= enough else best
    rivals = [g for g in guesses if g is not chosen and _close(g, chosen)]
    choices = [*_ways(facts, chosen, guesses, purpose, recipe), *_settled(facts), _samples(chosen, seconds)]
    values = {**candidate(chosen.name, recipe).values, **{c.key: c.value for c in choices}}
    with_values(recipe, values)
    match = [chosen.name, *(g.name for g in rivals)] if rivals else []
    title = candidate(chosen.name, recipe).title
    says = f"{title[0].upper()}{title[1:]}: about {chosen.total:.1%} error in {seconds:.3g} s, of which {chosen.bias:.1%} is bias."
    if match:
        level = " and ".join(candidate(name, recipe).title for name in match[:2])
        level += f", nor for {len(match) - 2} more" if len(match) > 2 else ""
        says = f"The facts do not decide between {level}: a match of {seconds:.3g} s would. Until then, {title}."
    untested = [candidate(g.name, recipe).title for g in guesses if not g.tried]
    untested += [candidate(name, recipe).title for name in facts.untried if purpose == "Final still"]
    if untested:
        says += f" Not tried here, so not compared: {', '.join(dict.fromkeys(untested))}."
    return Advised(purpose, says, chosen.name, seconds, values, choices, match, guesses)


def _tried_in_motion(facts: Facts, recipe: Recipe, seconds: float, in_motion: JudgeInMotion, edits: Edits) -> Advised:
    """The recipe for the moving shot: the ways that are best in a still, and brute force, each with its caches made for each frame and shared, in
    three neighbouring frames. Of those whose flicker is not seen, or about the least, the one with the least error."""
    guesses = [guess for guess in guesses_of(facts, seconds) if guess.tried]
    chosen = list(dict.fromkeys([*guesses[:WAYS_IN_MOTION], next(g for g in guesses if g.name == "brute_force")]))
    tried: list[tuple[Guess, str, MotionLevel]] = []
    for guess in chosen:
        named = candidate(guess.name, recipe)
        follows = follows_camera(with_values(recipe, named.values))
        for name in (guess.name, f"{guess.name}{WITH}shared") if follows else (guess.name,):
            values = {**candidate(name, recipe).values, **facts.settled(), "sampling.max": _samples(guess, seconds).value}
            tried.append((guess, name, in_motion(with_values(recipe, {**values, "sampling.noise_target": 0.0}), edits)))
    least = min(level.level for _, _, level in tried)
    calm = [one for one in tried if one[2].level <= max(JUST_SEEN, NEARLY * least)]
    guess, name, level = min(calm, key=lambda one: one[0].total)
    values, samples = candidate(name, recipe).values, _samples(guess, seconds)
    others = "; ".join(f"{candidate(other, recipe).title} {at.level:.2g}" for _, other, at in tried if other != name)
    choices = [
        Choice("gi.seen", values["gi.seen"], f"In three neighbouring frames its flicker is {level.words}{'; ' + others if others else ''}.",
               "a camera that moves faster, or lights that do."),
    ]  # fmt: skip
    if name.endswith("shared"):
        alone = next(at for of, other, at in tried if other == guess.name and of is guess)
        once = guess.prepares * recipe.motion.keys
        choices.append(
            Choice(
                "motion.caches", "shared",
                f"Made for each frame they flicker {alone.level:.2g} times what is just seen, shared {level.level:.2g}. They take {once:.2g} s "
                f"before the first frame{_pays(guess, facts, seconds, once)}.",
                "things that move much: shared caches do not follow them.",
            )
        )  # fmt: skip
    elif "gi.beyond" in values and values["gi.beyond"] != "brute_force":
        choices.append(Choice("gi.beyond", values["gi.beyond"], "It was tried so.", ""))
    choices += [*_settled(facts), samples]
    title = candidate(name, recipe).title
    says = f"{title[0].upper()}{title[1:]}: about {guess.total:.1%} error in {seconds:.3g} s a frame, and its flicker is {level.words}."
    if not level.hidden:
        says += f" {level.level**2:.2g} times the samples would hide it if it is grain; or filter it through time."
    return Advised("Moving shot", says, name, seconds, {**values, **{c.key: c.value for c in choices}}, choices, [], guesses)


def _pays(guess: Guess, facts: Facts, seconds: float, once: float) -> str:
    """From which frame on caches that are made once cost less than brute force to the same error, in words."""
    plain = next(one for one in guesses_of(facts, seconds) if one.name == "brute_force")
    saved = seconds * ((plain.total / max(guess.total, 1e-9)) ** 2 - 1.0)
    return f", which pays from frame {max(1, int(once / saved) + 1)} on against brute force to the same error" if saved > 0.0 else ""


def _close(one: Guess, chosen: Guess) -> bool:
    """Whether another way could be better, within the uncertainty."""
    return one.total < UNDECIDED * chosen.total or one.total - one.spread < chosen.total + chosen.spread


def _ways(facts: Facts, chosen: Guess, guesses: list[Guess], purpose: str, recipe: Recipe) -> list[Choice]:
    values = candidate(chosen.name, recipe).values
    seen, beyond, choices = values["gi.seen"], values.get("gi.beyond"), []
    plain = next(g for g in guesses if g.name == "brute_force")
    next_best = next((g for g in guesses if g is not chosen and g.tried), None)
    parts = f"{chosen.noise:.1%} noise and {chosen.bias:.1%} bias" if chosen.bias else f"{chosen.noise:.1%} noise"
    because = f"{'Tried here' if chosen.tried else 'By what it showed elsewhere'}, it reaches {parts} in that time"
    if chosen is not plain:
        because += f"; brute force to {plain.total:.1%}."
        share = facts.noise.get("bounced light", 0.0)
        if chosen.bias:
            unless = f"with much more time per frame, brute force: it has no bias. Bounced light causes {share:.0%} of its noise."
        else:
            because += f" Like brute force it has no bias, and {facts.spikes:.0%} of the noise lies in a hundredth of the pixels: rare paths."
            unless = "fewer rare paths: each of its samples costs more."
    elif purpose == "Moving shot":
        because = "Caches at the first hit are remade as the camera moves, and flicker; paths do not."
        unless = "a still, for which the other card applies."
    else:
        because += f"; {candidate(next_best.name, recipe).title} to {next_best.total:.1%}." if next_best else "."
        unless = "with less time per frame, a cache." if facts.bound > 2.0 else "if bounced light caused more of the noise, as in a closed space."
    choices.append(Choice("gi.seen", seen, because, unless))
    if beyond == "radiance_cache":
        choices.append(Choice("gi.beyond", beyond, f"Each bounce keeps {facts.kept:.0%} of the light: cells end paths at the first bounce.",
                           "walls thinner than a cell, through which light bleeds."))  # fmt: skip
    elif beyond == "baked":
        choices.append(Choice("gi.beyond", beyond, "Only the camera moves, so light beyond is solved once for all frames.",
                           "moving lights or objects, which make a bake stale."))  # fmt: skip
    elif beyond:
        choices.append(Choice("gi.beyond", beyond, f"Each bounce keeps only {facts.kept:.0%} of the light: there is little to shorten."
                           if facts.kept < 0.4 else "Full paths have no bias.", ""))  # fmt: skip
    if "caustics.on" in values:
        choices.append(
            Choice(
                "caustics.on",
                "yes",
                f"{facts.spikes:.0%} of the noise lies in a hundredth of the pixels: rare paths through glass, which photons find.",
                "not needed if there are no fireflies.",
            )
        )
    return choices


def _settled(facts: Facts) -> list[Choice]:
    """Choices that do not depend on the way."""
    left = f"After {facts.bounces} diffuse {'bounce' if facts.bounces == 1 else 'bounces'} 1 % of the light is left."
    some = f"{facts.lights} lights, of which {facts.lights_that_matter} bring 95 % of the direct light"
    reasons = {
        "limits.diffuse_bounces": (left, "brighter walls, which need more."),
        "limits.refractions": (f"{facts.glass:.0%} of the light comes through glass, which would turn black with fewer crossings.", ""),
        "limits.reflections": (f"Gloss and glass scatter {facts.gloss + facts.glass:.0%} of the light, and reflect each other.", ""),
        "lights.seen": (f"{some}: some are drawn by importance.", "if one soft light dominates, all.") if facts.many_lights else (f"{some}.", ""),
    }
    return [Choice(key, value, *reasons[key]) for key, value in facts.settled().items()]


def _samples(chosen: Guess, seconds: float) -> Choice:
    left = max(seconds - chosen.prepares, 0.1 * seconds)
    samples = min(max(round(left / max(chosen.rate, 1e-9)), 1), 65536)
    return Choice(
        "sampling.max", samples, f"A frame of one sample a pixel takes {chosen.rate:.2g} s.", "a budget, which splits them over sources and pixels."
    )


def facts_in_words(facts: Facts) -> list[Fact]:
    """Each fact with its value and what it means for the choice."""
    noise = ", ".join(f"{name} {share:.0%}" for name, share in sorted(facts.noise.items(), key=lambda n: -n[1]))
    moving = [name for name, on in (("camera", facts.motion.camera), ("objects", facts.motion.objects), ("lights", facts.motion.lights)) if on]
    little = "It is little: errors in it are hardly visible." if facts.indirect < 0.1 else "The way of finding it decides the picture."
    served = "Caches do not help there." if facts.glass + facts.gloss > 0.1 else "Little that caches can't handle."
    rare = "It comes from rare paths: fireflies." if facts.spikes > SPIKY else "It is even grain."
    leaks = "Caches, photons and cells leak there: fix them in the survey first." if facts.thin else "Nothing for caches to leak through."
    where = "inside" if facts.inside else "outside"
    return [
        Fact("indirect light", f"{facts.indirect:.0%}", f"of all light. {little}"),
        Fact("gloss, glass", f"{facts.gloss:.0%}, {facts.glass:.0%}", f"of the light by what scattered it first. {served}"),
        Fact("open", f"{facts.open:.0%}", f"of the rays from visible points leave the scene: {where}."),
        Fact("bounces", f"{facts.bounces}", f"diffuse ones until 1 % of the light is left; each keeps {facts.kept:.0%}."),
        Fact("noise", noise, "of a sample's variance by source."),
        Fact("most a cache saves", f"{facts.bound:.1f} ×", "the time at equal noise, if bounced light were known everywhere at no cost."),
        Fact("spikes", f"{facts.spikes:.0%}", f"of the variance lies in the noisiest hundredth of the pixels. {rare}"),
        Fact("dark", f"{facts.dark:.0%}", "of the picture is darker than a ninth of middle grey."),
        Fact(
            "lights",
            f"{facts.lights}",
            f"are on; {facts.lights_that_matter} bring 95 % of the direct light, glow met by chance {facts.glow:.0%} of it.",
        ),
        Fact("thin", f"{len(facts.thin)}", f"sheets without thickness between bright and dark. {leaks}"),
        Fact("moves", ", ".join(moving) or "nothing", "between two frames of the file."),
        Fact(
            "grain",
            f"{facts.plain.noise(facts.rate * SAMPLES):.1%}",
            f"by brute force at {SAMPLES} samples, {facts.rate * SAMPLES:.3g} s a frame.",
        ),
    ]
