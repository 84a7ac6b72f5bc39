"""Over-filtered smear: detail that the noise filter removed.

Noise is uncorrelated between pixels, and so is the part a filter removes. Where the removed part is correlated, it was detail (the
"method noise" of Buades, Coll & Morel 2005, "A Review of Image Denoising Algorithms, with a New One", section 2, which should look like noise).
"""

import numpy as np
from scipy import ndimage

from ..measure.noise import LUMINANCE
from ..render.filter import SMEARED
from .blotches import LEAST_CONTRAST, band, bands_of, patches_in
from .case import Case, placed
from .detector import Detector, Kept
from .eye import SEEN
from .finding import Finding, Remedy
from .truth import Coarse

LEAST_SHARE = 0.01
WINDOW, CERTAIN = 21, 5.0
"""Window in pixels in which the removed part is checked, and least correlation in standard errors."""
MORE = 1.5
"""Patches relative to the unfiltered picture above which the filter made them."""
MOST_UNEVEN = 2.0
"""Light of a cell's brightest neighbour, relative to its own, from which it is not compared with brute force."""
SIZE = 6.0
"""Approximate size of the lost detail in pixels."""


def find(case: Case) -> list[Finding]:
    mask, lost = smeared_in(case)
    share = float(mask.mean()) if mask.size else 0.0
    if share < LEAST_SHARE:
        return []
    contrast = float(np.sqrt(np.mean(case.contrast_of_noise(lost)[mask] ** 2)))
    why = f"Over {share:.0%} of the picture the removed part is correlated between pixels, unlike noise: detail was lost."
    return [_smear(case, mask, share, contrast, SIZE, "The noise filter smears {there}.", why)]


def find_off(case: Case, truth: Coarse) -> list[Finding]:
    """Patches that the filter made from grain, or left, against brute force."""
    image = filtered_light(case)
    if image is None or case.recipe is None:
        return []
    pooled, halves = case.grid.pool(image), truth.halves
    # A cell of brute force takes an eighth of its light from each neighbour, a cell of the picture does not: both must be about as bright.
    light = case.grid.pool(case.light_before_filter) + case.floor
    even = case.flat & (ndimage.maximum_filter(light, 3) < MOST_UNEVEN * light)
    if even.sum() < 64:
        return []
    if case.paired is not None:
        # What the recipe leaves out, as bounces beyond a limit, is not the filter's: it is compared with the recipe's own light.
        halves = tuple(half + off for half, off in zip(halves, case.paired.apart(truth).halves, strict=True))
    mask, contrast, size = patches_in(case, [band(case, pooled, half, even) for half in halves])
    own = patches_in(case, bands_of(case, truth))[1] if case.paired is not None else 0.0
    share = float(mask.mean())
    if share < LEAST_SHARE or contrast < max(LEAST_CONTRAST, MORE * own) or case.seen(contrast, size) < SEEN:
        return []
    why = f"Against brute force it varies by {contrast:.0%}: there were too few samples for the filter."
    title = "The noise filter leaves patches {there}, about " + f"{size:.0f} pixels wide."
    return [_smear(case, case.spread(mask), share, contrast, size, title, why)]


def _smear(case: Case, mask: np.ndarray, share: float, contrast: float, size: float, title: str, why: str) -> Finding:
    made = placed(
        case, mask, kind="smear", measure="smear", amount=share, contrast=contrast, size=size, seen=max(case.seen(contrast, size), SEEN),
        title=title, why=why, evidence={"share": share}, about="",
    )  # fmt: skip
    made.cause, made.cause_key, made.confidence = "there was too much noise for the filter to tell it from detail", "filter", 0.9
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
    return made


def filtered_light(case: Case) -> np.ndarray | None:
    """Luminance of the filtered twin [rows, columns], where there is one."""
    image = case.filtered if case.filtered is not None else case.picture.passes.get("filtered")
    return None if image is None else np.asarray(image[..., :3].astype(float) @ LUMINANCE)


def smeared_in(case: Case) -> tuple[np.ndarray, np.ndarray]:
    """Where the filter removed detail, bool [rows, columns], and how much: local root mean square luminance."""
    image = filtered_light(case)
    if image is None:
        return np.zeros((0, 0), bool), np.zeros((0, 0))
    taken = case.light_before_filter - image
    # A single bright pixel that was clamped to its neighbours is not detail.
    most = 4.0 * 1.4826 * ndimage.median_filter(np.abs(taken), 7, mode="nearest") + 1e-12
    taken = np.clip(taken, -most, most)
    going_on, power = np.zeros_like(taken), np.zeros_like(taken)
    for axis in (0, 1):
        product = taken * np.roll(taken, 1, axis)
        going_on += ndimage.uniform_filter(product, WINDOW, mode="nearest") / 2.0
        power += ndimage.uniform_filter(product**2, WINDOW, mode="nearest") / 4.0
    error = np.sqrt(np.maximum(power, 0.0)) / WINDOW
    lost = np.sqrt(np.maximum(going_on, 0.0))
    seen = case.contrast_of_noise(lost) * case.seen(1.0, SIZE) > SEEN
    plane = case.smear if case.smear is not None else case.picture.passes.get("smeared", np.zeros((*taken.shape, 1)))[..., 0]
    return ((going_on > CERTAIN * error) & seen) | (plane > SMEARED), lost


def _amount(finding: Kept, case: Case, truth: Coarse | None, parent: Case | None) -> tuple[float, float]:
    found = [*find(case), *(find_off(case, truth) if truth is not None else [])]
    return max((f.amount for f in found), default=0.0), 0.0


DETECTOR = Detector("smear", find=find, exact=True, measure="smear", amount=_amount)
