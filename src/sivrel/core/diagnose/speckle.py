"""Bands and speckle: rays that hit the surface they leave, because they start too close to it."""

from scipy import ndimage

from .case import Case, placed
from .detector import Detector, Kept
from .eye import SEEN
from .finding import Finding, Suspect
from .truth import Coarse

LEAST_HITS, LEAST_SHARE = 0.01, 0.005


def find(case: Case) -> list[Finding]:
    plane = case.picture.passes.get("self_hits")
    if plane is None or case.recipe is None:
        return []
    hits = ndimage.uniform_filter(plane[..., 0].astype(float), 5, mode="nearest")
    mask = hits > LEAST_HITS
    if mask.mean() < LEAST_SHARE:
        return []
    share = float(hits[mask].mean())
    contrast = min(1.0, share)
    seen = case.seen(contrast, 3.0)
    if seen < SEEN:
        return []
    offset = case.recipe.limits.ray_offset
    made = placed(
        case,
        mask,
        kind="speckle",
        measure="self_hits",
        amount=contrast,
        contrast=contrast,
        size=3.0,
        seen=seen,
        sign=-1,
        title="Speckle {there}: surfaces shade themselves.",
        why=f"{share:.0%} of the samples there hit the triangle they left.",
        evidence={"self_hits": share},
        about="",
    )
    made.suspects = [
        Suspect(
            "ray offset",
            f"rays start {offset:g} m off a surface, too close for the scene's size" if offset else "rays start too close to the surface",
            {"limits.ray_offset": 0.0} if offset else {"limits.ray_offset": 1e-3},
            prior=5.0,
            kind="speckle",
            cure="Use the automatic ray offset." if offset else "Start rays 1 mm off surfaces.",
        ),
    ]
    return [made]


def _amount(finding: Kept, case: Case, truth: Coarse | None, parent: Case | None) -> tuple[float, float]:
    return sum(f.amount for f in find(case)), 0.0


DETECTOR = Detector("speckle", find=find, measure="self_hits", amount=_amount)
