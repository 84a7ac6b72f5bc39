"""Possible causes of a flaw in a bake, each with the one change that would prove it."""

from typing import Any

from ..suspect import BLOTCHES, DARK, LEAK, Suspect


def suspects(own: Any, recipe: Any, flaw: str, where: str, radii: dict[str, float]) -> list[Suspect]:
    found: list[Suspect] = []
    edge = own.max_edge or radii.get("baked.max_edge", 0.0)
    if where == "seen" and own.final_gather_rays == 0:
        found.append(
            Suspect(
                "looked up at once",
                "the bake is looked up directly at visible points",
                {"baked.final_gather_rays": 8},
                prior=3.2,  # tried with the existing bake
                cure="Gather one bounce over the bake with 8 rays.",
            )
        )
    if edge > 0.0:
        small = float(f"{edge / 3.0:.3g}")
        found.append(
            Suspect(
                "elements",
                f"the bake's elements are up to {edge:.2g} m long, and one crosses the border of light and shadow",
                {"baked.max_edge": small, "baked.refine": max(own.refine, 2)},
                # Fewer shots make it noisy, which does not change the mean over a region.
                tried={"baked.max_edge": small, "baked.shots": own.within("shots", own.shots / 4)},
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
        shots = own.within("shots", own.shots * 8)
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
                f"the bake stopped with {own.converged:.0%} of the light distributed",
                {"baked.converged": 0.999},
                prior=1.0,
                cure="Let the bake distribute 99.9 % of the light.",
            )
        )
    return found
