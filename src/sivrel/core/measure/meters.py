"""What the limits of a render cost it: light taken by the clamp, light beyond the bounce limits, rays that met themselves."""

from typing import Any

import numpy as np

from ..render.film import CLAMPED, DIRECT, INDIRECT, LEFT, OBJECT, SELF_HITS
from .noise import LUMINANCE

KINDS = ("diffuse", "mirror", "total")


def measure_meters(film: np.ndarray, objects: list[str]) -> dict[str, Any]:
    """Shares of the light that the picture would have without the limit in question, from 0 to 1.

    clamped: share, and `clamped_most` the object that most of it is missing from with its share of that, if any
    beyond: by limit, estimated without bias from the few paths that were followed further; `beyond_error` is the standard
    error of their sum, from the spread of the pixels
    self_hits: rays a sample that met the very triangle they left
    """
    flat = film.reshape(-1, film.shape[-1]).astype(np.float64)
    light = float(((flat[:, DIRECT : DIRECT + 3] + flat[:, INDIRECT : INDIRECT + 3]) @ LUMINANCE).mean())
    clamped, left = float(flat[:, CLAMPED].mean()), flat[:, LEFT : LEFT + 3]

    def share(part: float) -> float:
        return part / (light + part) if light + part > 0.0 else 0.0

    most = None
    if clamped > 0.0:
        rows = flat[:, OBJECT].astype(int)
        taken = np.bincount(rows[rows >= 0], weights=flat[rows >= 0, CLAMPED], minlength=len(objects))
        if taken.sum() > 0.0:
            most = [objects[int(taken.argmax())], float(taken.max() / flat[:, CLAMPED].sum())]
    error = float(left.sum(axis=1).std(ddof=1) / np.sqrt(len(left))) if len(left) > 1 else 0.0
    return {
        "clamped": share(clamped),
        "clamped_most": most,
        "beyond": {kind: share(float(left[:, k].mean())) for k, kind in enumerate(KINDS)},
        "beyond_error": error / light if light > 0.0 else 0.0,
        "self_hits": float(flat[:, SELF_HITS].mean()),
    }
