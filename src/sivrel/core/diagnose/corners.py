"""Dark corners and creases: less light in a place than by brute force."""

from ..suspect import DARK
from .case import Case
from .detector import Detector
from .finding import Finding
from .regions import Region, placed_at
from .suspects import of_light


def claims(case: Case, region: Region) -> float:
    return 0.0 if region.sign > 0 else 0.3 + 0.3 * region.edges


def describe(case: Case, region: Region) -> Finding:
    assert case.recipe is not None
    title = "Too dark {there}: " + f"{(1.0 - region.ratio) * 100.0:.0f} % of the light is missing."
    suspects = of_light(case.recipe, DARK, case.radii, case.own_shadows)
    return placed_at(case, region, "dark corner", title, "Brute force finds light there that this recipe misses.", suspects)


DETECTOR = Detector("dark corner", claims=claims, describe=describe)
