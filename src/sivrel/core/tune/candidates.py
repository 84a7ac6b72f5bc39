"""Candidates of a match: ways of bounced light at what is seen, ways beyond, and shadow ways, by short names."""

from dataclasses import dataclass, field
from typing import Any

from ..errors import InputError
from ..gi.ways import BEYOND, EXTRAS, SEEN
from ..render.recipe import Recipe, with_values
from ..shadows.ways import CODES as SHADOW_WAYS

LOOKED_UP = "looked_up"
CAUSTICS = "caustics"
ADDED = {way.key: way for way in EXTRAS}
THROUGH = {
    "shared": "caches shared by all frames",
    "blended": "caches blended with the neighbours'",
    "kept": "caches kept where light stays the same",
}
"""Ways of taking caches through a moving shot."""
OVER, WITH, HOW = "/", "+", ":"


@dataclass(frozen=True)
class Candidate:
    """name: as the user writes it; title: in words; values: of the recipe."""

    name: str
    title: str
    values: dict[str, Any] = field(default_factory=dict)


def candidate(name: str, recipe: Recipe) -> Candidate:
    """A candidate by its name: SEEN, SEEN/BEYOND, SEEN:looked_up, each with +SHADOWS, with additions like +caustics, and in motion with +shared,
    +blended or +kept caches; or only these, with the recipe's light. Raises InputError."""
    light, *besides = name.strip().split(WITH)
    values: dict[str, Any] = {}
    words = []
    if light:
        light, _, how = light.partition(HOW)
        seen, _, beyond = light.partition(OVER)
        if seen not in SEEN:
            raise InputError(f"There is no way “{seen}” of finding bounced light at what is seen; choose one of: {', '.join(SEEN)}.")
        way, values["gi.seen"] = SEEN[seen], seen
        words.append(way.title)
        gathers = way.settings is not None and "final_gather_rays" in way.settings.model_fields
        if how and (how != LOOKED_UP or not gathers):
            raise InputError(f"“{name}” can't be matched; only ways with a final gather can be {LOOKED_UP}: photon_map, baked.")
        if how:
            values[f"{seen}.final_gather_rays"] = 0
            words.append("looked up directly")
        elif gathers and not with_values(recipe, values).final_gather_rays(seen):
            assert way.settings is not None
            values[f"{seen}.final_gather_rays"] = way.settings.model_fields["final_gather_rays"].default
        if beyond and (beyond not in BEYOND or not way.asks_beyond):
            raise InputError(f"“{beyond}” can't find light beyond {seen}; choose one of: {', '.join(BEYOND)}, under a way that takes one.")
        if way.asks_beyond:
            values["gi.beyond"] = beyond or "brute_force"
            if beyond and beyond != "brute_force":
                words.append(f"over {BEYOND[beyond].title}")
    if light:
        # A way is compared as it is, without what only changes its noise: that is an addition of its own.
        values |= {f"{key}.on": "no" for key in ADDED if key != CAUSTICS and key not in besides and recipe.of(key).on == "yes"}
    for more in besides:
        if more in ADDED:
            values[f"{more}.on"] = "yes"
            words.append(ADDED[more].title)
        elif more in THROUGH:
            values["motion.caches"] = more
            words.append(THROUGH[more])
        elif more in SHADOW_WAYS:
            values["shadows.way"] = more
            words.append(f"{more.replace('_', ' ')} shadows")
        else:
            choices = ", ".join((*SHADOW_WAYS, *ADDED, *THROUGH))
            raise InputError(f"There is no shadow way or addition “{more}”; choose one of: {choices}.")
    if not values:
        raise InputError("A match needs ways to compare; name some, like brute_force,irradiance_cache.")
    return Candidate(name.strip(), ", ".join(words), values)


def usual(moves: bool = False) -> list[str]:
    """Names of a match's default candidates: ways that find bounced light, in their usual form; of a shot that `moves`, with shared caches, too."""
    names = []
    for key, way in SEEN.items():
        if not way.bounces or way.key == "ambient":
            continue
        names.append(key)
        names += [name for extra in EXTRAS if extra.key != CAUSTICS for name in extra.pilots if name.split(WITH)[0] == key]
        if way.settings is not None and "final_gather_rays" in way.settings.model_fields:
            names.append(f"{key}{HOW}{LOOKED_UP}")
        if way.asks_beyond:
            names.append(f"{key}{OVER}radiance_cache")
        if moves and way.by_view:
            names.append(f"{key}{WITH}shared")
    return names


def candidates(names: list[str], recipe: Recipe, moves: bool = False) -> list[Candidate]:
    """Candidates by their names, the default ones for none. Raises InputError."""
    chosen = [candidate(name, recipe) for name in dict.fromkeys(names or usual(moves))]
    if len(chosen) < 2:
        raise InputError("A match needs two ways or more; name some, like brute_force,irradiance_cache.")
    return chosen
