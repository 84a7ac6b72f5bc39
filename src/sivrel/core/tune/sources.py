"""The sources of a sample's noise and time, and the setting that samples each of them."""

from collections.abc import Callable

from ..diagnose.trial_renderer import TrialRenderer
from ..gi.ways import SEEN
from ..measure.noise import relative_weights
from ..pack.lights import GLOW, OTHERS
from ..render.film import BETWEEN, CLOCK_BOUNCED, CLOCK_PAIRS, FILM_COLUMNS, PASS_COLUMNS, WITHIN_BOUNCED, WITHIN_LIGHT
from ..render.prepare import Prepared
from ..render.recipe import Recipe
from ..survey.finding import short
from .allocation import MOST_SPLIT, Source
from .render import Taken

MOST_LIGHTS = 12
"""Most lights with a source of their own, noisiest first."""


def sources_of(renderer: TrialRenderer, recipe: Recipe, pilot: Taken) -> tuple[float, float, list[Source]]:
    """(variance and seconds of a pixel's sample shared by all, sources that may be sampled more) from a render with paired samples."""
    ready = renderer.ready(recipe, renderer.edits)[0]
    n = pilot.samples
    mean = pilot.mean(pilot.lights)
    weights = [relative_weights(light, mean) for light in pilot.lights]

    def variance(column: int) -> float:
        return n * pilot.mean([w * film[..., column].reshape(-1).astype(float) for w, film in zip(weights, pilot.films, strict=True)])

    whole = max(pilot.clock[-1], 1.0)
    # Paired samples for the ledger are part of every render: their time is distributed over the sources.
    scale = pilot.seconds / (pilot.pixels * n) / max(whole - pilot.clock[len(ready.passes) + CLOCK_PAIRS], 1.0)

    def cost(entry: int) -> float:
        return float(pilot.clock[entry] * scale)

    sources = _of_lights(renderer, ready, recipe, variance, cost) if recipe.lights.seen == "all" else []
    bounced = len(ready.passes) + CLOCK_BOUNCED
    way, flat = SEEN[recipe.gi.seen], recipe.flat()
    if way.bounces and recipe.gi.seen != "ambient":
        gathered = recipe.final_gather_rays(way.key)
        key = f"{way.key}.final_gather_rays" if gathered else "sampling.gi_rays"
        looked_up = way.settings is not None and not gathered
        now = int(gathered or flat["sampling.gi_rays"])
        if not looked_up:
            sources.append(Source(key, "bounced light", now, max(0.0, variance(WITHIN_BOUNCED)) * now, cost(bounced) / now))
        shiny = flat["sampling.glossy_rays"]
        of_gloss = max(0.0, variance(WITHIN_BOUNCED + 1) + variance(WITHIN_BOUNCED + 2))
        sources.append(Source("sampling.glossy_rays", "gloss and glass", shiny, of_gloss * shiny, (cost(bounced + 1) + cost(bounced + 2)) / shiny))
    sources = [s for s in sources if s.variance > 0.0 and s.cost > 0.0]
    spent = sum(s.cost * s.now for s in sources)
    all_cost = pilot.seconds / (pilot.pixels * n)
    return max(variance(BETWEEN), 1e-9), max(all_cost - spent, 0.05 * all_cost), sources


def _of_lights(
    renderer: TrialRenderer, ready: Prepared, recipe: Recipe, variance: Callable[[int], float], cost: Callable[[int], float]
) -> list[Source]:
    found, flat = [], renderer.edits.flat()
    for slot, name in enumerate(ready.passes):
        light = next((one for one in ready.scene.lights if one.name == name), None)
        if name in (GLOW, OTHERS) or light is None:
            continue
        way = light.shadow.way or recipe.shadows.way
        if way != "traced" and light.kind != "dome":
            continue
        now = int(flat.get(f"light.{name}.shadows.rays") or light.shadow.rays or recipe.shadows.rays)
        own = variance(FILM_COLUMNS + slot * PASS_COLUMNS + WITHIN_LIGHT)
        found.append(Source(f"light.{name}.shadows.rays", short(name), now, max(0.0, own) * now, cost(slot) / now, MOST_SPLIT))
    return sorted(found, key=lambda s: -s.variance)[:MOST_LIGHTS]
