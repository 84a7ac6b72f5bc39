"""Starting recipes for common cases, each with the reason for its choices; and recipes as files, with a name and a reason."""

import json
from typing import Any, NamedTuple

from ..errors import InputError
from ..json_text import parse_json
from .recipe import Recipe, from_json, to_json, with_values


class Starting(NamedTuple):
    """title, reason: in words; values: by key, where they differ from the defaults."""

    title: str
    reason: str
    values: dict[str, Any]

    def recipe(self) -> Recipe:
        return with_values(Recipe(), self.values)


MANY_LIGHTS = 48
"""Lights from which some are chosen at each point: aiming at all of them takes time in proportion."""


def for_lights(recipe: Recipe, lights: int) -> Recipe:
    """A recipe to start with in a scene with so many lights."""
    return with_values(recipe, {"lights.seen": "chosen"}) if lights > MANY_LIGHTS else recipe


STARTING = {
    "mood-draft": Starting(
        "Quick mood draft",
        "Shows where light falls and its colour in seconds: paths from both ends leave so little grain after eight samples that the filter makes "
        "a clean picture of it.",
        {"bidirectional.on": "yes", "sampling.max": 8},
    ),
    "still-interior": Starting(
        "Still interior",
        "Bounced light dominates a room: paths from both ends find it without bias, and with little grain. The noise target puts the samples where "
        "grain is left; filter the rest.",
        {"bidirectional.on": "yes", "sampling.max": 64, "sampling.min": 16, "sampling.noise_target": 4, "limits.diffuse_bounces": 8},
    ),
    "cached-interior": Starting(
        "Still interior, cached",
        "An irradiance cache computes slowly changing light at few places, over a radiance cache: smooth at once, and quick for other regions of the "
        "same view. Look for blotches in corners; a lower error removes them.",
        {
            "gi.seen": "irradiance_cache", "gi.beyond": "radiance_cache", "sampling.max": 64, "sampling.min": 16, "sampling.noise_target": 4,
            "limits.diffuse_bounces": 8,
        },
    ),
    "exterior": Starting(
        "Exterior",
        "Sun and sky give almost all light; bounced light is a weak fill. Brute force with few bounces is unbiased, and its grain is in the "
        "shade only, where the noise target puts the samples.",
        {"gi.seen": "brute_force", "limits.diffuse_bounces": 3, "sampling.max": 128, "sampling.min": 16, "sampling.noise_target": 4},
    ),
    "product-with-glass": Starting(
        "Product with glass",
        "Glass needs many bounces, and light through it needs photons: paths hardly ever find a small lamp behind a lens. Caustic photons do; "
        "high limits keep the glass from going black, and paths from both ends carry on what the photons light.",
        {
            "caustics.on": "yes", "caustics.count": 30_000, "bidirectional.on": "yes",
            "limits.refractions": 16, "limits.reflections": 8, "limits.total": 32, "sampling.max": 128, "sampling.min": 16,
            "sampling.noise_target": 4,
        },
    ),
    "animation": Starting(
        "Moving shot",
        "A cache at the first hit flickers when it is remade for each frame. Brute force at what is seen does not; a bake beyond "
        "is made once, for every camera, and shortens the paths.",
        {"gi.seen": "brute_force", "gi.beyond": "baked", "sampling.max": 96, "sampling.min": 16, "sampling.noise_target": 5},
    ),
}  # fmt: skip


FIRST = "mood-draft"
"""What a new shot starts with, unless the artist has chosen a recipe for that: it is clean within seconds once it is filtered."""


def named_to_json(recipe: Recipe, name: str, reason: str) -> str:
    """A recipe as a file to share: to_json with a name and a reason."""
    return json.dumps({"name": name, "reason": reason, **json.loads(to_json(recipe))}, indent=1) + "\n"


def named_from_json(text: str | bytes) -> tuple[str, str, Recipe]:
    """(name, reason, recipe) of such a file; the first two may be empty. Raises InputError."""
    problem = "This is not a recipe; give a JSON file that was exported here."
    data = parse_json(text, problem)
    if not isinstance(data, dict):
        raise InputError(problem)
    name, reason = str(data.pop("name", "")), str(data.pop("reason", ""))
    return name, reason, from_json(json.dumps(data))
