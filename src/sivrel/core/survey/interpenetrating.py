"""Solids that intersect: light starts inside one of them, and glass inside another solid refracts wrongly."""

import numpy as np

from .finding import Mend, SceneFinding, point, short
from .look import Look, Part

POINTS = 128
BETWEEN = (0.3, 0.9)
"""Share of the smaller one's volume inside the larger: less is a part set into another, more is hidden in it."""
LEAST_SEEN, LEAST_SIZE = 0.001, 0.08
DEEP = 0.05
"""Least overlap in metres: less is a joint."""
MOST_PAIRS = 400


def check(look: Look) -> list[SceneFinding]:
    solids = [p for p in look.parts if p.closed and p.signed > 0.0 and p.size > LEAST_SIZE and not look.is_card(p.mesh)]
    seen = np.zeros(len(look.vertices))
    np.add.at(seen, look.seen, 1.0 / look.rays)
    visible = {id(p): float(seen[p.triangles].sum()) for p in solids}
    pairs = []
    for small in solids:
        if visible[id(small)] < LEAST_SEEN or look.glows[small.triangles].any():  # a fire intersects its coals
            continue
        for large in solids:
            shared = np.minimum(small.high, large.high) - np.maximum(small.low, large.low)
            if large.mesh == small.mesh or large.signed <= small.signed or shared.min() < DEEP:
                continue
            if np.prod(shared) < 0.5 * BETWEEN[0] * np.prod(small.high - small.low):
                continue
            pairs.append((small, large))
    pairs.sort(key=lambda pair: -visible[id(pair[0])])
    worst: dict[tuple[str, str], tuple[float, Part, np.ndarray]] = {}
    for small, large in pairs[:MOST_PAIRS]:
        at = look.rng.uniform(small.low, small.high, (POINTS, 3))
        within = np.all((at > large.low) & (at < large.high), axis=1)
        if not within.any():
            continue
        own = np.asarray(look.winding(at, small) > 0.5)
        at, within = at[own], within[own]
        inside = np.zeros(len(at), bool)
        if within.any():
            inside[within] = look.winding(at[within], large) > 0.5
        share = float(inside.mean()) if len(inside) else 0.0
        if not inside.any() or np.ptp(at[inside], axis=0).min() < DEEP:
            continue
        key = (small.name, large.name)
        if BETWEEN[0] < share < BETWEEN[1] and share > worst.get(key, (0.0,))[0]:
            worst[key] = share, small, at[inside]
    return [_finding(look, names, *found, visible[id(found[1])]) for names, found in worst.items()]


def _finding(look: Look, names: tuple[str, str], share: float, small: Part, at: np.ndarray, seen: float) -> SceneFinding:
    glass = bool(look.solid_glass[small.triangles].any())
    return SceneFinding(
        "interpenetrating",
        f"{short(names[0])} intersects {short(names[1])}: {share:.0%} of it is inside.",
        "A ray that enters both loses track of which glass it is in, and goes black." if glass else
        "Photons and bake patches inside are wasted, and patches that are half inside darken the outside.",
        harm=min(0.7, (0.4 if glass else 0.15) + seen),
        at=point(at.mean(axis=0)),
        box=(point(at.min(axis=0)), point(at.max(axis=0))),
        objects=list(names),
        evidence={"share_inside": round(share, 3), "share_of_picture": round(seen, 4)},
        mends=[Mend("Move it out in the scene's own program, or join the two into one solid there.")],
        spot=look.spot(at.mean(axis=0)),
    )  # fmt: skip
