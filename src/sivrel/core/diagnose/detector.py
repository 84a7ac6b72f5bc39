"""What a detector of flaws declares about itself."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from .case import Case
from .finding import Finding
from .measures import About, Amount
from .patch import Patch
from .regions import Off, Region
from .truth import Coarse

Kept = dict[str, Any]
"""A stored finding: Finding.as_dict, cleared."""


@dataclass(frozen=True)
class Detector:
    """One kind of flaw: how it is found and measured.

    kind: of its findings
    find: in the picture and its passes only, at once
    find_off: in all the light, against brute force
    claims, describe: for a place that deviates from brute force, how well this flaw fits, 0 for not at all; and the finding
    exact: whether it needs no trial
    measure: the name of its findings' amount, if this detector measures it itself
    amount: of a stored finding in the case of another proof, with brute force if there is some, and the case it is compared with: (amount,
    standard error); None if the finding is of another kind
    on_patch: (patch, brute force of it if there is some, what a measure needs) -> `Amount`, the same on a small render of a trial
    """

    kind: str
    find: Callable[[Case], list[Finding]] | None = None
    find_off: Callable[[Case, Coarse, Off], list[Finding]] | None = None
    claims: Callable[[Case, Region], float] | None = None
    describe: Callable[[Case, Region], Finding] | None = None
    exact: bool = False
    measure: str = ""
    amount: Callable[[Kept, Case, Coarse | None, Case | None], tuple[float, float] | None] | None = None
    on_patch: Callable[[Patch, Patch | None, About], Amount] | None = None
