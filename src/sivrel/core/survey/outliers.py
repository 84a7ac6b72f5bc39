"""Geometry far from the scene: it makes the scene's bounds, and every distance derived from them, useless."""

from typing import Any

import numpy as np

from .finding import Mend, SceneFinding, point, short
from .look import Look

FAR = 20.0
"""Distance of a far part, relative to the reach of the camera's view."""
GROWTH = 4.0
"""Least factor by which it enlarges the scene."""
COARSE_OFFSET = 1e-3
"""Automatic ray offset in metres that shows as gaps under contact."""


def check(look: Look) -> list[SceneFinding]:
    found = []
    parts = look.parts
    if len(look.seen) and len(parts) > 1:
        reach = float(np.percentile(np.linalg.norm(look.seen_at - look.eye, axis=1), 98.0))
        middle = np.median(look.seen_at, axis=0)
        gap = np.array([np.linalg.norm(np.maximum(0.0, np.maximum(p.low - middle, middle - p.high))) for p in parts])
        seen = np.zeros(len(look.vertices), bool)
        seen[look.seen] = True
        far = [k for k in np.flatnonzero(gap > FAR * reach) if not seen[parts[k].triangles].any()]
        near = [p for k, p in enumerate(parts) if k not in set(far)]
        if far and near:
            rest = np.linalg.norm(np.max([p.high for p in near], axis=0) - np.min([p.low for p in near], axis=0))
            low, high = look.scene.bounds()
            growth = float(np.linalg.norm(high - low)) / max(float(rest), 1e-9)
            if growth > GROWTH:
                found.append(_finding(look, [parts[k] for k in far], float(gap[far].min()), growth))
    if look.arrays.offset > COARSE_OFFSET and not found:
        low, high = look.scene.bounds()
        found.append(
            SceneFinding(
                "far from origin",
                f"The scene lies {np.abs([low, high]).max():,.0f} m off the origin; rays start {look.arrays.offset * 1000:.1f} mm off surfaces.",
                "Positions are rounded more coarsely the farther out they are: light leaks under contact, and fine shadows are lost.",
                harm=0.35,
                at=point(look.eye),
                box=(point(low), point(high)),
                evidence={"ray_offset_m": round(look.arrays.offset, 5)},
                mends=[Mend("Move the scene to the origin in its own program.")],
            )
        )
    return found


def _finding(look: Look, far: list[Any], distance: float, growth: float) -> SceneFinding:
    names = list(dict.fromkeys(p.name for p in far))
    low, high = np.min([p.low for p in far], axis=0), np.max([p.high for p in far], axis=0)
    whole = [name for name in names if all(p in far for p in look.parts if p.name == name)]
    edits = {f"object.{name}.out": True for name in whole}
    several = f" and {len(names) - 1} more" if len(names) > 1 else ""
    return SceneFinding(
        "outlier",
        f"{short(names[0])}{several} lies {distance:,.0f} m away from everything that is seen, and makes the scene {growth:,.0f} times larger.",
        "Radii, cells, ray offsets and a sun's depth map that are set by the scene's size become too coarse for what the camera sees.",
        harm=0.45,
        at=point((low + high) / 2.0),
        box=(point(low), point(high)),
        objects=names,
        evidence={"distance_m": round(distance, 2), "times_larger": round(growth, 2), "ray_offset_m": round(look.arrays.offset, 6)},
        mends=[Mend("Leave it out of the shot.", edits)],
    )
