"""Which causes a flaw of the light may have in a way that interpolates: of its records, photons, cells or elements, each the one change that would
show it."""

from typing import Any

from ..render.recipe import Recipe, settings
from .finding import Remedy, Suspect

BLOTCHES, LEAK, DARK, BRIGHT = "blotches", "leak", "dark", "bright"
TRIED_PHOTONS = 30_000
"""Photons of a trial whose change is to gather them from afar."""


def _fewer_photons(own: Any, values: dict[str, Any]) -> dict[str, Any]:
    """The same change with so few photons that the light at each is soon gathered: from afar that many are smooth, too."""
    return {**values, "photon_map.count": TRIED_PHOTONS} if own.count > TRIED_PHOTONS else {}


def held(key: str, value: float) -> float:
    """A value within the range of its setting, whole where it has to be."""
    info = settings()[key]
    value = min(max(value, info.minimum if info.minimum is not None else value), info.maximum if info.maximum is not None else value)
    return round(value) if info.type == "integer" else float(f"{value:.4g}")


def _irradiance_cache(recipe: Recipe, flaw: str, where: str, radii: dict[str, float]) -> list[Suspect]:
    own = recipe.of("irradiance_cache")
    rays, error, spacing = own.rays, own.error, own.min_spacing
    found = []
    if flaw == BLOTCHES:
        found = [
            Suspect(
                "record rays",
                f"its records look about with only {rays} rays each",
                {"irradiance_cache.rays": held("irradiance_cache.rays", 8 * rays)},
                raised=8.0,
                prior=3.0 if rays < 256 else 1.2,
                cure=f"Let records look about with {8 * rays} rays.",
            ),
            Suspect(
                "cache error",
                f"its records serve until light may have changed by {error:g}: they lie too far apart",
                {"irradiance_cache.error": held("irradiance_cache.error", error / 3.0)},
                prior=2.0 if error > 0.6 else 1.0,
                cure=f"Let records serve only until light may have changed by {error / 3.0:.2g}.",
            ),
            Suspect(
                "greatest spacing",
                f"records may lie {own.max_spacing:g} {own.spacing_unit} apart",
                {"irradiance_cache.max_spacing": own.max_spacing / 4.0},
                prior=2.2 if own.max_spacing > 100 else 0.6,
                cure=f"Set records no farther than {own.max_spacing / 4.0:g} {own.spacing_unit} apart.",
            ),
        ]
        if own.gradients == "no":
            found.append(
                Suspect(
                    "gradients",
                    "records do not know how light changes about them",
                    {"irradiance_cache.gradients": "yes"},
                    prior=1.8,
                    cure="Let records know how light changes about them.",
                )
            )
    found += _spacing(own, flaw)
    if flaw != BLOTCHES and own.max_spacing > 100.0:
        found.append(
            Suspect(
                "greatest spacing",
                f"records may lie {own.max_spacing:g} {own.spacing_unit} apart",
                {"irradiance_cache.max_spacing": own.max_spacing / 6.0},
                prior=2.5,
                cure=f"Set records no farther than {own.max_spacing / 6.0:.3g} {own.spacing_unit} apart.",
            )
        )
    if flaw == LEAK and own.visible == "no":
        found.append(
            Suspect(
                "interpolation",
                "records serve what they can't see: light is interpolated across a wall",
                {"irradiance_cache.visible": "yes"},
                prior=4.0,
                kind="leak",
                cure="Let a record serve only what it can see.",
                costs="lookups trace a ray each",
            )
        )
    if flaw in (LEAK, BRIGHT, DARK):
        finer: dict[str, Any] = {"irradiance_cache.min_spacing": held("irradiance_cache.min_spacing", spacing / 3.0)}
        if spacing > 0.0:
            found.append(
                Suspect(
                    "least spacing",
                    f"records lie at least {spacing:g} {own.spacing_unit} apart: what is finer is smoothed away",
                    finer,
                    prior=2.6 if spacing > 8.0 else 1.0,
                    kind="lost contact shadow" if flaw == BRIGHT else "",
                    cure=f"Let records lie as near as {spacing / 3.0:.2g} {own.spacing_unit}.",
                )
            )
        if own.smoothing > 0.0:
            found.append(
                Suspect(
                    "smoothing",
                    f"records reach {own.smoothing:g} farther than they are apart",
                    {"irradiance_cache.smoothing": 0.0},
                    prior=2.4 if own.smoothing > 1.0 else 0.9,
                    kind="lost contact shadow" if flaw == BRIGHT else "",
                    cure="Let records reach no farther than they are apart.",
                    costs="more blotches",
                )
            )
        found.append(
            Suspect(
                "cache error",
                f"its records serve until light may have changed by {error:g}",
                {"irradiance_cache.error": held("irradiance_cache.error", error / 3.0)},
                prior=1.5 if error > 0.6 else 0.7,
                cure=f"Let records serve only until light may have changed by {error / 3.0:.2g}.",
            )
        )
        reach = max(0.05, own.corner_distance * 2.0)
        if own.corner_distance < 0.3:
            found.append(
                Suspect(
                    "corner distance",
                    "records serve right up to where surfaces meet",
                    {"irradiance_cache.corner_distance": reach},
                    prior=0.9,
                    kind="lost contact shadow" if flaw == BRIGHT else "",
                    cure=f"Trace where something is nearer than {reach:g} m.",
                    costs="grain there",
                )
            )
    return found


SAID = {"error": "cache error", "min_spacing": "least spacing", "max_spacing": "greatest spacing", "smoothing": "smoothing"}


def _spacing(own: Any, flaw: str) -> list[Suspect]:
    """All that lets records lie far apart at once, where more than one setting does: of each alone another would still hold them there."""
    loose: dict[str, tuple[float, float]] = {
        "error": (own.error, 0.6), "min_spacing": (own.min_spacing, 8.0), "max_spacing": (own.max_spacing, 100.0), "smoothing": (own.smoothing, 1.0),
    }  # fmt: skip
    loose = {name: pair for name, pair in loose.items() if pair[0] > pair[1] and (name != "smoothing" or flaw != BLOTCHES)}
    if len(loose) < 2:
        return []
    closer = {f"irradiance_cache.{name}": held(f"irradiance_cache.{name}", value / 4.0) for name, (value, _) in loose.items()}
    names = [SAID[name] for name in loose]
    return [
        Suspect(
            "record spacing",
            f"its records lie too far apart by {', '.join(names[:-1])} and {names[-1]} together",
            closer,
            prior=2.1 if flaw == BLOTCHES else 2.4,
            kind="lost contact shadow" if flaw == BRIGHT else "",
            cure="Let records lie closer: " + ", ".join(f"{SAID[key.split('.')[1]]} {value:.3g}" for key, value in closer.items()) + ".",
        )
    ]


def _photon_map(recipe: Recipe, flaw: str, where: str, radii: dict[str, float]) -> list[Suspect]:
    own = recipe.of("photon_map")
    found, radius = [], own.radius or radii.get("photon_map.radius", 0.0)
    more = held("photon_map.count", 8 * own.count)
    if flaw == BLOTCHES:
        found.append(
            Suspect(
                "photons",
                f"only {own.count:,} photons landed",
                {"photon_map.count": more},
                prior=3.0,
                cure=f"Let {more:,} photons land.",
                tried={"photon_map.count": own.count // 4} if own.radius > 0.0 and own.count > 20_000 else {},
                inverse=4.0 if own.radius > 0.0 and own.count > 20_000 else 0.0,
            )
        )
        if own.gather < 200:
            wider = held("photon_map.gather", 4 * own.gather)
            found.append(
                Suspect(
                    "photons gathered",
                    f"only {own.gather} photons are gathered at a point",
                    {"photon_map.gather": wider},
                    prior=2.0,
                    cure=f"Gather {wider} photons at a point.",
                    costs="blurs shadows of bounced light",
                )
            )
        if where == "seen" and own.final_gather_rays < 16:
            rays = 16 if own.final_gather_rays == 0 else 4 * own.final_gather_rays
            found.append(
                Suspect(
                    "looked up at once",
                    "photons are looked up at what the camera sees",
                    {"photon_map.final_gather_rays": rays},
                    tried=_fewer_photons(own, {"photon_map.final_gather_rays": rays}),
                    prior=2.5 if own.final_gather_rays == 0 else 0.8,
                    cure=f"Gather them from afar with {rays} rays.",
                )
            )
    if flaw in (LEAK, BRIGHT, BLOTCHES) and own.normal_tolerance > 95.0:
        found.append(
            Suspect(
                "normal tolerance",
                f"photons count that lie on surfaces turned by up to {own.normal_tolerance:g}°: those of a thin wall's other side, too",
                {"photon_map.normal_tolerance": 60.0},
                prior=3.6,
                kind="leak",
                cure="Count photons on surfaces turned by up to 60° alone.",
            )
        )
    if flaw in (LEAK, DARK, BRIGHT) and radius > 0.0:
        small = float(f"{radius / 4.0:.3g}")
        kind = "dark corner" if flaw == DARK else "leak"
        found.append(
            Suspect(
                "gather radius",
                f"photons are gathered within {radius:.2g} m, past the surface's edge",
                {"photon_map.radius": small},
                prior=3.0,
                kind=kind,
                cure=f"Gather photons within {small:g} m.",
                costs="needs more photons to stay smooth",
                others=[Remedy(f"Gather within {small:g} m, and let {more:,} photons land.", {"photon_map.radius": small, "photon_map.count": more})],
            )
        )
    if flaw in (LEAK, DARK, BRIGHT):
        if radius <= 0.0:
            found.append(
                Suspect(
                    "photon density",
                    f"the radius follows {own.count:,} photons, and reaches past surfaces",
                    {"photon_map.count": more},
                    prior=2.0,
                    kind="dark corner" if flaw == DARK else "leak",
                    cure=f"Let {more:,} photons land: the radius shrinks.",
                )
            )
        if where == "seen" and own.final_gather_rays == 0:
            found.append(
                Suspect(
                    "looked up at once",
                    "photons are looked up at what the camera sees",
                    {"photon_map.final_gather_rays": 16},
                    tried=_fewer_photons(own, {"photon_map.final_gather_rays": 16}),
                    prior=1.5,
                    cure="Gather them from afar with 16 rays.",
                )
            )
        if own.corner_distance < 0.5 and (where == "beyond" or own.final_gather_rays):
            found.append(
                Suspect(
                    "photons near corners",
                    "photons are looked up close to where rays start",
                    {"photon_map.corner_distance": 0.5},
                    prior=1.0,
                    cure="Trace on what is nearer than 0.5 m.",
                )
            )
        if own.bounces < 8:
            found.append(
                Suspect(
                    "photon bounces",
                    f"photons end after {own.bounces} bounces",
                    {"photon_map.bounces": 16},
                    prior=1.6 if flaw == DARK else 0.1,
                    kind="dim" if flaw == DARK else "",
                    cure="Let photons bounce up to 16 times.",
                )
            )
    return found


def _radiance_cache(recipe: Recipe, flaw: str, where: str, radii: dict[str, float]) -> list[Suspect]:
    own = recipe.of("radiance_cache")
    cell, paths = own.cell or radii.get("radiance_cache.cell", 0.0), held("radiance_cache.paths", own.paths * 8)
    found = [
        Suspect(
            "fill paths",
            f"its cells were filled by {own.paths:g} paths a pixel, too few for what a cell should hold",
            {"radiance_cache.paths": paths},
            raised=8.0,
            prior=1.5 if flaw == BLOTCHES or own.paths < 8 else 0.6,
            kind="blotches",
            cure=f"Fill the cells by {paths:g} paths.",
        )
    ]
    if cell > 0.0:
        small = float(f"{cell / 3.0:.3g}")
        found.append(
            Suspect(
                "cells",
                f"its cells are {cell:.2g} m wide, and reach through thin things and round edges",
                {"radiance_cache.cell": small, "radiance_cache.paths": paths},
                # Narrow cells blotch with so few paths, but over a place the mean is as good, and no path is traced anew.
                tried={"radiance_cache.cell": small},
                prior=2.0 if flaw in (LEAK, DARK) else 1.2,
                kind="leak" if flaw == LEAK else "",
                cure=f"Make its cells {small:g} m wide, and fill them by {paths:g} paths.",
            )
        )
    return found


def _baked(recipe: Recipe, flaw: str, where: str, radii: dict[str, float]) -> list[Suspect]:
    own, found = recipe.of("baked"), []
    edge = own.max_edge or radii.get("baked.max_edge", 0.0)
    if where == "seen" and own.final_gather_rays == 0:
        found.append(
            Suspect(
                "looked up at once",
                "the bake is looked up at what the camera sees",
                {"baked.final_gather_rays": 8},
                prior=3.2,  # it is tried with the bake that is there
                cure="Gather one bounce over the bake with 8 rays.",
            )
        )
    if edge > 0.0:
        small = float(f"{edge / 3.0:.3g}")
        found.append(
            Suspect(
                "elements",
                f"the bake's elements are up to {edge:.2g} m long, and one straddles what is lit and what is not",
                {"baked.max_edge": small, "baked.refine": max(own.refine, 2)},
                # Fewer shots make it grainy, which over a place is no matter.
                tried={"baked.max_edge": small, "baked.shots": held("baked.shots", own.shots / 4)},
                prior=3.0,
                kind="leak" if flaw == LEAK else "",
                cure=f"Make its elements at most {small:g} m long.",
            )
        )
    if own.refine < 3:
        found.append(
            Suspect(
                "refining",
                f"elements are refined {own.refine} times where light changes",
                {"baked.refine": own.refine + 2},
                prior=1.5,
                cure=f"Refine elements {own.refine + 2} times where light changes.",
            )
        )
    if flaw == BLOTCHES:
        shots = held("baked.shots", own.shots * 8)
        found.append(
            Suspect(
                "bake shots",
                f"the bake was made with {own.shots:,} shots",
                {"baked.shots": shots},
                raised=8.0,
                prior=1.5,
                cure=f"Make the bake with {shots:,} shots.",
            )
        )
    if flaw == DARK and own.converged < 0.99:
        found.append(
            Suspect(
                "convergence",
                f"the bake stopped with {own.converged:.0%} of the light spread",
                {"baked.converged": 0.999},
                prior=1.0,
                cure="Let the bake spread 99.9 % of the light.",
            )
        )
    return found


OF_WAYS = {"irradiance_cache": _irradiance_cache, "photon_map": _photon_map, "radiance_cache": _radiance_cache, "baked": _baked}
