"""Contact shadows that are lost or have come off: too bright where things meet, under what smooths, filters or starts its rays too far off."""

from .case import Case, placed
from .finding import Finding
from .regions import Region
from .suspects import BRIGHT, of_light


def claims(case: Case, region: Region) -> float:
    """How well a place that is off fits: bright, small, near where surfaces meet."""
    if region.sign < 0:
        return 0.0
    return 0.15 + 0.5 * region.edges * (1.0 - min(1.0, region.share * 8.0))


def describe(case: Case, region: Region) -> Finding:
    made = placed(
        case, case.spread(region.cells), kind="lost contact shadow", measure="bias", amount=abs(region.contrast), contrast=region.contrast,
        size=region.size, seen=case.seen(region.contrast, region.size), sign=1,
        title="Shadow is lost {there}: " + f"{(region.ratio - 1.0) * 100.0:.0f} % too bright.",
        why="Brute force has it darker there.", evidence={"ratio": region.ratio, "error": region.error},
    )  # fmt: skip
    assert case.recipe is not None
    made.suspects = of_light(case.recipe, BRIGHT, case.radii, case.mapped)
    return made
