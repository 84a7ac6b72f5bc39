"""A picture that is dim: light that a clamp took, that lies beyond the limits, that chance did not find, or that was never looked for."""

import numpy as np

from .case import Case, placed
from .finding import Finding
from .regions import Off
from .suspects import DARK, of_light
from .truth import Coarse

NEEDS = "off"
LEAST = 0.04
COVERS = 0.3
CERTAIN = 4.0


def find(case: Case, truth: Coarse, off: Off) -> list[Finding]:
    missing = 1.0 - off.whole
    if missing < LEAST or missing < CERTAIN * off.error or off.too_dark < COVERS or case.recipe is None:
        return []
    light, against = case.cells[0], truth.light
    contrast = float(np.mean(case.contrast_of(light, against)[case.grid.inside()]))
    made = placed(
        case, np.ones(case.light.shape, bool), kind="dim", measure="bias", amount=abs(contrast), contrast=contrast, size=100.0,
        seen=case.seen(contrast, 100.0), sign=-1, title=f"The picture is dim: {missing:.0%} of its light is missing.",
        why="Brute force with deep limits and no clamp is brighter nearly everywhere.", evidence={"missing": missing, "error": off.error}, about="",
    )  # fmt: skip
    made.suspects = of_light(case.recipe, DARK, case.radii)
    lost = {"clamp": float(case.meters.get("clamped") or 0.0), "diffuse bounces": float((case.meters.get("beyond") or {}).get("diffuse", 0.0))}
    for suspect in made.suspects:  # the meters know how much each took
        suspect.prior *= 1.0 + 20.0 * lost.get(suspect.key, 0.0)
    made.suspects.sort(key=lambda suspect: -suspect.prior)
    made.evidence |= {f"lost to the {key}": value for key, value in lost.items() if value > 0.0}
    return [made]
