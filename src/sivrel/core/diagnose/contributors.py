"""The source of a leak: the record, photon, cell or element that contributes most light to a point, and the light's path to it."""

from typing import Any

import numpy as np

from ..gi.way import Preview
from ..gi.ways import PREPARING
from ..measure.noise import LUMINANCE
from ..survey.finding import point
from ..survey.look import Look
from .case import Case
from .finding import Finding
from .trial_renderer import TrialRenderer

NAMES = {"discs": "record", "dots": "photon", "boxes": "cell", "triangles": "element"}
MOST = 400
"""Most candidates, nearest first, that may contribute to a point."""


def trace_contributors(case: Case, renderer: TrialRenderer, finding: Finding, look: Look) -> None:
    """Set `fed` and `path` of a finding under an interpolating way; leaves them unset if unknown."""
    spot = _spot(case, finding)
    if spot is None:
        return
    p, n = spot
    best: tuple[float, dict[str, Any], np.ndarray] | None = None
    for note in renderer.base().ways:
        way, cache = PREPARING[note.way], renderer.cache(note.digest)
        if way.preview is None or cache is None:
            continue
        shown = way.preview(cache.arrays)
        number, light, hidden = _feeder(shown, p, n, look, renderer.radii().get(f"{note.way}.radius", 0.0))
        if number < 0:
            continue
        at = shown.points[number].astype(float)
        at = at.mean(axis=0) if shown.shape == "triangles" else at
        what, away = NAMES[shown.shape], float(np.linalg.norm(at - p))
        seen = "the spot can't see it" if hidden else "the spot sees it"
        said = f"Most of its light comes from {what} {number} of the {way.kind}, {away:.2f} m away at {at[0]:.2f}, {at[1]:.2f}, {at[2]:.2f}: {seen}."
        contributor = {"way": note.way, "what": what, "number": number, "at": list(point(at)), "distance": away, "hidden": hidden, "said": said}
        if best is None or (hidden, light) > (best[1]["hidden"], best[0]):
            best = light, contributor, at
    if best is None:
        return
    finding.fed = best[1]
    source = _source(look, best[2], n)
    finding.path = [*([point(source)] if source is not None else []), point(best[2]), point(p)]


def _spot(case: Case, finding: Finding) -> tuple[np.ndarray, np.ndarray] | None:
    """The point in space of a finding's worst pixel, and the normal there."""
    passes = case.picture.passes
    if finding.mask is None or "position" not in passes or "normal" not in passes:
        return None
    mask = case.spread(finding.mask) & case.smooth
    if not mask.any():
        mask = case.spread(finding.mask)
    spots = np.argwhere(mask)
    middle = spots[np.linalg.norm(spots - np.median(spots, axis=0), axis=1).argmin()]
    n = passes["normal"][middle[0], middle[1]].astype(float)
    length = float(np.linalg.norm(n))
    return (passes["position"][middle[0], middle[1]].astype(float), n / length) if length > 0.1 else None


def _feeder(shown: Preview, p: np.ndarray, n: np.ndarray, look: Look, radius: float) -> tuple[int, float, bool]:
    """(number, light, whether it is hidden) of the largest contribution to a point, hidden ones first; number -1 if there is none."""
    at = shown.points.astype(float).mean(axis=1) if shown.shape == "triangles" else shown.points.astype(float)
    away = np.linalg.norm(at - p, axis=1)
    reach = np.maximum(radius, shown.sizes) if shown.shape == "dots" else shown.sizes * (1.8 if shown.shape == "boxes" else 1.0)
    near = np.flatnonzero(away <= np.maximum(reach, 1e-6))
    if not len(near):
        near = np.argsort(away)[:1]
    near = near[np.argsort(away[near])[:MOST]]
    light = shown.values[near].astype(float) @ LUMINANCE / (0.05 + away[near])
    ahead = np.einsum("ij,j->i", at[near] - p, n)
    start = np.broadcast_to(p + n * 4.0 * look.offset, (len(near), 3))
    lift = shown.normals[near] if len(shown.normals) == len(shown.points) else np.zeros((len(near), 3))
    hidden = ~look.sees(start, at[near] + lift * 4.0 * look.offset) | (ahead < -4.0 * look.offset)
    order = np.lexsort((light, hidden))
    k = int(order[-1])
    return int(near[k]), float(light[k]), bool(hidden[k])


def _source(look: Look, at: np.ndarray, n: np.ndarray) -> np.ndarray | None:
    """A point of the light that contributes most to a point, on either side of its surface."""
    both = np.stack([at + n * 4.0 * look.offset, at - n * 4.0 * look.offset])
    arrives, _ = look.light_at(both, np.stack([n, -n]))
    if not arrives.size or arrives.max() <= 0.0:
        return None
    light = look.lights[int(arrives.max(axis=0).argmax())]
    if light.kind == "sun":
        return at + np.asarray(light.frame[2], float) * 2.0
    return None if light.kind in ("dome", "mesh") else np.asarray(light.position, float)
