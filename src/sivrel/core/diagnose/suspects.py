"""Which causes a flaw of the light may have under a recipe: each the one change that would show it, and what would cure it.

The order is by how often each is at fault where its kind of flaw is seen; trials decide.
"""

from typing import Any

from ..gi.ways import BEYOND, SEEN
from ..render.recipe import Recipe, settings
from ..scene.model import Shadow
from .finding import Remedy, Suspect
from .naming import short

BLOTCHES, LEAK, DARK, BRIGHT = "blotches", "leak", "dark", "bright"
FINE = 4096
"""Texels across of a depth map that is fitted to the view."""


def held(key: str, value: float) -> float:
    """A value within the range of its setting, whole where it has to be."""
    info = settings()[key]
    value = min(max(value, info.minimum if info.minimum is not None else value), info.maximum if info.maximum is not None else value)
    return round(value) if info.type == "integer" else float(f"{value:.4g}")


def ways_in_use(recipe: Recipe) -> dict[str, str]:
    """Ways that interpolate, and where: `seen` or `beyond`."""
    used = {}
    if SEEN[recipe.gi.seen].asks_beyond and recipe.gi.beyond not in ("off", "brute_force"):
        used[recipe.gi.beyond] = "beyond"
    if recipe.gi.seen not in ("off", "ambient", "brute_force"):
        used[recipe.gi.seen] = "seen"
    return used


def of_light(recipe: Recipe, flaw: str, radii: dict[str, float], mapped: dict[str, Shadow]) -> list[Suspect]:
    """Suspects for light that is off brute force in a place. `radii`: automatic distances that the caches were made with, in metres by
    setting, where the recipe leaves them open; `mapped`: the depth maps of lights that have one of their own."""
    found: list[Suspect] = []
    for way, where in ways_in_use(recipe).items():
        found += OF_WAYS[way](recipe, flaw, where, radii)
    if recipe.gi.seen == "ambient":
        found.append(
            Suspect(
                "ambient", "flat ambient light stands in for bounced light: the same everywhere, without colour", {"gi.seen": "brute_force"},
                prior=5.0, kind="flat", cure="Find bounced light by brute force instead of flat ambient light.",
            )
        )  # fmt: skip
    if recipe.shadows.way == "depth_map":
        found += _of_map(recipe.shadows.of_lights(), flaw, "the depth maps", "shadows", False)
    for name, shadow in mapped.items():
        found += _of_map(shadow, flaw, f"the depth map of {short(name)}", f"light.{name}.shadows", True)
    found += _of_limits(recipe, flaw)
    if recipe.ambient.samples and recipe.ambient.on_direct > 0.0 and flaw == DARK:
        found.append(
            Suspect("occlusion on direct", "occlusion takes direct light too, which no light does", {"ambient.on_direct": 0.0}, prior=2.0,
                    kind="dark corner", cure="Let occlusion leave direct light alone.")
        )  # fmt: skip
    seen_way = recipe.gi.seen
    if seen_way not in ("off", "ambient", "brute_force"):
        found.append(
            Suspect(
                "way seen", f"{SEEN[seen_way].title} at what the camera sees", {"gi.seen": "brute_force"}, prior=0.2, whole=True,
                cure="Find bounced light by brute force at what the camera sees.", costs="even grain instead",
            )
        )  # fmt: skip
    if recipe.gi.beyond not in ("off", "brute_force") and SEEN[seen_way].asks_beyond:
        found.append(
            Suspect("way beyond", f"{BEYOND[recipe.gi.beyond].title} beyond what the camera sees", {"gi.beyond": "brute_force"}, prior=0.8,
                    cure="Trace on by brute force beyond what the camera sees.")
        )  # fmt: skip
    return sorted(found, key=lambda suspect: -suspect.prior)


def _irradiance_cache(recipe: Recipe, flaw: str, where: str, radii: dict[str, float]) -> list[Suspect]:
    own = recipe.of("irradiance_cache")
    rays, error, spacing = own.rays, own.error, own.min_spacing
    found = []
    if flaw == BLOTCHES:
        found = [
            Suspect("record rays", f"its records look about with only {rays} rays each", {"irradiance_cache.rays": held("irradiance_cache.rays", 8 * rays)},
                    prior=3.0 if rays < 256 else 1.2, cure=f"Let records look about with {8 * rays} rays."),
            Suspect("cache error", f"its records serve until light may have changed by {error:g}: they lie too far apart",
                    {"irradiance_cache.error": held("irradiance_cache.error", error / 3.0)}, prior=2.0 if error > 0.6 else 1.0,
                    cure=f"Let records serve only until light may have changed by {error / 3.0:.2g}."),
            Suspect("greatest spacing", f"records may lie {own.max_spacing:g} {own.spacing_unit} apart",
                    {"irradiance_cache.max_spacing": own.max_spacing / 4.0}, prior=2.2 if own.max_spacing > 100 else 0.6,
                    cure=f"Set records no farther than {own.max_spacing / 4.0:g} {own.spacing_unit} apart."),
        ]  # fmt: skip
        if own.gradients == "no":
            found.append(Suspect("gradients", "records do not know how light changes about them", {"irradiance_cache.gradients": "yes"}, prior=1.8,
                                 cure="Let records know how light changes about them."))  # fmt: skip
    if flaw == LEAK and own.visible == "no":
        found.append(Suspect("interpolation", "records serve what they can't see: light is interpolated across a wall",
                             {"irradiance_cache.visible": "yes"}, prior=4.0, kind="leak", cure="Let a record serve only what it can see.",
                             costs="lookups trace a ray each"))  # fmt: skip
    if flaw in (LEAK, BRIGHT, DARK):
        finer: dict[str, Any] = {"irradiance_cache.min_spacing": held("irradiance_cache.min_spacing", spacing / 3.0)}
        if spacing > 0.0:
            found.append(Suspect("least spacing", f"records lie at least {spacing:g} {own.spacing_unit} apart: what is finer is smoothed away", finer,
                                 prior=2.6 if spacing > 8.0 else 1.0, kind="lost contact shadow" if flaw == BRIGHT else "",
                                 cure=f"Let records lie as near as {spacing / 3.0:.2g} {own.spacing_unit}."))  # fmt: skip
        if own.smoothing > 0.0:
            found.append(Suspect("smoothing", f"records reach {own.smoothing:g} farther than they are apart", {"irradiance_cache.smoothing": 0.0},
                                 prior=2.4 if own.smoothing > 1.0 else 0.9, kind="lost contact shadow" if flaw == BRIGHT else "",
                                 cure="Let records reach no farther than they are apart.", costs="more blotches"))  # fmt: skip
        found.append(Suspect("cache error", f"its records serve until light may have changed by {error:g}",
                             {"irradiance_cache.error": held("irradiance_cache.error", error / 3.0)}, prior=1.5 if error > 0.6 else 0.7,
                             cure=f"Let records serve only until light may have changed by {error / 3.0:.2g}."))  # fmt: skip
        reach = max(0.05, own.corner_distance * 2.0)
        if own.corner_distance < 0.3:
            found.append(Suspect("corner distance", "records serve right up to where surfaces meet", {"irradiance_cache.corner_distance": reach}, prior=0.9,
                                 kind="lost contact shadow" if flaw == BRIGHT else "", cure=f"Trace where something is nearer than {reach:g} m.",
                                 costs="grain there"))  # fmt: skip
    return found


def _photon_map(recipe: Recipe, flaw: str, where: str, radii: dict[str, float]) -> list[Suspect]:
    own = recipe.of("photon_map")
    found, radius = [], own.radius or radii.get("photon_map.radius", 0.0)
    more = held("photon_map.count", 8 * own.count)
    if flaw == BLOTCHES:
        found.append(Suspect("photons", f"only {own.count:,} photons landed", {"photon_map.count": more}, prior=3.0,
                             cure=f"Let {more:,} photons land."))  # fmt: skip
        if own.gather < 200:
            wider = held("photon_map.gather", 4 * own.gather)
            found.append(Suspect("photons gathered", f"only {own.gather} photons are gathered at a point", {"photon_map.gather": wider}, prior=2.0,
                                 cure=f"Gather {wider} photons at a point.", costs="blurs shadows of bounced light"))  # fmt: skip
        if where == "seen" and own.final_gather_rays < 16:
            rays = 16 if own.final_gather_rays == 0 else 4 * own.final_gather_rays
            found.append(Suspect("looked up at once", "photons are looked up at what the camera sees", {"photon_map.final_gather_rays": rays},
                                 prior=2.5 if own.final_gather_rays == 0 else 0.8, cure=f"Gather them from afar with {rays} rays."))  # fmt: skip
    if flaw in (LEAK, BRIGHT, BLOTCHES) and own.normal_tolerance > 95.0:
        found.append(Suspect("normal tolerance", f"photons count that lie on surfaces turned by up to {own.normal_tolerance:g}°: those of a thin wall's other side, too",
                             {"photon_map.normal_tolerance": 60.0}, prior=3.6, kind="leak",
                             cure="Count photons on surfaces turned by up to 60° alone."))  # fmt: skip
    if flaw in (LEAK, DARK, BRIGHT) and radius > 0.0:
        small = float(f"{radius / 4.0:.3g}")
        kind = "dark corner" if flaw == DARK else "leak"
        found.append(Suspect("gather radius", f"photons are gathered within {radius:.2g} m, past the surface's edge", {"photon_map.radius": small},
                             prior=3.0, kind=kind, cure=f"Gather photons within {small:g} m.", costs="needs more photons to stay smooth",
                             others=[Remedy(f"Gather within {small:g} m, and let {more:,} photons land.",
                                            {"photon_map.radius": small, "photon_map.count": more})]))  # fmt: skip
    if flaw in (LEAK, DARK, BRIGHT):
        if radius <= 0.0:
            found.append(Suspect("photon density", f"the radius follows {own.count:,} photons, and reaches past surfaces", {"photon_map.count": more},
                                 prior=2.0, kind="dark corner" if flaw == DARK else "leak", cure=f"Let {more:,} photons land: the radius shrinks."))  # fmt: skip
        if where == "seen" and own.final_gather_rays == 0:
            found.append(Suspect("looked up at once", "photons are looked up at what the camera sees", {"photon_map.final_gather_rays": 16}, prior=1.5,
                                 cure="Gather them from afar with 16 rays."))  # fmt: skip
        if own.corner_distance < 0.5 and (where == "beyond" or own.final_gather_rays):
            found.append(Suspect("photons near corners", "photons are looked up close to where rays start", {"photon_map.corner_distance": 0.5}, prior=1.0,
                                 cure="Trace on what is nearer than 0.5 m."))  # fmt: skip
        if own.bounces < 8:
            found.append(Suspect("photon bounces", f"photons end after {own.bounces} bounces", {"photon_map.bounces": 16}, prior=1.6 if flaw == DARK else 0.1,
                                 kind="dim" if flaw == DARK else "", cure="Let photons bounce up to 16 times."))  # fmt: skip
    return found


def _radiance_cache(recipe: Recipe, flaw: str, where: str, radii: dict[str, float]) -> list[Suspect]:
    own, found = recipe.of("radiance_cache"), []
    cell = own.cell or radii.get("radiance_cache.cell", 0.0)
    if flaw == BLOTCHES:
        paths = held("radiance_cache.paths", own.paths * 8)
        found.append(Suspect("fill paths", f"its cells were filled by {own.paths:g} paths a pixel", {"radiance_cache.paths": paths}, prior=1.5,
                             cure=f"Fill the cells by {paths:g} paths."))  # fmt: skip
    if cell > 0.0:
        small = float(f"{cell / 4.0:.3g}")
        found.append(Suspect("cells", f"its cells are {cell:.2g} m wide, and reach through thin things", {"radiance_cache.cell": small},
                             prior=2.5 if flaw in (LEAK, DARK) else 1.2, kind="leak" if flaw == LEAK else "", cure=f"Make its cells {small:g} m wide."))  # fmt: skip
    return found


def _baked(recipe: Recipe, flaw: str, where: str, radii: dict[str, float]) -> list[Suspect]:
    own, found = recipe.of("baked"), []
    edge = own.max_edge or radii.get("baked.max_edge", 0.0)
    if where == "seen" and own.final_gather_rays == 0:
        found.append(Suspect("looked up at once", "the bake is looked up at what the camera sees", {"baked.final_gather_rays": 8}, prior=2.0,
                             cure="Gather one bounce over the bake with 8 rays."))  # fmt: skip
    if edge > 0.0:
        small = float(f"{edge / 3.0:.3g}")
        found.append(Suspect("elements", f"the bake's elements are up to {edge:.2g} m long, and one straddles what is lit and what is not",
                             {"baked.max_edge": small, "baked.refine": max(own.refine, 2)}, prior=3.0, kind="leak" if flaw == LEAK else "",
                             cure=f"Make its elements at most {small:g} m long."))  # fmt: skip
    if own.refine < 3:
        found.append(Suspect("refining", f"elements are refined {own.refine} times where light changes", {"baked.refine": own.refine + 2}, prior=1.5,
                             cure=f"Refine elements {own.refine + 2} times where light changes."))  # fmt: skip
    if flaw == BLOTCHES:
        shots = held("baked.shots", own.shots * 8)
        found.append(Suspect("bake shots", f"the bake was made with {own.shots:,} shots", {"baked.shots": shots}, prior=1.5,
                             cure=f"Make the bake with {shots:,} shots."))  # fmt: skip
    if flaw == DARK and own.converged < 0.99:
        found.append(Suspect("convergence", f"the bake stopped with {own.converged:.0%} of the light spread", {"baked.converged": 0.999}, prior=1.0,
                             cure="Let the bake spread 99.9 % of the light."))  # fmt: skip
    return found


OF_WAYS = {"irradiance_cache": _irradiance_cache, "photon_map": _photon_map, "radiance_cache": _radiance_cache, "baked": _baked}


def _of_map(own: Shadow, flaw: str, what: str, key: str, is_edit: bool) -> list[Suspect]:
    """Suspects of depth maps: of all lights by the recipe, or of one light by an edit."""
    found = []
    bias, width, resolution = own.bias or 0.0, own.filter or 0.0, own.resolution or 1024
    plural = "" if is_edit else "s"

    def add(name: str, says: str, setting: str, value: float | str, prior: float, kind: str, cure: str, costs: str = "", whole: bool = False) -> None:
        change = {f"{key}.{setting}": value}
        if setting == "fit":
            change[f"{key}.resolution"] = max(FINE, resolution)
        found.append(Suspect(name, says, {} if is_edit else change, change if is_edit else {}, prior=prior, kind=kind, cure=cure, costs=costs, whole=whole))

    has = "has" if is_edit else "have"
    if bias < 1.0 and flaw in (DARK, BLOTCHES):
        add("map bias small", f"{what} {has} {bias:g} texels of bias: surfaces stripe themselves", "bias", 2.0, 5.0, "speckle", f"Give {what} 2 texels of bias.")
    if bias > 3.0 and flaw != DARK:
        add("map bias large", f"{what} {has} {bias:g} texels of bias: shadows come off what casts them", "bias", 1.5, 4.0, "lost contact shadow",
            f"Give {what} 1.5 texels of bias.")  # fmt: skip
    if width > 4.0:
        add("map filter", f"{what} {'is' if is_edit else 'are'} softened over {width:g} texels: contact goes mushy", "filter", 1.5, 3.5,
            "lost contact shadow", f"Soften {what} over 1.5 texels.", "harder edges")  # fmt: skip
    finer = held("shadows.resolution", 4 * resolution)
    if finer > resolution:
        add("map resolution", f"{what} {'is' if is_edit else 'are'} {resolution} texels across", "resolution", finer, 2.0, "steps",
            f"Make {what} {finer} texels across.", "memory")  # fmt: skip
    if own.fit == "scene":
        add("map fit", f"{what} covers the whole scene, of which the picture sees a part", "fit", "view", 2.6, "steps",
            f"Fit {what} to the view, {max(FINE, resolution)} texels across.", "made anew for each camera")  # fmt: skip
    add("depth map" + plural, f"{what} {'itself' if is_edit else 'themselves'}", "way", "traced", 0.7, "lost contact shadow",
        f"Trace the shadow{plural} instead of {what}.", "grain in soft shadows", True)  # fmt: skip
    return found


def _of_limits(recipe: Recipe, flaw: str) -> list[Suspect]:
    own, found = recipe.limits, list[Suspect]()
    if own.indirect_clamp > 0.0 and flaw == DARK:
        found.append(Suspect("clamp", f"a sample brings at most {own.indirect_clamp:g}: the clamp takes light with the sparkle",
                             {"limits.indirect_clamp": 0.0}, prior=3.0, kind="dim", cure="Take the clamp off.", costs="fireflies may come back",
                             others=[Remedy(f"Raise the clamp to {held('limits.indirect_clamp', own.indirect_clamp * 8):g}.",
                                            {"limits.indirect_clamp": held("limits.indirect_clamp", own.indirect_clamp * 8)})]))  # fmt: skip
    if flaw == DARK and own.diffuse_bounces < 16 and recipe.gi.seen not in ("off", "ambient"):
        more = max(8, 2 * own.diffuse_bounces)
        found.append(Suspect("diffuse bounces", f"paths end after {own.diffuse_bounces} diffuse bounces, with light left in them",
                             {"limits.diffuse_bounces": more, "limits.total": max(own.total, more + 16)}, prior=2.5 if own.diffuse_bounces < 4 else 1.0,
                             kind="dim", cure=f"Let paths bounce {more} times."))  # fmt: skip
    if flaw == DARK and own.refractions < 12:
        found.append(Suspect("glass limit", f"paths end after {own.refractions} crossings of glass", {"limits.refractions": 24, "limits.total": 96},
                             prior=2.0 if own.refractions < 6 else 0.5, kind="black glass", cure="Let paths cross glass 24 times."))  # fmt: skip
    if flaw == DARK and own.reflections < 4:
        found.append(Suspect("mirror limit", f"paths end after {own.reflections} reflections", {"limits.reflections": 8}, prior=0.8, kind="dim",
                             cure="Let paths be mirrored 8 times."))  # fmt: skip
    if own.ray_offset > 0.0:
        kind = {LEAK: "leak", BRIGHT: "lost contact shadow", DARK: "speckle", BLOTCHES: "speckle"}[flaw]
        found.append(Suspect("ray offset", f"rays start {own.ray_offset:g} m off a surface", {"limits.ray_offset": 0.0}, prior=3.5, kind=kind,
                             cure="Leave the ray offset to the scene's size."))  # fmt: skip
    return found
