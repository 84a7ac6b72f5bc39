"""Dark corners and creases: less light than brute force has, in a place."""

from .case import Case, placed
from .finding import Finding
from .regions import Region
from .suspects import DARK, of_light


def claims(case: Case, region: Region) -> float:
    return 0.0 if region.sign > 0 else 0.3 + 0.3 * region.edges


def describe(case: Case, region: Region) -> Finding:
    made = placed(
        case, case.spread(region.cells), kind="dark corner", measure="bias", amount=abs(region.contrast), contrast=region.contrast, size=region.size,
        seen=case.seen(region.contrast, region.size), sign=-1,
        title="Too dark {there}: " + f"{(1.0 - region.ratio) * 100.0:.0f} % of the light is missing.",
        why="Brute force finds light there that this recipe does not.", evidence={"ratio": region.ratio, "error": region.error},
    )  # fmt: skip
    assert case.recipe is not None
    made.suspects = of_light(case.recipe, DARK, case.radii, case.mapped)
    return made
