"""Over-filtered smear: what the noise filter took that was no noise."""

import numpy as np

from ..render.filter import SMEARED
from .case import Case, placed
from .finding import Finding, Remedy

LEAST_SHARE = 0.01


def find(case: Case) -> list[Finding]:
    smear = case.smear if case.smear is not None else case.picture.passes.get("smeared", np.zeros((0, 0, 1)))[..., 0]
    if not smear.size:
        return []
    mask = smear > SMEARED
    share = float(mask.mean())
    if share < LEAST_SHARE:
        return []
    made = placed(
        case,
        mask,
        kind="smear",
        measure="smear",
        amount=share,
        contrast=0.1,
        size=6.0,
        seen=2.0 + 30.0 * share,
        title="The noise filter smears {there}.",
        why=f"Over {share:.0%} of the picture it took more than noise explains: detail went with it.",
        evidence={"share": share},
    )
    made.cause, made.cause_key, made.confidence = "the filter had too much noise to tell it from detail", "filter", 0.9
    if case.recipe is not None:
        more = min(65536, 4 * case.recipe.sampling.max)
        made.remedies = [
            Remedy(
                f"Take {more} samples before it is filtered.",
                {"sampling.max": more},
                amount=share * 0.5,
                amount_error=share * 0.25,
                seen=made.seen / 2.0,
                seconds=case.seconds * 4.0 if case.seconds else None,
                basis="law",
            ),
            Remedy("Or leave it unfiltered (N).", basis="outside"),
        ]
    return [made]
