"""Places where a picture's light deviates from brute force, significantly and visibly, and their properties.

A place deviates if the difference, pooled over one, three or seven cells, exceeds a number of standard errors and
the eye's threshold. (Pooling over several scales finds both faint wide and strong small differences; Burt & Adelson 1983.)
"""

import functools
from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from .case import Case, placed
from .eye import SEEN, as_shown
from .finding import Finding, Suspect
from .paired_render import Apart
from .truth import Coarse

SCALES = (1, 3, 7)
CERTAIN = {1: 6.0, 3: 5.0, 7: 5.0}
"""Standard errors by scale: more places mean more false alarms."""
CERTAIN_AGAIN = 2.0
NEARER = {3: 1, 7: 3}
LEAST_RELATIVE = 0.05
LEAST_CELLS = 3
EIGHT = np.ones((3, 3), int)


@dataclass(frozen=True)
class Region:
    """cells: bool [rows, columns]; sign; contrast: as displayed, mean; size: pixels across; ratio of its light to brute force's, with error
    dark: rank of brute force's light there within the picture, 0 the darkest; edges: share of it near edges and corners; share of the picture"""

    cells: np.ndarray
    sign: int
    contrast: float
    size: float
    ratio: float
    error: float
    dark: float
    edges: float
    share: float

    def certain(self) -> float:
        return abs(self.ratio - 1.0) / max(self.error, 1e-9)


@dataclass(frozen=True)
class Off:
    """All deviating places; whole: the ratio of all light to brute force's, with error; too_dark, too_bright: shares of the picture."""

    regions: list[Region]
    whole: float
    error: float
    too_dark: float
    too_bright: float


def places_off(case: Case, truth: Coarse) -> Off:
    light, against, spread = case.against(truth)
    apart = case.paired.apart(truth) if case.paired is not None else None
    inside = case.grid.inside()
    floor = case.floor
    found = {1: np.zeros_like(inside), -1: np.zeros_like(inside)}
    for scale in SCALES:
        pool = functools.partial(ndimage.uniform_filter, size=scale, mode="nearest")
        one, other, error = pool(light), pool(against), np.sqrt(np.maximum(pool(spread), 0.0)) / scale
        contrast = case.contrast_of(one, other)
        seen = np.abs(contrast) * case.seen(1.0, scale * case.grid.step) > SEEN
        off = (np.abs(one - other) > CERTAIN[scale] * error + LEAST_RELATIVE * (other + floor)) & seen & inside
        if scale > 1:  # a wide mean reaches past the deviating place: the nearer scale must deviate, too
            near = [ndimage.uniform_filter(plane, NEARER[scale], mode="nearest") for plane in (light, against, spread)]
            sure = np.sqrt(np.maximum(near[2], 0.0)) / NEARER[scale] < 0.4 * np.abs(one - other)
            off &= ~sure | (np.sign(contrast) * (near[0] - near[1]) > 0.5 * np.abs(one - other))
        for sign in found:
            found[sign] |= off & (np.sign(contrast) == sign)
    regions, shown = [], as_shown(against, case.exposure)
    near_edges = ndimage.maximum_filter(case.grid.pool((~case.smooth).astype(float)), 3) > 0.15
    for sign, mask in found.items():
        labels, count = ndimage.label(mask, EIGHT)
        for k in range(1, count + 1):
            cells = labels == k
            if cells.sum() >= LEAST_CELLS and _stands(light, against, spread, cells) and _again(apart, cells, sign):
                regions.append(_region(case, cells, sign, light, against, spread, shown, near_edges))
    every = inside.sum()
    whole, all_truth = float(light[inside].sum()), max(float(against[inside].sum()), 1e-12)
    error = float(np.sqrt(spread[inside].sum())) / all_truth
    regions = [r for r in regions if r.certain() > CERTAIN[3]]
    regions.sort(key=lambda r: -abs(r.contrast) * r.share**0.5)
    return Off(regions, whole / all_truth, error, float(found[-1].sum() / every), float(found[1].sum() / every))


def _stands(light: np.ndarray, against: np.ndarray, spread: np.ndarray, cells: np.ndarray) -> bool:
    """Whether a place deviates without its most extreme cells, too: a single rare path, here or in brute force, is not a place."""
    apart, chance = (light - against)[cells], spread[cells]
    kept = np.argsort(np.abs(apart))[: len(apart) - max(1, len(apart) // 8)]
    return bool(abs(apart[kept].sum()) > CERTAIN[3] * np.sqrt(chance[kept].sum()) and np.sign(apart[kept].sum()) == np.sign(apart.sum()))


def _again(apart: Apart | None, cells: np.ndarray, sign: int) -> bool:
    """Whether both halves of the paired render, with independent noise, show it; true without one."""
    if apart is None:
        return True
    error = np.sqrt(2.0 * apart.variance[cells].sum())
    return all(sign * half[cells].sum() > CERTAIN_AGAIN * error for half in apart.halves)


def _region(
    case: Case, cells: np.ndarray, sign: int, light: np.ndarray, against: np.ndarray, spread: np.ndarray, shown: np.ndarray, near_edges: np.ndarray
) -> Region:  # fmt: skip
    total = max(float(against[cells].sum()), 1e-3 * case.floor * cells.sum())
    inside = case.grid.inside()
    contrast = float(case.contrast_of(light[cells].mean(), against[cells].mean()))
    return Region(
        cells, sign, contrast, float(np.sqrt(cells.sum())) * case.grid.step, float(light[cells].sum()) / total,
        float(np.sqrt(spread[cells].sum())) / total, float((shown[inside] < shown[cells].mean()).mean()),
        float(near_edges[cells].mean()), float(cells.sum() / max(1, inside.sum())),
    )  # fmt: skip


def placed_at(case: Case, region: Region, kind: str, title: str, why: str, suspects: list[Suspect]) -> Finding:
    """The finding of a deviating place; its texts as filled by `placed`."""
    made = placed(
        case, case.spread(region.cells), kind=kind, measure="bias", amount=abs(region.contrast), contrast=region.contrast, size=region.size,
        seen=case.seen(region.contrast, region.size), sign=region.sign, title=title, why=why, evidence={"ratio": region.ratio, "error": region.error},
    )  # fmt: skip
    made.suspects = suspects
    return made
