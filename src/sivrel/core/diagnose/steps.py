"""Stair-stepped shadows: a depth map with texels larger than pixels at the edge of a shadow."""

from typing import Any

import numpy as np
from scipy import ndimage

from ..measure.noise import LUMINANCE
from ..render.passes import LIGHT, SHADOW, layer_of
from ..shadows.suspect_maps import FINE
from ..survey.finding import short
from .case import Case, placed
from .detector import Detector, Kept
from .eye import SEEN
from .finding import Finding, Suspect
from .suspects import clamp_to_range
from .truth import Coarse

COARSE = 0.6
"""Texels per pixel below which steps are visible."""
EDGE = 0.25
LEAST_PIXELS = 24


def find(case: Case) -> list[Finding]:
    texels = case.picture.passes.get("texels")
    if texels is None or case.recipe is None:
        return []
    coarse = np.isfinite(texels[..., 0]) & (texels[..., 0] < COARSE) & (texels[..., 0] > 0.0)
    found = []
    for note in case.maps:
        name = note["light"]
        edges, contrast = _edges(case, name)
        mask = coarse & edges
        if mask.sum() < LEAST_PIXELS:
            continue
        per = float(np.median(texels[..., 0][mask]))
        strength = float(np.median(contrast[mask]))
        # A step is a texel wide, with half of the edge's contrast.
        seen = case.seen(0.5 * strength, 1.0 / per)
        if seen < SEEN:
            continue
        made = placed(
            case,
            ndimage.binary_dilation(mask, iterations=2),
            kind="steps",
            measure="structure",
            amount=0.25 * strength,
            contrast=strength,
            size=1.0 / per,
            seen=seen,
            about=name,
            title=f"The shadow of {short(name)} has steps, " + "{there}.",
            why=f"A texel of its depth map covers {1.0 / per:.1f} pixels there.",
            evidence={"texels_per_pixel": per, "resolution": note["resolution"]},
        )
        made.suspects = suspects(case, name, note, per)
        found.append(made)
    return sorted(found, key=lambda f: -f.rank)[:2]


def _edges(case: Case, light: str) -> tuple[np.ndarray, np.ndarray]:
    """Edges of a light's shadow, and the displayed contrast across them."""
    passes, layer = case.picture.passes, layer_of(light)
    shadow, own = passes.get(SHADOW + layer), passes.get(LIGHT + layer)
    plane = shadow[..., 0].astype(float) if shadow is not None else case.light / max(case.mean, 1e-12)
    high, low = ndimage.maximum_filter(plane, 3), ndimage.minimum_filter(plane, 3)
    edges = (high - low > EDGE) & case.smooth
    brought = own.astype(float) @ LUMINANCE if own is not None else case.light
    bright = ndimage.maximum_filter(brought, 5) if own is not None else ndimage.maximum_filter(case.light, 5) - ndimage.minimum_filter(case.light, 5)
    contrast = np.abs(case.contrast_of(case.light + bright, np.maximum(case.light - np.where(own is not None, brought, 0.0), 0.0)))
    return edges, contrast


def suspects(case: Case, name: str, note: dict[str, Any], per: float) -> list[Suspect]:
    """The map's resolution first; its fit, for a sun's map over the whole scene; the map itself."""
    assert case.edits is not None
    key = f"light.{name}.shadows"
    times = 2 ** int(np.ceil(np.log2(max(1.3 / per, 2.0))))
    finer = clamp_to_range("shadows.resolution", min(8192, times * note["resolution"]))
    found = []
    enough = finer >= 1.2 / per * note["resolution"]
    if finer > note["resolution"] and (enough or not note.get("whole_scene")):
        found.append(
            Suspect(
                "map resolution",
                f"its depth map is {note['resolution']} texels across, {per:.2g} per pixel there",
                edits={f"{key}.resolution": finer},
                prior=3.0,
                kind="steps",
                cure=f"Make the depth map of {short(name)} {finer} texels across.",
                costs=f"{finer * finer * 4 / 2**20:.0f} MB",
            )
        )
    if note.get("whole_scene"):
        found.append(
            Suspect(
                "map fit",
                "its depth map covers the whole scene, but the picture shows only a part",
                edits={f"{key}.fit": "view", f"{key}.resolution": max(FINE, note["resolution"])},
                prior=2.5,
                kind="steps",
                cure=f"Fit the depth map of {short(name)} to the view, {max(FINE, note['resolution'])} texels across.",
                costs="remade for each camera",
            )
        )
    found.append(
        Suspect(
            "depth map",
            "the depth map itself",
            edits={f"{key}.way": "traced"},
            prior=0.5,
            whole=True,
            kind="steps",
            cure=f"Trace the shadow of {short(name)}.",
            costs="grain in soft shadows",
        )
    )
    return found


def _amount(finding: Kept, case: Case, truth: Coarse | None, parent: Case | None) -> tuple[float, float] | None:
    """By the visible texels, if the finding is based on them; otherwise by its light."""
    if finding["kind"] != "steps" or "texels_per_pixel" not in finding["evidence"]:
        return None
    return sum(f.amount for f in find(case) if f.about == finding["about"]), 0.0


DETECTOR = Detector("steps", find=find, amount=_amount)
