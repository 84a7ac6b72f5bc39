"""All checks of a scene in one table, and their findings, worst for this shot first."""

import time
import zlib
from dataclasses import dataclass
from types import ModuleType
from typing import Any

import numpy as np

from ..errors import Cancelled
from ..render.prepare import Prepared
from ..render.recipe import Recipe
from ..task import Task
from . import (
    albedo,
    camera,
    coincident,
    density,
    facing,
    gaps,
    glow,
    holes,
    idle_lights,
    interpenetrating,
    outliers,
    polygons,
    sheets,
    suns,
    units,
)
from .finding import SceneFinding
from .look import Look

CHECKS: dict[str, ModuleType] = {
    "scale against known objects": units, "geometry far away": outliers, "sheets without thickness": sheets, "gaps and open joints": gaps,
    "surfaces in each other": coincident, "solids in each other": interpenetrating, "which way faces face": facing, "holes in solids": holes,
    "density and slivers": density, "polygons and objects": polygons, "lights that light nothing": idle_lights, "glow that chance must find": glow,
    "suns that disagree": suns, "brightness of surfaces": albedo, "camera and exposure": camera,
}  # fmt: skip
"""Checks by name; each module has `check(look) -> list[SceneFinding]`. One line more adds a check."""


SEED = 3


@dataclass(frozen=True)
class Survey:
    """findings: worst first; seconds: of each check; inside: whether the camera is in a closed space; open_share: share of rays from its air
    that leave the scene."""

    findings: list[SceneFinding]
    seconds: dict[str, float]
    inside: bool
    open_share: float

    def as_dict(self) -> dict[str, Any]:
        return {
            "findings": [finding.as_dict() for finding in self.findings], "inside": self.inside, "open_share": round(self.open_share, 4),
            "checks": list(CHECKS), "seconds": {name: round(s, 3) for name, s in self.seconds.items()},
        }  # fmt: skip


def _each_once(findings: list[SceneFinding]) -> list[SceneFinding]:
    """The findings without those that say the same of another placement of one object, under one name: the worst of them stays."""
    kept: dict[tuple[Any, ...], SceneFinding] = {}
    for finding in sorted(findings, key=lambda finding: -finding.harm):
        mends = tuple(str(mend.edits) for mend in finding.mends)
        kept.setdefault((finding.kind, *sorted(finding.objects), mends) if finding.objects else (id(finding),), finding)
    return list(kept.values())


def survey(ready: Prepared, recipe: Recipe | None = None, task: Task | None = None) -> Survey:
    """Check a prepared shot, for `recipe` (by default brute force). `task` receives each check with the findings
    so far, worst first; they are returned if it is cancelled."""
    look = Look(ready, recipe or Recipe())
    findings = list(look.left_out)
    seconds: dict[str, float] = {}
    for k, (name, module) in enumerate(CHECKS.items()):
        try:
            (task or Task()).report(name, k / len(CHECKS), findings)
        except Cancelled:
            break
        begun = time.perf_counter()
        look.rng = np.random.default_rng(zlib.crc32(name.encode()) + SEED)  # its own random numbers, so that checks do not affect each other
        findings += _each_once(module.check(look))
        findings.sort(key=lambda finding: -finding.harm)
        seconds[name] = time.perf_counter() - begun
    return Survey(findings, seconds, look.inside, look.open_share)
