"""Closed things that stand in each other: light starts inside one of them, and glass in another thing bends it wrongly."""

import numpy as np

from .finding import Finding, Mend, point, short
from .look import Look, Part

POINTS = 96
BETWEEN = (0.35, 0.9)
"""Share of the smaller one's surface inside the larger one: less is a thing let into another, more is hidden in it."""
LEAST_SEEN, LEAST_SIZE = 0.003, 0.08
MOST_PAIRS = 400


def check(look: Look) -> list[Finding]:
    solids = [p for p in look.parts if p.closed and p.signed > 0.0 and p.size > LEAST_SIZE]
    seen = np.zeros(len(look.vertices))
    np.add.at(seen, look.seen, 1.0 / look.rays)
    visible = {id(p): float(seen[p.triangles].sum()) for p in solids}
    pairs = []
    for small in solids:
        if visible[id(small)] < LEAST_SEEN or look.glows[small.triangles].any():  # a fire lies in its coals
            continue
        for large in solids:
            if large.mesh == small.mesh or large.signed <= small.signed or not ((small.low < large.high) & (large.low < small.high)).all():
                continue
            pairs.append((small, large))
    pairs.sort(key=lambda pair: -visible[id(pair[0])])
    worst: dict[tuple[str, str], tuple[float, Part, np.ndarray]] = {}
    for small, large in pairs[:MOST_PAIRS]:
        chosen = look.rng.choice(small.triangles, POINTS, p=look.areas[small.triangles] / small.area)
        at = look.vertices[chosen].mean(axis=1) - look.normals[chosen] * 1e-4 * small.size
        within = ((at > large.low) & (at < large.high)).all(axis=1)
        inside = np.zeros(POINTS, bool)
        if within.mean() > BETWEEN[0]:
            inside[within] = look.winding(at[within], large) > 0.5
        share = float(inside.mean())
        key = (small.name, large.name)
        if BETWEEN[0] < share < BETWEEN[1] and share > worst.get(key, (0.0,))[0]:
            worst[key] = share, small, at[inside]
    return [_finding(look, names, *found, visible[id(found[1])]) for names, found in worst.items()]


def _finding(look: Look, names: tuple[str, str], share: float, small: Part, at: np.ndarray, seen: float) -> Finding:
    glass = bool(look.solid_glass[small.triangles].any())
    return Finding(
        "interpenetrating",
        f"{short(names[0])} stands in {short(names[1])}: {share:.0%} of its surface is inside.",
        "A ray that enters both does not know which glass it is in; it goes black." if glass else
        "Photons and bake patches inside are spent where nobody sees them, and patches that are half inside darken what is outside.",
        harm=min(0.7, (0.4 if glass else 0.15) + seen),
        at=point(at.mean(axis=0)),
        box=(point(at.min(axis=0)), point(at.max(axis=0))),
        objects=list(names),
        evidence={"share_inside": round(share, 3), "share_of_picture": round(seen, 4)},
        mends=[Mend("Move it out in the scene's own program, or join the two into one solid there.")],
        spot=look.spot(at.mean(axis=0)),
    )  # fmt: skip
