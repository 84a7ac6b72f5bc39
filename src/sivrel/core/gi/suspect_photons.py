"""Possible causes of a flaw in a photon map, each with the one change that would prove it."""

from typing import Any

from ..suspect import BLOTCHES, BRIGHT, DARK, LEAK, Remedy, Suspect

TRIED_PHOTONS = 30_000
"""Photons of a trial that adds a final gather."""


def suspects(own: Any, recipe: Any, flaw: str, where: str, radii: dict[str, float]) -> list[Suspect]:
    found: list[Suspect] = []
    radius = own.radius or radii.get("photon_map.radius", 0.0)
    more = own.within("count", 8 * own.count)
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
            wider = own.within("gather", 4 * own.gather)
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
                    "photons are looked up directly at visible points",
                    {"photon_map.final_gather_rays": rays},
                    tried=_fewer_photons(own, {"photon_map.final_gather_rays": rays}),
                    prior=2.5 if own.final_gather_rays == 0 else 0.8,
                    cure=f"Use a final gather with {rays} rays.",
                )
            )
    if flaw in (LEAK, BRIGHT, BLOTCHES) and own.normal_tolerance > 95.0:
        found.append(
            Suspect(
                "normal tolerance",
                f"photons on surfaces turned by up to {own.normal_tolerance:g}° count, also those on the other side of a thin wall",
                {"photon_map.normal_tolerance": 60.0},
                prior=3.6,
                kind="leak",
                cure="Count only photons on surfaces turned by up to 60°.",
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
                    f"the radius follows from {own.count:,} photons, and reaches past surfaces",
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
                    "photons are looked up directly at visible points",
                    {"photon_map.final_gather_rays": 16},
                    tried=_fewer_photons(own, {"photon_map.final_gather_rays": 16}),
                    prior=1.5,
                    cure="Use a final gather with 16 rays.",
                )
            )
        if own.corner_distance < 0.5 and (where == "beyond" or own.final_gather_rays):
            found.append(
                Suspect(
                    "photons near corners",
                    "photons are looked up close to the start of rays",
                    {"photon_map.corner_distance": 0.5},
                    prior=1.0,
                    cure="Trace paths on closer than 0.5 m.",
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


def _fewer_photons(own: Any, values: dict[str, Any]) -> dict[str, Any]:
    """The same change with fewer photons, so that their irradiance is soon computed: a final gather is smooth with them, too."""
    return {**values, "photon_map.count": TRIED_PHOTONS} if own.count > TRIED_PHOTONS else {}
