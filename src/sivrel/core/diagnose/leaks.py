"""Light leaks: light where brute force has little, that came through a wall, round it, or by a gap.

Two kinds. What interpolates carries light to places that no ray could: there the picture is brighter than brute force. And a gap lets real
light in: there brute force is brighter than the same scene with the gap closed (`find_in_scene`).
"""

import numpy as np
from scipy import ndimage

from ..survey import gaps
from ..survey import sheets as sheet_check
from ..survey.finding import Finding as Gap
from ..survey.look import Look
from .case import Case, placed
from .eye import SEEN
from .finding import Finding, Remedy, Suspect
from .naming import short
from .regions import Region
from .suspects import LEAK, of_light, ways_in_use
from .truth import Coarse

LEAST_RATIO, LEAST_BY_GAP = 1.15, 1.08
"""Times the light that there should be from which on it is a leak."""
CERTAIN, LEAST_CELLS = 6.0, 3


def claims(case: Case, region: Region) -> float:
    """How well a place that is off fits: bright where it should be dark, under a way that interpolates."""
    assert case.recipe is not None
    if region.sign < 0 or region.ratio < LEAST_RATIO or not (ways_in_use(case.recipe) or case.recipe.limits.ray_offset > 0.0):
        return 0.0
    return float(np.log(region.ratio)) * (1.5 - region.dark)


def describe(case: Case, region: Region) -> Finding:
    made = placed(
        case,
        case.spread(region.cells),
        kind="leak",
        measure="bias",
        amount=abs(region.contrast),
        contrast=region.contrast,
        size=region.size,
        seen=case.seen(region.contrast, region.size),
        sign=1,
        title="Light leaks {there}: " + f"{region.ratio:.3g} times as bright as brute force.",
        why="No path of light brings as much there; what interpolates does.",
        evidence={"ratio": region.ratio, "error": region.error},
    )
    assert case.recipe is not None
    made.suspects = of_light(case.recipe, LEAK, case.radii, case.mapped)
    return made


def sheet_suspects(look: Look) -> list[Suspect]:
    """A suspect for each sheet without thickness between a bright and a dark space, with the survey's mends."""
    found = []
    for sheet in sheet_check.check(look):
        mends = [m for m in sheet.mends if m.edits]
        if mends:
            name = short(sheet.objects[0])
            found.append(
                Suspect(
                    f"sheet {sheet.objects[0]}",
                    f"{name} is a sheet without thickness: what lies on its bright side is interpolated to its dark one",
                    edits=mends[0].edits,
                    prior=3.5,
                    kind="leak",
                    cure=mends[0].words.rstrip(".") + f" ({name}).",
                    others=[Remedy(m.words, edits=m.edits) for m in mends[1:]],
                )
            )
    return found


def gaps_in(look: Look) -> list[Gap]:
    """What the survey finds of gaps."""
    return gaps.check(look)


def find_in_scene(case: Case, truth: Coarse, mended: Coarse, gaps_found: list[Gap]) -> list[Finding]:
    """Where real light comes in by gaps: brute force as it is, against brute force with all of them closed. The largest place alone."""
    spread = truth.variance + mended.variance
    for scale in (1, 3, 5):
        one, other = (ndimage.uniform_filter(p, scale, mode="nearest") for p in (truth.light, mended.light))
        error = np.sqrt(np.maximum(ndimage.uniform_filter(spread, scale, mode="nearest"), 0.0)) / scale
        contrast = case.contrast_of(one, other)
        seen = contrast * case.seen(1.0, scale * case.grid.step)
        off = (one - other > CERTAIN * error) & (seen > SEEN) & (one > LEAST_BY_GAP * other) & case.grid.inside()
        labels, count = ndimage.label(off, np.ones((3, 3), int))
        sizes = np.bincount(labels.reshape(-1), minlength=count + 1)[1:]
        if count and sizes.max() >= LEAST_CELLS:
            cells = labels == int(sizes.argmax()) + 1
            ratio = float(truth.light[cells].sum() / max(mended.light[cells].sum(), 1e-12))
            return [_by_gap(case, cells, float(contrast[cells].mean()), ratio, gaps_found)]
    return []


def _by_gap(case: Case, cells: np.ndarray, contrast: float, ratio: float, gaps_found: list[Gap]) -> Finding:
    gap, size = gaps_found[0], float(np.sqrt(cells.sum())) * case.grid.step
    made = placed(
        case,
        case.spread(cells),
        kind="leak",
        measure="bias",
        amount=contrast,
        contrast=contrast,
        size=size,
        seen=case.seen(contrast, size),
        sign=1,
        title="Light leaks {there}: it comes in by " + gap.title.removeprefix("There is "),
        why=f"With the gap closed there is {ratio:.3g} times less light. Every ray that finds it is real.",
        evidence={"ratio": ratio, **gap.evidence},
        about="gap",
    )
    made.path = list(gap.path)
    between = " and ".join(short(n) for n in gap.objects[:2])
    edits = {key: value for one in gaps_found for mend in one.mends[:1] for key, value in mend.edits.items()}
    words = gap.mends[0].words
    made.suspects = [
        Suspect(
            "gap",
            f"an open joint at {between or 'two surfaces'}",
            edits=edits,
            prior=9.0,
            kind="leak",
            cure=f"Close the joint: {words[0].lower()}{words[1:]}",
        )
    ]
    return made
