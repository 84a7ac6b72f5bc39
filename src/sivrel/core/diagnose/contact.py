"""Lost or detached contact shadows: too bright where objects meet, under a recipe that smooths, filters or offsets rays too far."""

from ..suspect import BRIGHT
from .case import Case
from .detector import Detector
from .finding import Finding
from .regions import Region, placed_at
from .suspects import of_light


def claims(case: Case, region: Region) -> float:
    """How well a deviating place fits: bright, small, near where surfaces meet."""
    if region.sign < 0:
        return 0.0
    return 0.15 + 0.5 * region.edges * (1.0 - min(1.0, region.share * 8.0))


def describe(case: Case, region: Region) -> Finding:
    assert case.recipe is not None
    title = "A shadow is missing {there}: " + f"{(region.ratio - 1.0) * 100.0:.0f} % too bright."
    suspects = of_light(case.recipe, BRIGHT, case.radii, case.own_shadows)
    return placed_at(case, region, "lost contact shadow", title, "Brute force is darker there.", suspects)


DETECTOR = Detector("lost contact shadow", claims=claims, describe=describe)
