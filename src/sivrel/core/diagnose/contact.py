"""Contact shadows that are lost or have come off: too bright where things meet, under what smooths, filters or starts its rays too far off."""

from ..suspect import BRIGHT
from .case import Case
from .detector import Detector
from .finding import Finding
from .regions import Region, placed_at
from .suspects import of_light


def claims(case: Case, region: Region) -> float:
    """How well a place that is off fits: bright, small, near where surfaces meet."""
    if region.sign < 0:
        return 0.0
    return 0.15 + 0.5 * region.edges * (1.0 - min(1.0, region.share * 8.0))


def describe(case: Case, region: Region) -> Finding:
    assert case.recipe is not None
    title = "Shadow is lost {there}: " + f"{(region.ratio - 1.0) * 100.0:.0f} % too bright."
    suspects = of_light(case.recipe, BRIGHT, case.radii, case.own_shadows)
    return placed_at(case, region, "lost contact shadow", title, "Brute force has it darker there.", suspects)


DETECTOR = Detector("lost contact shadow", claims=claims, describe=describe)
