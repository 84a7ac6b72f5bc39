"""Light leaks: light where brute force has little, that came through a wall, round it, or through a gap.

Two kinds. Interpolation carries light to places that no ray could reach: there the picture is brighter than brute force. And a gap lets real
light in: there brute force is brighter than the same scene with the gap closed (`find_in_scene`).
"""

from typing import Any, NamedTuple

import numpy as np
from scipy import ndimage

from ..survey import sheets as sheet_check
from ..survey.finding import SceneFinding as Gap
from ..survey.finding import short
from ..survey.look import Look
from ..suspect import LEAK
from .case import Case, placed
from .detector import Detector
from .eye import SEEN
from .finding import Finding, Remedy, Suspect
from .grid import Grid
from .regions import Region, placed_at
from .suspects import of_light, ways_in_use
from .trial_renderer import TrialRenderer

LEAST_RATIO, LEAST_BY_GAP = 1.15, 1.08
"""Ratio to the true light from which it is a leak."""
CERTAIN, LEAST_CELLS = 3.0, 3
SHOWN = 0.4
"""Share of a gap's light that the picture must show."""


def claims(case: Case, region: Region) -> float:
    """How well a deviating place fits: bright where it should be dark, under an interpolating way."""
    assert case.recipe is not None
    if region.sign < 0 or region.ratio < LEAST_RATIO or not (ways_in_use(case.recipe) or case.recipe.limits.ray_offset > 0.0):
        return 0.0
    return float(np.log(region.ratio)) * (1.5 - region.dark)


def describe(case: Case, region: Region) -> Finding:
    assert case.recipe is not None
    title = "Light leaks {there}: " + f"{region.ratio:.3g} times as bright as brute force."
    suspects = of_light(case.recipe, LEAK, case.radii, case.own_shadows)
    return placed_at(case, region, "leak", title, "No light path brings that much there; interpolation does.", suspects)


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
                    f"{name} is a sheet without thickness: light of its bright side is interpolated to its dark one",
                    edits=mends[0].edits,
                    prior=3.5,
                    kind="leak",
                    cure=mends[0].words.rstrip(".") + f" ({name}).",
                    others=[Remedy(m.words, edits=m.edits) for m in mends[1:]],
                )
            )
    return found


class Pair(NamedTuple):
    """Brute force of the cells for the scene as it is, and with its gaps closed, with the same random numbers, so that they differ by the light
    through
    gaps only: luminances float64 [2 halves, rows, columns]."""

    open: np.ndarray
    closed: np.ndarray


def render_pair(renderer: TrialRenderer, grid: Grid, edits: dict[str, Any], seconds: float) -> Pair:
    """Both, within about that many seconds. (Common random numbers: Glasserman & Yao 1992, "Some Guidelines and Guarantees
    for Common Random Numbers".)"""
    cells, planes = grid.cells_of(grid.window), np.zeros((2, 2, grid.rows, grid.columns))
    x0, y0, x1, y1 = cells
    samples = 0
    for half in (0, 1):
        for k, laid in enumerate(({}, edits)):
            ready, recipe = renderer.truth(laid)
            if not samples:
                probe = renderer.patch(ready, recipe, grid.frame(0, cells), 0.0, samples=2)
                samples = int(np.clip(seconds / 4.0 / max(probe.rate * probe.light.size, 1e-9), 8, 1024))
            patch = renderer.patch(ready, recipe, grid.frame(0, cells), 0.0, samples=samples, first_seed=40_000 + half)
            planes[k, half, y0:y1, x0:x1] = patch.light
    return Pair(planes[0], planes[1])


def find_in_scene(case: Case, pair: Pair, gaps_found: list[Gap]) -> list[Finding]:
    """Where real light comes in through gaps. Only the largest place."""
    light, closed = pair.open.mean(axis=0), pair.closed.mean(axis=0)
    apart = pair.open - pair.closed
    for scale in (1, 3, 5):
        one, other = (ndimage.uniform_filter(p, scale, mode="nearest") for p in (light, closed))
        halves = [ndimage.uniform_filter(half, scale, mode="nearest") for half in apart]
        # The noise of the mean of two halves is half of their difference.
        error = np.sqrt(np.maximum(ndimage.uniform_filter((halves[0] - halves[1]) ** 2, 5, mode="nearest"), 0.0)) / 2.0
        seen = case.contrast_of(one, other) * case.seen(1.0, scale * case.grid.step)
        off = (one - other > CERTAIN * error) & (seen > SEEN) & (one > LEAST_BY_GAP * other) & case.grid.inside()
        off &= np.minimum(halves[0], halves[1]) > 0.0
        labels, count = ndimage.label(off, np.ones((3, 3), int))
        sizes = np.bincount(labels.reshape(-1), minlength=count + 1)[1:]
        if count and sizes.max() >= LEAST_CELLS:
            cells = labels == int(sizes.argmax()) + 1
            ratio = float(light[cells].sum() / max(closed[cells].sum(), 1e-12))
            contrast = float(case.contrast_of(light[cells].mean(), closed[cells].mean()))
            # A cache may miss such a narrow light; then the picture does not show the leak.
            shown = float(case.contrast_of(case.grid.pool(case.light)[cells].mean(), closed[cells].mean()))
            return [_by_gap(case, cells, contrast, ratio, gaps_found)] if shown > SHOWN * contrast else []
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
        title="Light leaks {there}: it comes in through " + gap.title.removeprefix("There is "),
        why=f"With the gap closed there is {ratio:.3g} times less light. The light itself is real.",
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


DETECTOR = Detector("leak", claims=claims, describe=describe)
