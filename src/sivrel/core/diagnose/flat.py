"""A flat picture: ambient light instead of bounced light, or in addition to it."""

import numpy as np

from ..suspect import BRIGHT, DARK, LEAK
from .case import Case, placed
from .detector import Detector
from .eye import SEEN, as_shown
from .finding import Finding, Remedy
from .regions import Off
from .suspects import of_light, ways_in_use
from .truth import Coarse

CERTAIN, LEAST = 4.0, 0.06
WASHED_OUT = 0.35
"""For a picture from elsewhere: displayed ratio of its darkest hundredth to its median above which blacks are lifted."""


def find(case: Case, truth: Coarse, off: Off) -> list[Finding]:
    if case.recipe is None:
        return []
    ambient = case.recipe.gi.seen == "ambient"
    brighter = off.whole - 1.0
    whole = brighter > LEAST and brighter > CERTAIN * off.error and off.too_bright > 0.3
    if not whole and not (ambient and off.too_bright + off.too_dark > 0.15):
        return []
    sign = 1 if off.too_bright >= off.too_dark else -1
    cells = np.zeros(truth.light.shape, bool)
    for region in off.regions:
        if region.sign == sign:
            cells |= region.cells
    if not cells.any():
        cells = case.grid.inside()
    contrast = case.bias_in(cells, truth)
    seen = case.seen(contrast, 80.0)
    if seen < SEEN:
        return []
    title = "The picture is flat: ambient light replaces bounced light." if ambient else f"The picture is {brighter:.0%} too bright."
    made = placed(
        case, case.spread(cells), kind="flat", measure="bias", amount=abs(contrast), contrast=contrast, size=80.0, seen=seen, sign=sign, title=title,
        why=f"Against brute force {off.too_bright:.0%} of it is too bright and {off.too_dark:.0%} too dark.", about="",
        evidence={"ratio": off.whole, "too_bright": off.too_bright, "too_dark": off.too_dark},
    )  # fmt: skip
    leaks = not ambient and bool(ways_in_use(case.recipe))
    made.suspects = of_light(case.recipe, (LEAK if leaks else BRIGHT) if sign > 0 else DARK, case.radii, case.own_shadows)
    if leaks and sign > 0:
        made.kind, made.title = "leak", f"Light leaks over {off.too_bright:.0%} of the picture: it is {brighter:.0%} too bright in all."
    if ambient:
        level = case.recipe.ambient.level
        made.suspects[0].others = (
            [Remedy(f"Lower ambient light to {level / 2.0:.2g}.", {"ambient.level": level / 2.0}, costs="stays flat")] if sign > 0 else []
        )
    return [made]


def find_weak(case: Case) -> list[Finding]:
    """On a picture from elsewhere: blacks that are not black anywhere."""
    shown = as_shown(case.light, case.exposure)
    low, middle = np.percentile(shown, (1.0, 50.0))
    if middle <= 0.02 or low / middle < WASHED_OUT or case.recipe is not None:
        return []
    made = placed(
        case, np.ones(case.light.shape, bool), kind="flat", measure="flat", amount=float(low / middle), contrast=float(low / middle), size=80.0,
        seen=3.0, title="The picture is flat: nothing in it is dark.", why=f"Its darkest hundredth shows at {low / middle:.0%} of its middle tone.",
        about="", evidence={"darkest_over_middle": float(low / middle)},
    )  # fmt: skip
    made.settles = [
        "Render once with any constant ambient light off: if creases come back, it was added to bounced light.",
        "Look at it in plain sRGB: if it has contrast there, the view transform was applied twice.",
    ]  # fmt: skip
    return [made]


DETECTOR = Detector("flat", find=find_weak, find_off=find)
