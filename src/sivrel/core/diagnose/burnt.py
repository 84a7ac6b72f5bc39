"""Burnt highlights: clipped places that do not emit light themselves."""

import numpy as np
from scipy import ndimage

from ..measure.noise import LUMINANCE
from .case import Case, placed
from .detector import Detector, Kept
from .eye import as_shown
from .finding import Finding, Remedy
from .truth import Coarse

WHITE = 0.93
"""Share of the screen's white above which the soft view shows no detail."""
LEAST_SHARE, LEAST_PIXELS = 0.02, 64


def burnt(case: Case, stops: float = 0.0) -> np.ndarray:
    """bool [rows, columns]: pixels that would be burnt at an exposure that many stops off the case's."""
    glow = case.picture.passes.get("emission")
    lit = case.light if glow is None else np.where(glow.astype(float) @ LUMINANCE > 0.5 * case.light, 0.0, case.light)
    white = as_shown(lit, case.exposure + stops) > WHITE
    return ndimage.binary_opening(white, iterations=1)


def find(case: Case) -> list[Finding]:
    mask = burnt(case)
    share = float(mask.mean())
    if share < LEAST_SHARE or mask.sum() < LEAST_PIXELS:
        return []
    made = placed(
        case,
        mask,
        kind="burnt",
        measure="burnt",
        amount=share,
        contrast=0.5,
        size=60.0,
        seen=4.0 + 40.0 * share,
        title="{share} of the picture is burnt to white.",
        why="There is more light there than the screen can show at this exposure: its detail is gone.",
        evidence={"share": share},
    )
    stops = next((s for s in (-0.5, -1.0, -1.5, -2.0, -3.0, -4.0) if burnt(case, s).mean() < 0.005), -4.0)
    left = float(burnt(case, stops).mean())
    made.cause, made.cause_key, made.confidence = "the exposure", "exposure", 1.0
    camera = case.picture.camera
    if case.recipe is not None and camera:
        made.remedies = [
            Remedy(
                f"Show it {-stops:g} stops darker.",
                edits={f"camera.{camera}.exposure": round(case.exposure + stops, 2)},
                amount=left,
                amount_error=0.0,
                seen=0.0,
                seconds=case.seconds,
                basis="measured",
                costs="the whole picture is darker",
            ),
            Remedy("Or hold highlights back in Finish (E): no render is needed.", basis="outside"),
        ]
    else:
        made.settles = [f"Show it {-stops:g} stops darker: if detail comes back, it is the exposure; if not, it was clipped when it was written."]
    return [made]


def _amount(finding: Kept, case: Case, truth: Coarse | None, parent: Case | None) -> tuple[float, float]:
    return float(burnt(case).mean()), 0.0


DETECTOR = Detector("burnt", find=find, exact=True, measure="burnt", amount=_amount)
