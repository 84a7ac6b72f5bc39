"""Possible causes of a flaw under a recipe: each with the one change that would prove it, and its remedy.

Ordered by how often each causes its kind of flaw; trials decide.
"""

from ..gi.ways import BEYOND, SEEN
from ..render.recipe import Recipe
from ..scene.model import Shadow
from ..shadows.ways import BY_KEY as SHADOW_WAYS
from ..survey.finding import short
from ..suspect import BLOTCHES, BRIGHT, DARK, LEAK, Remedy, Suspect


def clamp_to_range(key: str, value: float) -> float:
    """A value within the range of its setting, whole where it has to be."""
    group, _, name = key.partition(".")
    return getattr(Recipe(), group).within(name, value)


def ways_in_use(recipe: Recipe) -> dict[str, str]:
    """Ways that interpolate, and where: `seen` or `beyond`."""
    seen, beyond = SEEN[recipe.gi.seen], BEYOND[recipe.gi.beyond]
    used = {beyond.key: "beyond"} if seen.asks_beyond and beyond.lookup is not None else {}
    return {**used, seen.key: "seen"} if seen.lookup is not None else used


def of_light(recipe: Recipe, flaw: str, radii: dict[str, float], own_shadows: dict[str, Shadow]) -> list[Suspect]:
    """Suspects for light that is off brute force in a place. `radii`: automatic distances that the caches were made with, in metres by
    setting, where the recipe leaves them open; `own_shadows`: of lights whose shadows are approximated in a way of their own."""
    found: list[Suspect] = []
    for key, where in ways_in_use(recipe).items():
        of_way = (SEEN | BEYOND)[key].suspects
        found += of_way(recipe.of(key), recipe, flaw, where, radii) if of_way is not None else []
    if recipe.gi.seen == "ambient":
        found.append(
            Suspect(
                "ambient",
                "flat ambient light replaces bounced light: the same everywhere, without colour",
                {"gi.seen": "brute_force"},
                prior=5.0,
                kind="flat",
                cure="Find bounced light by brute force instead of flat ambient light.",
            )
        )
    found += _of_shadows(recipe.shadows.of_lights(), flaw, "{}s", "shadows", False)
    for name, shadow in own_shadows.items():
        found += _of_shadows(shadow, flaw, f"{{}} of {short(name)}", f"light.{name}.shadows", True)
    found += _of_limits(recipe, flaw)
    if recipe.ambient.samples and recipe.ambient.on_direct > 0.0 and flaw == DARK:
        found.append(
            Suspect(
                "occlusion on direct",
                "occlusion also darkens direct light, which is not physical",
                {"ambient.on_direct": 0.0},
                prior=2.0,
                kind="dark corner",
                cure="Turn off occlusion for direct light.",
            )
        )
    seen_way = recipe.gi.seen
    if SEEN[seen_way].lookup is not None:
        found.append(
            Suspect(
                "way seen",
                f"{SEEN[seen_way].title} at visible points",
                {"gi.seen": "brute_force"},
                prior=0.2,
                whole=True,
                cure="Find bounced light by brute force at visible points.",
                costs="even grain instead",
            )
        )
    if BEYOND[recipe.gi.beyond].lookup is not None and SEEN[seen_way].asks_beyond:
        found.append(
            Suspect(
                "way beyond",
                f"{BEYOND[recipe.gi.beyond].title} beyond visible points",
                {"gi.beyond": "brute_force"},
                prior=0.8,
                cure="Use brute force beyond visible points.",
            )
        )
    return sorted(found, key=lambda suspect: -suspect.prior)


def _of_shadows(own: Shadow, flaw: str, what: str, key: str, alone: bool) -> list[Suspect]:
    """Suspects of shadows that are not traced: those their way declares, or the way itself."""
    way = SHADOW_WAYS[own.way or "traced"]
    if not way.approximates:
        return []
    title = way.title.removeprefix("a ").removeprefix("the ")
    if way.suspects is not None:
        return way.suspects(own, flaw, what.format(f"the {title}"), key, alone)
    changed = {f"{key}.way": "traced"}
    says, cure = f"shadows are computed by {way.title}", f"Trace the shadow{'' if alone else 's'}."
    return [Suspect(way.key, says, *(({}, changed) if alone else (changed, {})), prior=0.7, whole=True, cure=cure)]


def _of_limits(recipe: Recipe, flaw: str) -> list[Suspect]:
    own, found = recipe.limits, list[Suspect]()
    if own.indirect_clamp > 0.0 and flaw == DARK:
        found.append(
            Suspect(
                "clamp",
                f"the clamp at {own.indirect_clamp:g} removes light together with fireflies",
                {"limits.indirect_clamp": 0.0},
                prior=3.0,
                kind="dim",
                cure="Remove the clamp.",
                costs="fireflies may come back",
                others=[
                    Remedy(
                        f"Raise the clamp to {clamp_to_range('limits.indirect_clamp', own.indirect_clamp * 8):g}.",
                        {"limits.indirect_clamp": clamp_to_range("limits.indirect_clamp", own.indirect_clamp * 8)},
                    )
                ],
            )
        )
    if flaw == DARK and own.diffuse_bounces < 16 and recipe.gi.seen not in ("off", "ambient"):
        more = max(8, 2 * own.diffuse_bounces)
        found.append(
            Suspect(
                "diffuse bounces",
                f"paths end after {own.diffuse_bounces} diffuse bounces, with light left",
                {"limits.diffuse_bounces": more, "limits.total": max(own.total, more + 16)},
                prior=2.5 if own.diffuse_bounces < 4 else 1.0,
                kind="dim",
                cure=f"Let paths bounce {more} times.",
            )
        )
    if flaw == DARK and own.refractions < 12:
        found.append(
            Suspect(
                "glass limit",
                f"paths end after {own.refractions} crossings of glass",
                {"limits.refractions": 24, "limits.total": 96},
                prior=2.0 if own.refractions < 6 else 0.5,
                kind="black glass",
                cure="Let paths cross glass 24 times.",
            )
        )
    if flaw == DARK and own.reflections < 4:
        found.append(
            Suspect(
                "mirror limit",
                f"paths end after {own.reflections} reflections",
                {"limits.reflections": 8},
                prior=0.8,
                kind="dim",
                cure="Let paths reflect 8 times.",
            )
        )
    if own.ray_offset > 0.0:
        kind = {LEAK: "leak", BRIGHT: "lost contact shadow", DARK: "speckle", BLOTCHES: "speckle"}[flaw]
        found.append(
            Suspect(
                "ray offset",
                f"rays start {own.ray_offset:g} m off a surface",
                {"limits.ray_offset": 0.0},
                prior=3.5,
                kind=kind,
                cure="Use the automatic ray offset.",
            )
        )
    return found
