"""Black glass: paths that the glass limit ends before they come out."""

import numpy as np

from ..render.recipe import Recipe
from ..suspect import DARK
from .case import Case, placed
from .detector import Detector
from .finding import Finding, Suspect
from .regions import Region, placed_at
from .suspects import clamp_to_range, of_light

LEAST_ENDED, LEAST_SHARE = 0.08, 0.002


def _ended(case: Case) -> np.ndarray | None:
    plane = case.picture.passes.get("ended_in_glass")
    return plane[..., 0] if plane is not None else None


def find(case: Case) -> list[Finding]:
    """From the count of paths that ended in glass, before any brute force."""
    ended = _ended(case)
    if ended is None or case.recipe is None:
        return []
    mask = ended > LEAST_ENDED
    if mask.mean() < LEAST_SHARE:
        return []
    share = float(ended[mask].mean())
    made = placed(
        case,
        mask,
        kind="black glass",
        measure="bias",
        amount=share,
        contrast=share,
        size=20.0,
        seen=case.seen(min(share, 1.0), 20.0),
        sign=-1,
        title="Glass is too dark {there}.",
        why=f"{share:.0%} of the paths that enter there are ended by the limit of {case.recipe.limits.refractions} crossings before they come out.",
        evidence={"ended": share},
    )
    made.suspects = limit_suspects(case.recipe)
    return [made]


def limit_suspects(recipe: Recipe) -> list[Suspect]:
    more = clamp_to_range("limits.refractions", max(16, 3 * recipe.limits.refractions))
    change = {"limits.refractions": more, "limits.total": max(recipe.limits.total, 64)}
    found = [
        Suspect(
            "glass limit",
            f"paths end after {recipe.limits.refractions} crossings of glass",
            change,
            prior=4.0,
            kind="black glass",
            cure=f"Let paths cross glass {more} times.",
        )
    ]
    if recipe.limits.total < 16:
        found.append(
            Suspect(
                "limit of all",
                f"paths end after {recipe.limits.total} bounces of every kind",
                {"limits.total": 64},
                prior=3.0,
                kind="black glass",
                cure="Let paths continue for 64 bounces in total.",
            )
        )
    return found


def claims(case: Case, region: Region) -> float:
    ended = _ended(case)
    if region.sign > 0 or ended is None:
        return 0.0
    return 2.0 if case.grid.pool(ended.astype(float))[region.cells].mean() > 0.02 else 0.0


def describe(case: Case, region: Region) -> Finding:
    assert case.recipe is not None
    title = "Glass is too dark {there}: " + f"{(1.0 - region.ratio) * 100.0:.0f} % is missing."
    why = f"Paths end inside it, at the limit of {case.recipe.limits.refractions} crossings."
    others = [s for s in of_light(case.recipe, DARK, case.radii, case.own_shadows) if s.key != "glass limit"]
    return placed_at(case, region, "black glass", title, why, limit_suspects(case.recipe) + others)


DETECTOR = Detector("black glass", find=find, claims=claims, describe=describe)
