"""Gaps and open joints: narrow openings from inside to outside.

Found by rays from the air of the room: a ray that gets out while rays turned slightly to either side do not has gone through a narrow opening.
From its narrowest point, the gap is followed to both ends and measured at each step. Glass closes an opening.
"""

from dataclasses import dataclass

import numpy as np

from ..scene.frames import upright_frame
from .finding import Mend, SceneFinding, box_of, point, short
from .look import ENCLOSED, Look

RAYS, SKIMMING = 400_000, 300_000
ROUND = 8
"""Directions round a ray in which it is turned slightly and its clearance measured."""
TURN = np.radians(1.2)
WIDEST, LEAST_RATIO, LEAST_LENGTH = 0.06, 4.0, 0.25
"""Greatest width of a gap in metres; its least length relative to its width, and in metres."""
COARSE = 48
CROSSINGS = 96
OUTSIDE = 0.3
"""Share of rays from just beyond a gap that must leave the scene for that to be outside."""
NEAR = 0.25
"""Metres within which two places belong to one gap."""
DEEPEST = 0.6
"""Thickness of the thickest assumed wall, in metres."""
ROW = 4
"""Slits of equal direction, width and length that count as intended."""
MOST_STEPS, MOST_OTHERS = 600, 60
MARGIN, DEEP = 0.12, 0.06
"""Metres by which a card reaches past the gap, and its depth."""


@dataclass
class Slit:
    """middle float64 [n, 3]: its centre line; across: unit vector; width: metres; out: direction out of the room; origin: a point that sees through
    it."""

    middle: np.ndarray
    across: np.ndarray
    width: float
    out: np.ndarray
    origin: np.ndarray

    def holds(self, p: np.ndarray) -> bool:
        """Whether a point lies in the same joint, at any depth."""
        off = p - self.middle
        beside = np.abs(off @ self.axis).min() < NEAR
        return bool(beside and np.abs(off @ self.across).min() < 2.0 * self.width and np.linalg.norm(off, axis=1).min() < DEEPEST)

    @property
    def axis(self) -> np.ndarray:
        """Unit vector along it."""
        chord = self.middle[-1] - self.middle[0]
        return chord / max(float(np.linalg.norm(chord)), 1e-9)

    @property
    def length(self) -> float:
        return float(np.linalg.norm(np.diff(self.middle, axis=0), axis=1).sum())


def check(look: Look) -> list[SceneFinding]:
    room = look.air[look.open_at(look.air) < ENCLOSED]
    if not look.inside or not len(room):
        return []
    rays = round(RAYS * look.effort)
    per = rays // len(room)
    directions = look.directions(rays)[look.rng.permutation(rays)[: per * len(room)]]
    origins = np.repeat(room, per, axis=0)
    skims, along = _skimming(look, origins, directions)
    origins, directions = np.concatenate([origins, skims]), np.concatenate([directions, along])
    hits, distance = look.meet(origins, directions)
    chosen = _gets_out(look, origins, directions, hits, distance)
    if not len(chosen):
        return []
    o, d = origins[chosen], directions[chosen]
    width, throat, across = _narrowest(look, o, d, distance[chosen])
    slits: list[Slit] = []
    others: list[Slit] = []  # narrow, but not open: cracks between boards, a shelf in front of a wall
    for k in np.flatnonzero((width < WIDEST) & (width > 4.0 * look.offset)):
        if len(others) > MOST_OTHERS:
            break
        slit = None if any(slit.holds(throat[k]) for slit in slits + others) else _follow(look, throat[k], across[k], d[k], o[k], float(width[k]))
        if slit:
            is_gap = slit.length > max(LEAST_RATIO * slit.width, LEAST_LENGTH) and _leads_out(look, slit)
            (slits if is_gap else others).append(slit)
    return [_finding(look, slit) for slit in slits if not _in_a_row(slit, slits)]


def _in_a_row(slit: Slit, slits: list[Slit]) -> bool:
    """Whether a slit is one of several equal ones, as between the slats of a blind or the bars of a grating, or at the end of such a row: those
    let light in on purpose."""
    beside = [other for other in slits if np.linalg.norm(other.middle.mean(axis=0) - slit.middle.mean(axis=0)) < NEAR]
    return any(abs(float(slit.axis @ other.axis)) > 0.99 and _alike(other, slits) >= ROW for other in beside)


def _alike(slit: Slit, slits: list[Slit]) -> int:
    """Number of slits with the same width, length and direction, including this one."""
    alike = 0
    for other in slits:
        along = abs(float(slit.axis @ other.axis)) > 0.99
        sizes = ((slit.width, other.width), (slit.length, other.length))
        alike += along and all(min(pair) > 0.75 * max(pair) for pair in sizes)
    return alike


def _skimming(look: Look, origins: np.ndarray, d: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Rays along the surfaces of the room: a deep joint is flush with one of them, and visible only from there."""
    some = look.rng.permutation(len(d))[: round(SKIMMING * look.effort)]
    hits, distance = look.meet(origins[some], d[some])
    met = hits >= 0
    normals = look.facing(hits[met], d[some][met])
    off = np.exp(look.rng.uniform(np.log(0.0015), np.log(WIDEST / 2.0), met.sum()))
    x, y = _square(normals)
    a = look.rng.uniform(0.0, 2.0 * np.pi, (met.sum(), 1))
    along = np.cos(a) * x + np.sin(a) * y + normals * look.rng.normal(0.0, 0.01, (met.sum(), 1))
    return origins[some][met] + d[some][met] * distance[met, None] + normals * off[:, None], along / np.linalg.norm(along, axis=1, keepdims=True)


def _gets_out(look: Look, origins: np.ndarray, d: np.ndarray, hits: np.ndarray, distance: np.ndarray) -> np.ndarray:
    """Numbers of the rays that leave the scene, or hit something outdoors, while rays on both sides of them end much nearer."""
    out = np.flatnonzero(hits < 0)
    out = out[look.rng.permutation(len(out))[: round(60_000 * look.effort)]]
    out = out[_between(look, origins[out], d[out], np.full(len(out), 1e30))]
    far = np.flatnonzero(hits >= 0)
    some = far[look.rng.permutation(len(far))[: round(RAYS * look.effort) // 4]]
    some = some[_between(look, origins[some], d[some], distance[some])]
    landed = origins[some] + d[some] * (distance[some] - 8.0 * look.offset)[:, None]
    normals = look.facing(hits[some], d[some])
    opened = np.zeros(len(some))
    for k in range(6):
        opened += look.meet(landed, look.about(normals, 6)[:, k])[0] < 0
    return np.concatenate([out, some[opened >= 2]])


def _between(look: Look, origins: np.ndarray, d: np.ndarray, distance: np.ndarray) -> np.ndarray:
    """bool [n]: whether rays turned slightly to two opposite sides both stop well before."""
    x, y = _square(d)
    stops = []
    for k in range(ROUND):
        a = 2.0 * np.pi * k / ROUND
        turned = d + np.tan(TURN) * (np.cos(a) * x + np.sin(a) * y)
        turned /= np.linalg.norm(turned, axis=1, keepdims=True)
        hits, t = look.meet(origins, turned)
        stops.append((hits >= 0) & (t < 0.9 * distance))
    both = np.array(stops)
    return np.asarray((both[: ROUND // 2] & both[ROUND // 2 :]).any(axis=0))


def _square(d: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Two directions perpendicular to each of d, [n, 3]."""
    other = np.where(np.abs(d[:, :1]) < 0.6, np.array([[1.0, 0.0, 0.0]]), np.array([[0.0, 1.0, 0.0]]))
    x = np.cross(d, other)
    x /= np.linalg.norm(x, axis=1, keepdims=True)
    return x, np.cross(d, x)


def _across(look: Look, p: np.ndarray, side: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Distance from points to either side."""
    return look.meet(p, side, WIDEST * 4.0)[1], look.meet(p, -side, WIDEST * 4.0)[1]


def _narrowest(look: Look, o: np.ndarray, d: np.ndarray, distance: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The narrowest point of each ray: (width across it in metres, its centre, direction across it)."""
    size = float(np.linalg.norm(np.ptp(look.seen_at, axis=0))) + 1.0
    reach = np.minimum(distance, size)
    width, throat, across = np.full(len(o), 1e30), o.copy(), np.zeros_like(o)
    x, y = _square(d)
    span = np.stack([np.zeros(len(o)), reach], axis=1)
    for _ in range(2):  # coarse steps find the neighbourhood, fine ones the place
        for step in range(COARSE):
            p = o + d * (span[:, 0] + (span[:, 1] - span[:, 0]) * (step + 0.5) / COARSE)[:, None]
            for k in range(ROUND // 2):
                a = np.pi * k / (ROUND // 2)
                side = np.cos(a) * x + np.sin(a) * y
                one, other = _across(look, p, side)
                better = one + other < width
                width[better] = (one + other)[better]
                throat[better] = (p + side * ((one - other) / 2.0)[:, None])[better]
                across[better] = side[better]
        middle = np.einsum("ij,ij->i", throat - o, d)
        half = (span[:, 1] - span[:, 0]) / COARSE
        span = np.stack([np.maximum(middle - half, 0.0), np.minimum(middle + half, reach)], axis=1)
    return width, throat, across


def _follow(look: Look, throat: np.ndarray, across: np.ndarray, d: np.ndarray, o: np.ndarray, width: float) -> Slit | None:
    """The slit through a point, followed in both directions; None if its width changes right beside the point, as at a corner or the mouth of a
    crack."""
    for _ in range(3):
        throat, across, width = _tightest(look, throat, look.directions(CROSSINGS), width)
    along = _longest(look, throat, across, width)
    ends, widths = [], [width]
    for way in (along, -along):
        places, p, heading, step = [throat], throat, way, max(width * 0.75, 0.008)
        while len(places) < MOST_STEPS:
            on = p + heading * step
            if not look.sees(p[None], on[None])[0]:
                break
            x, y = _square(heading[None])
            a = np.pi * np.arange(CROSSINGS // 4)[:, None] / (CROSSINGS // 4)
            on, _, here = _tightest(look, on, np.cos(a) * x + np.sin(a) * y, step)
            if not 0.3 * width < here < 2.0 * width:
                break
            widths.append(here)
            heading = 0.7 * heading + 0.3 * (on - p) / max(float(np.linalg.norm(on - p)), 1e-9)
            heading /= np.linalg.norm(heading)
            p = on
            places.append(p)
        ends.append(places)
    middle = np.array(ends[1][::-1] + ends[0][1:])
    axis = middle[-1] - middle[0]
    out = np.cross(axis / max(float(np.linalg.norm(axis)), 1e-9), across)
    return Slit(middle, across, float(np.median(widths)), out if out @ d > 0.0 else -out, o) if len(middle) > 2 else None


def _longest(look: Look, p: np.ndarray, across: np.ndarray, width: float) -> np.ndarray:
    """The direction in which a slit is longest: a joint in a thick wall is deep, but longer than deep."""
    x, y = _square(across[None])
    a = np.pi * np.arange(ROUND * 4)[:, None] / (ROUND * 4)
    d = np.cos(a) * x + np.sin(a) * y
    runs = np.zeros(len(d))
    for way in (1.0, -1.0):
        on = np.ones(len(d), bool)
        for step in np.linspace(0.03, 1.5, 36):
            at = p + d * (step * way)
            one, other = _across(look, at, np.broadcast_to(across, at.shape))
            on &= look.sees(np.broadcast_to(p, at.shape), at) & (one + other < 2.0 * width)
            runs += on
    return d[int(runs.argmax())]


def _tightest(look: Look, p: np.ndarray, sides: np.ndarray, about: float) -> tuple[np.ndarray, np.ndarray, float]:
    """The narrowest point near p, the direction across it among `sides`, and its width: a gap's width varies."""
    off = np.concatenate([np.zeros((1, 3)), look.directions(6) * 0.4 * about, look.directions(6) * 0.15 * about])
    off = off[look.sees(np.broadcast_to(p, off.shape), p + off)]
    off = off if len(off) else np.zeros((1, 3))
    places, ways = np.repeat(p + off, len(sides), axis=0), np.tile(sides, (len(off), 1))
    one, other = _across(look, places, ways)
    best = int((one + other).argmin())
    return places[best] + ways[best] * (one[best] - other[best]) / 2.0, ways[best], float((one + other)[best])


def _leads_out(look: Look, slit: Slit) -> bool:
    """Whether the far side of the slit is outside, and this side inside."""
    some = slit.middle[:: max(1, len(slit.middle) // 8)]
    most = 0.0
    for step in (0.08, 0.3, DEEPEST):
        at = some + slit.out * step
        clear = look.sees(some, at)  # the slit may be uneven, so a straight line through it is not clear everywhere
        if clear.mean() > 0.1:
            most = max(most, float(look.open_at(at[clear]).mean()))
    inside = [look.open_at(some - slit.out * step).mean() for step in (0.15, DEEPEST)]
    return bool(most > OUTSIDE and min(inside) < ENCLOSED)


def _finding(look: Look, slit: Slit) -> SceneFinding:
    chord, axis = slit.middle[-1] - slit.middle[0], slit.axis
    across = slit.across - axis * (slit.across @ axis)
    across /= max(float(np.linalg.norm(across)), 1e-9)
    out = np.cross(axis, across)
    out = out if out @ slit.out > 0.0 else -out
    at = slit.middle[len(slit.middle) // 2]
    middle, length, gap = (slit.middle[0] + slit.middle[-1]) / 2.0, float(np.linalg.norm(chord)), slit.width
    neighbours = _neighbours(look, slit)
    names = [look.meshes[n].name for n in neighbours]
    card = f"card.Close{short(names[0]) if names else ''}At{round(100 * at[0])}_{round(100 * at[1])}_{round(100 * at[2])}"
    edits = {
        f"{card}.at": ",".join(f"{v:.4f}" for v in middle), f"{card}.towards": ",".join(f"{v:.4f}" for v in middle + out),
        f"{card}.width": round(length + 2.0 * MARGIN, 3), f"{card}.height": round(gap + 2.0 * MARGIN, 3),
        f"{card}.turn": round(_turn(out, axis), 2), f"{card}.depth": DEEP,
        f"{card}.color": ",".join(f"{v:.3f}" for v in _colour(look, neighbours)),
    }  # fmt: skip
    between = " and ".join(short(n) for n in names[:2]) or "two surfaces"
    return SceneFinding(
        "gap",
        f"There is an open joint {'at' if len(names) == 1 else 'between'} {between}, {gap * 1000:.0f} mm wide and {length:.2f} m long.",
        "Light from outside enters through it as a bright line that few rays find: specks where it lands, and a leak where it should be dark.",
        harm=min(0.95, 0.5 + 0.4 * min(1.0, length * gap / 0.05)),
        at=point(at),
        box=box_of(slit.middle),
        objects=names,
        evidence={"width_m": round(gap, 4), "length_m": round(length, 3)},
        mends=[Mend("Close it with a card as deep as a board, in its neighbours' colour.", edits)],
        path=[point(at + slit.out * 0.8), point(at), point(slit.origin)],
        spot=look.spot(at),
    )  # fmt: skip


def _neighbours(look: Look, slit: Slit) -> list[int]:
    """The objects on the two sides of a gap."""
    found = []
    for p in slit.middle[:: max(1, len(slit.middle) // 8)]:
        hits, _ = look.meet(np.array([p, p]), np.array([slit.across, -slit.across]), WIDEST * 4.0)
        found += [int(look.object_of[h]) for h in hits if h >= 0]
    return sorted(dict.fromkeys(found), key=lambda n: -found.count(n))[:2]


def _colour(look: Look, neighbours: list[int]) -> np.ndarray:
    surfaces = [look.scene.surfaces[look.meshes[n].surfaces[0]] for n in neighbours]
    return np.mean([s.base_color for s in surfaces], axis=0) if surfaces else np.full(3, 0.5)


def _turn(out: np.ndarray, axis: np.ndarray) -> float:
    """Degrees by which a card that faces `out` is turned about it so that its width lies along `axis`."""
    x, y, _ = upright_frame(out)
    return float(np.degrees(np.arctan2(axis @ y, axis @ x)))
