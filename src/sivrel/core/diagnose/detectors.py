"""The table of detectors. A new kind of flaw is one module and one line here."""

from typing import Any

from . import burnt, contact, corners, dim, fireflies, flat, glass, grain, leaks, slow, smear, speckle, steps
from .case import Case
from .detector import Detector
from .measures import MEASURES, About, Amount
from .patch import Patch
from .truth import Coarse

DETECTORS: list[Detector] = [
    grain.DETECTOR, fireflies.DETECTOR, steps.DETECTOR, glass.DETECTOR, speckle.DETECTOR, burnt.DETECTOR, smear.DETECTOR, slow.DETECTOR,
    dim.DETECTOR, flat.DETECTOR, leaks.DETECTOR, contact.DETECTOR, corners.DETECTOR,
]  # fmt: skip


def is_exact(kind: str) -> bool:
    """Whether findings of a kind need no trial."""
    return any(one.exact for one in DETECTORS if one.kind == kind)


def own_amount(finding: dict[str, Any], case: Case, truth: Coarse | None, parent: Case | None) -> tuple[float, float] | None:
    """The amount of a stored finding in another case, by the detector that measures it; None if it is measured by its light only."""
    for one in DETECTORS:
        # A finding's kind may have changed with its cause; its measure stays.
        owns = one.measure == finding["measure"] if one.measure else one.kind == finding["kind"]
        if one.amount is not None and owns:
            measured = one.amount(finding, case, truth, parent)
            if measured is not None:
                return measured
    return None


def patch_amount(measure: str, patch: Patch, truth: Patch | None, about: About) -> Amount:
    """The amount of a flaw on a small render, by the name of its measure."""
    own = next((one.on_patch for one in DETECTORS if one.on_patch is not None and one.measure == measure), None)
    return (own or MEASURES[measure])(patch, truth, about)


def is_tried(measure: str) -> bool:
    """Whether a measure can be taken on small renders."""
    return measure in MEASURES or any(one.on_patch is not None and one.measure == measure for one in DETECTORS)
