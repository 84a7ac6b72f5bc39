"""A dim picture: light removed by a clamp, cut off by limits, not found by chance, or never computed."""

import numpy as np

from ..suspect import DARK
from ..work_time import work_time
from .case import Case, placed
from .detector import Detector
from .finding import PROVEN, Finding, Remedy, Trial
from .regions import Off
from .suspects import of_light
from .trial_renderer import TrialRenderer
from .truth import Coarse

LEAST = 0.04
COVERS = 0.3
CERTAIN = 4.0


def find(case: Case, truth: Coarse, off: Off) -> list[Finding]:
    missing = 1.0 - off.whole
    if missing < LEAST or missing < CERTAIN * off.error or off.too_dark < COVERS or case.recipe is None:
        return []
    contrast = case.bias_in(case.grid.inside(), truth)
    made = placed(
        case, np.ones(case.light.shape, bool), kind="dim", measure="bias", amount=abs(contrast), contrast=contrast, size=100.0,
        seen=case.seen(contrast, 100.0), sign=-1, title=f"The picture is dim: {missing:.0%} of its light is missing.",
        why="Brute force with deep limits and no clamp is brighter nearly everywhere.", evidence={"missing": missing, "error": off.error}, about="",
    )  # fmt: skip
    made.suspects = of_light(case.recipe, DARK, case.radii, case.own_shadows)
    lost = {"clamp": float(case.meters.get("clamped") or 0.0), "diffuse bounces": float((case.meters.get("beyond") or {}).get("diffuse", 0.0))}
    for suspect in made.suspects:  # the meters know how much each removed
        suspect.prior *= 1.0 + 20.0 * lost.get(suspect.key, 0.0)
    made.suspects.sort(key=lambda suspect: -suspect.prior)
    made.evidence |= {f"lost to the {key}": value for key, value in lost.items() if value > 0.0}
    return [made]


def without_bounces(case: Case, renderer: TrialRenderer) -> list[Finding]:
    """For direct light only: how much light bounces would add, from a short render of the whole picture."""
    if case.recipe is None or case.recipe.gi.seen != "off":
        return []
    recipe, edits = renderer.changed({"gi.seen": "brute_force", "gi.beyond": "brute_force"}, {})
    ready, cells = renderer.ready(recipe, edits)[0], case.grid.cells_of(case.grid.window)
    begun, frame = work_time(), case.grid.frame(0, cells)
    patch, base = renderer.patch(ready, recipe, frame, 0.8), renderer.patch(renderer.base(), renderer.recipe, frame, 0.4)
    whole, error = float(patch.light.sum()), float(np.sqrt(patch.variance.sum()))
    missing = 1.0 - float(base.light.sum()) / max(whole, 1e-12)
    if missing < LEAST or missing * whole < CERTAIN * error:
        return []
    contrast = float(case.contrast_of(base.light.mean(), patch.light.mean()))
    made = placed(
        case, np.ones(case.light.shape, bool), kind="dim", measure="bias", amount=abs(contrast), contrast=contrast, size=100.0,
        seen=case.seen(contrast, 100.0), sign=-1, title=f"Direct light only: bounced light would add {missing / (1.0 - missing):.0%}.",
        why="This recipe has no bounced light, which is right only for balancing lights.",
        evidence={"missing": missing, "error": error / max(whole, 1e-12)}, about="bounced",
    )  # fmt: skip
    seconds = case.pixel_seconds * patch.rate / max(base.rate, 1e-12) if case.pixel_seconds is not None else None
    made.cause, made.cause_key, made.confidence = "bounced light is off", "no bounced light", 0.99
    made.trials = [
        Trial("no bounced light", "bounced light is off", {"gi.seen": "brute_force"}, 1.0, error / max(whole * missing, 1e-12), PROVEN,
              work_time() - begun, amount=0.0, rate=patch.rate / max(base.rate, 1e-12), picture=patch.colour)
    ]  # fmt: skip
    made.pictures["as it is"] = base.colour
    made.remedies = [Remedy("Find bounced light by brute force.", {"gi.seen": "brute_force"}, {}, 0.0, 0.0, 0.0, seconds, "trial")]
    return [made]


DETECTOR = Detector("dim", find_off=find)
