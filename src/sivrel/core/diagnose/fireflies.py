"""Fireflies: single pixels far brighter than their surroundings, by the kind of path that caused them.

A render stores the brightest single contribution of each pixel and its path. On a picture from elsewhere a firefly is a pixel that stands out from
all its neighbours (measures.dots_in).
"""

import numpy as np
from scipy import ndimage

from ..measure.noise import DARK
from ..render.passes import kind_in_words
from ..survey.finding import short
from .case import MOST_RARE, Case, placed
from .detector import Detector, Kept
from .finding import Finding, Suspect
from .measures import dots_in, spread_of
from .truth import Coarse

LEAST, LEAST_SHARE = 6, 1.5e-4
"""Number and share of pixels below which fireflies are ignored."""


def find(case: Case) -> list[Finding]:
    dots = sparkling(case)
    if dots.sum() < max(LEAST, LEAST_SHARE * dots.size) or dots.mean() > MOST_RARE:
        return []
    about = ndimage.median_filter(case.light, 5, mode="nearest")
    contrast = float(np.median(np.abs(case.contrast_of(case.light[dots], about[dots]))))
    group, words = _kind(case, dots)
    share = float(dots.mean())
    known = {
        "kind": "fireflies",
        "measure": "sparkle",
        "amount": share,
        "contrast": contrast,
        "size": 1.0,
        "seen": case.seen(contrast, 1.0) * min(1.0, 0.3 + 40.0 * share),
        "about": group,
        "evidence": {"pixels": int(dots.sum()), "path": words},
    }
    how = {
        "glow": "from a glow that is only found by chance",
        "caustic": "from light through glass or off metal",
        "gloss": "from gloss after a diffuse bounce",
    }.get(group, "from rare bright paths")
    # The box encloses most of them; the object is that of the pixels themselves.
    dense = ndimage.uniform_filter(dots.astype(float), 41, mode="constant")
    near = dense > 0.35 * dense.max()
    made = placed(case, near, title=f"{int(dots.sum())} fireflies, {how}.", why=f"Most came by: {words}." if words else WEAK, **known)
    made.share = share
    if case.recipe is not None:
        made.suspects = suspects(case, group, dots)
    else:
        made.settles = SETTLES
    return [made]


WEAK = "Single pixels stand out from all their neighbours."
SETTLES = [
    "Render once with the clamp on single samples off (or raised tenfold): if the dots grow brighter, rare bright paths cause them.",
    "Render once with caustics off: if the dots are gone, light through glass or off metal causes them; use caustic photons, or leave it out.",
    "Render once with glowing surfaces made lights that are aimed at: if the dots are gone, the glow was only found by chance.",
]


def sparkling(case: Case, spread: np.ndarray | None = None) -> np.ndarray:
    """bool [rows, columns]: visible fireflies; `spread` of another picture that it is compared with."""
    recorded, brought = case.picture.passes.get("fireflies"), None
    if recorded is not None and "samples" in case.picture.passes:
        brought = recorded[..., 0] / np.maximum(case.picture.passes["samples"][..., 0], 1.0)
    return dots_in(case.light, case.variance, brought, case.mean, case.exposure, spread)


def _kind(case: Case, dots: np.ndarray) -> tuple[str, str]:
    """Group and words of the kind of path of most fireflies."""
    recorded = case.picture.passes.get("fireflies")
    if recorded is None:
        return "", ""
    kinds, counts = np.unique(recorded[dots][:, 1], return_counts=True)
    groups: dict[str, float] = {}
    for kind, count in zip(kinds, counts, strict=True):
        groups[group_of(kind_in_words(kind))] = groups.get(group_of(kind_in_words(kind)), 0.0) + float(count)
    best = max(groups, key=lambda g: groups[g])
    of_best = [(c, kind_in_words(k)) for k, c in zip(kinds, counts, strict=True) if group_of(kind_in_words(k)) == best]
    return best, max(of_best)[1]


def group_of(words: str) -> str:
    steps = words.split(" → ")
    scattered, found = steps[:-1], steps[-1]
    if "diffuse" in scattered and "glass" in scattered[scattered.index("diffuse") :]:
        return "caustic"
    if "diffuse" in scattered and "gloss" in scattered[scattered.index("diffuse") + 1 :]:
        return "caustic" if found == "a light met by chance" else "gloss"
    if "glow" in found:
        return "glow"
    if "glass" in scattered:
        return "caustic"
    return "gloss" if "gloss" in scattered else "other"


def suspects(case: Case, group: str, dots: np.ndarray) -> list[Suspect]:
    """Paths found only by chance, those of the fireflies' own kind first; and always the clamp."""
    assert case.recipe is not None
    found = []
    if case.recipe.of("caustics").on == "no":
        found.append(
            Suspect(
                "caustic paths",
                "paths must find small lights through glass or off metal by chance",
                {"caustics.on": "yes"},
                tried={"caustics.on": "yes", "caustics.count": 10_000, "caustics.passes": 4},
                prior=3.0 if group == "caustic" else 0.6,
                kind="fireflies",
                cure="Turn on caustic photons, which find those paths.",
                costs="caustics are blurred a little",
            )
        )
    if len(case.glowing) > 2:
        found.append(
            Suspect(
                "glow all",
                f"{len(case.glowing)} objects glow and are not aimed at, so they are found by chance",
                edits={f"object.{name}.aimed": True for name in case.glowing},
                prior=3.2 if group == "glow" else 0.9,
                kind="fireflies",
                cure=f"Aim at all {len(case.glowing)} of them like at lights.",
            )
        )
    for name in case.glowing[:2]:
        found.append(
            Suspect(
                f"glow {name}",
                f"{short(name)} glows and is not aimed at, so it is found by chance",
                edits={f"object.{name}.aimed": True},
                prior=3.0 if group == "glow" else 0.8,
                kind="fireflies",
                cure=f"Aim at {short(name)} like at a light.",
            )
        )
    if group == "gloss" and case.recipe.sampling.glossy_rays < 16:
        rays = 4 * case.recipe.sampling.glossy_rays
        found.append(
            Suspect(
                "glossy rays",
                f"gloss has {case.recipe.sampling.glossy_rays} ray a sample",
                {"sampling.glossy_rays": rays},
                prior=1.2,
                kind="fireflies",
                cure=f"Give gloss {rays} rays a sample.",
            )
        )
    light = float(np.median(case.light[dots])) if dots.any() else case.mean
    own = case.recipe.limits.indirect_clamp
    value = float(f"{max(2.0 * (0.3 * light + DARK * case.mean), 1e-4) * 2.0:.2g}")
    if own == 0.0 or own > value:
        found.append(
            Suspect(
                "bright samples",
                "single samples are brighter than all others of their pixel" if own == 0.0 else f"the clamp at {own:g} is too high for them",
                {"limits.indirect_clamp": value},
                prior=0.5 if group in ("caustic", "glow") else 1.5,
                whole=True,
                kind="fireflies",
                cure=f"Clamp single samples at {value:g}.",
                costs="removes their light too",
            )
        )
    return sorted(found, key=lambda suspect: -suspect.prior)


def _amount(finding: Kept, case: Case, truth: Coarse | None, parent: Case | None) -> tuple[float, float]:
    spread = spread_of(parent.light, parent.variance) if parent is not None and parent.light.shape == case.light.shape else None
    count = float(sparkling(case, spread).sum())
    return count / case.light.size, (count + 1.0) ** 0.5 / case.light.size


DETECTOR = Detector("fireflies", find=find, measure="sparkle", amount=_amount)
