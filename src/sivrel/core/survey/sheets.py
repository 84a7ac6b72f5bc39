"""Sheets without thickness between a lit space and an unlit one, which is where interpolated light leaks.

Interpolating caches, gathered photons and rays that start off a surface all reach through a wall without thickness. (The method of
Ward, Rubinstein & Clear 1988, section 2, interpolates over smooth surfaces; it does not consider walls.)
"""

from dataclasses import replace
from typing import Any

import numpy as np

from ..gi.ways import WAYS
from ..scene.arrays import BASE, POWER
from ..scene.frames import upright_frame
from ..scene.triangles import surface_rows_at
from ..vector import LUMINANCE
from .finding import Mend, SceneFinding, point, short
from .holes import caps_of
from .look import Look, Part

LEAST_SIDE = 0.45
"""Length in metres of the second longest side below which a sheet is not a wall, but a shade, a leaf or a cloth."""
POINTS, RAYS = 24, 48
BRIGHTER = 3.0
"""Ratio of light between the sides from which one counts as lit."""
MOST_TIMES = 1000
DARK = 0.25
"""Share of rays that leave the scene above which a side is outside."""
SEEN_BY = 2
"""Air points of the room that must see a side for it to belong to the room."""
MOST_PASSED_ON = 0.8
"""Greatest assumed albedo per bounce."""
SHARE = 0.25
"""Share of a sheet's points that must lie between the two."""
THICK, BLOCKER, BEHIND = 0.25, 0.2, 0.1
"""In metres: thickness of a thickened wall, depth of a blocker, its distance behind the wall and its overlap."""
FLAT = 0.9
"""Share of a sheet's area that must lie in its plane, and of its outline that it must fill, for a blocker to fit."""


INTERPOLATING = {way.key for way in WAYS if way.interpolates}
REACHES_THROUGH = """Interpolation reaches through it: cache records, photons and bake patches of the bright side light the dark one. No quality \
setting fixes that."""
TRACED = """This recipe traces every ray, and rays stop at it. A cache, photons or a bake would reach through it from the bright side, and no \
quality setting would fix that."""


def check(look: Look) -> list[SceneFinding]:
    if not look.inside:
        return []
    found = []
    for part in look.parts:
        if part.closed or np.sort(part.high - part.low)[1] < LEAST_SIDE or look.see_through[part.triangles].all() or look.glows[part.triangles].any():
            continue
        if look.meshes[part.mesh].casts_shadows and not _is_solid(look, part):
            finding = _judge(look, part)
            if finding:
                found.append(finding)
    return [_with_others(finding, found) for finding in found]


def _with_others(finding: SceneFinding, found: list[SceneFinding]) -> SceneFinding:
    """A sheet with a fix for all of them: a room of sheets is thickened in one act."""
    if len(found) < 2:
        return finding
    own, *rest = finding.mends
    together = {key: value for other in found for key, value in _thickened(other).items()}
    every = Mend(f"Make all {len(found)} sheets of the room {THICK:g} m thick to the outside.", together)
    return replace(finding, mends=[own, every, *rest])


def _thickened(finding: SceneFinding) -> dict[str, Any]:
    return {key: value for key, value in finding.mends[0].edits.items() if key.endswith(".thickness")}


def _is_solid(look: Look, part: Part) -> bool:
    """Whether it is a solid with missing faces, which is a finding of its own."""
    for triangles, net in look.nets:
        if look.object_of[triangles[0]] == part.mesh:
            members = np.flatnonzero(np.isin(triangles, part.triangles))
            return bool(caps_of(look, part.triangles, net, members)[0])
    return False


def _judge(look: Look, part: Part) -> SceneFinding | None:
    weights = look.areas[part.triangles] / max(look.areas[part.triangles].sum(), 1e-30)
    chosen = look.rng.choice(part.triangles, POINTS, p=weights)
    a, b = look.rng.random((2, POINTS, 1))
    flip = a + b > 1.0
    a, b = np.where(flip, 1.0 - a, a), np.where(flip, 1.0 - b, b)
    v, n = look.vertices[chosen], look.normals[chosen]
    at = v[:, 0] + a * (v[:, 1] - v[:, 0]) + b * (v[:, 2] - v[:, 0])
    light, opened, seen_by = np.zeros((2, POINTS)), np.zeros((2, POINTS)), np.zeros((2, POINTS), int)
    for side, normals in enumerate((n, -n)):
        start = at + normals * 2.0 * look.offset
        arrives, _ = look.light_at(start, normals)
        light[side] = arrives.sum(axis=1)
        rays = look.about(normals, RAYS)
        hits, distance = look.cast(np.repeat(start, RAYS, axis=0), rays.reshape(-1, 3))
        opened[side] = (hits < 0).reshape(POINTS, RAYS).mean(axis=1)
        light[side] += _bounced(look, start, rays, hits, distance)
        for eye in look.room_air[:: max(1, len(look.room_air) // 24)]:
            ahead = np.einsum("ij,ij->i", eye - start, normals) > 0.0
            seen_by[side] += ahead & look.sees(start, np.broadcast_to(eye, start.shape))
    in_room = seen_by >= min(SEEN_BY, len(look.room_air))
    lit = light + opened * _sky(look)
    for dark, bright in ((0, 1), (1, 0)):
        between = in_room[dark] & ~in_room[bright] & (opened[dark] < DARK) & (lit[bright] > BRIGHTER * lit[dark]) & (lit[bright] > 0.0)
        if between.mean() >= SHARE:
            return _finding(
                look, part, at, n if bright == 0 else -n, between, float(lit[bright][between].mean()), float(lit[dark][between].mean()), bright
            )
    return None


def _bounced(look: Look, start: np.ndarray, rays: np.ndarray, hits: np.ndarray, distance: np.ndarray) -> np.ndarray:
    """Estimated bounced light at points [n], from cosine-distributed rays [n, k, 3] and their
    hits [n k]: the first bounce, and
    later bounces by the surfaces' albedo (the geometric series of a closed space, Goral et al. 1984)."""
    count = rays.shape[1]
    d, origins = rays.reshape(-1, 3), np.repeat(start, count, axis=0)
    met = np.flatnonzero(hits >= 0)
    if not len(met):
        return np.zeros(len(start))
    facing = look.facing(hits[met], d[met])
    at = origins[met] + d[met] * distance[met, None] + facing * 2.0 * look.offset
    base = look.arrays.surfaces[surface_rows_at(look.arrays, hits[met]), BASE : BASE + 3] @ LUMINANCE
    arrives = np.zeros(len(hits))
    arrives[met] = base * look.light_at(at, facing, 1)[0].sum(axis=1)
    passed_on = min(float(base.mean()), MOST_PASSED_ON)
    return arrives.reshape(len(start), count).mean(axis=1) / (1.0 - passed_on)


def _sky(look: Look) -> float:
    """A little light for points that see out, so that the outside is known even without lights there."""
    brightest = max((float(look.arrays.lights[i, POWER]) for i, light in enumerate(look.lights) if light.kind == "dome"), default=0.0)
    return 1e-3 * brightest


def _finding(
    look: Look, part: Part, at: np.ndarray, outward: np.ndarray, between: np.ndarray, bright: float, dark: float, bright_side: int
) -> SceneFinding:
    name = part.name
    share = look.share(part.triangles)
    where = at[between]
    middle = where[np.linalg.norm(where - where.mean(axis=0), axis=1).argmin()]
    out = outward[between].mean(axis=0)
    out /= max(float(np.linalg.norm(out)), 1e-9)
    thickness = THICK if bright_side == 1 else -THICK
    times = f"about {_rounded(bright / dark)} times" if dark > 0.0 else "far"
    interpolates = bool({look.recipe.gi.seen, look.recipe.gi.beyond} & INTERPOLATING)
    others = sum(p.mesh == part.mesh for p in look.parts) - 1
    return SceneFinding(
        "sheet",
        f"{short(name)} is a sheet without thickness, and its outside is {times} as bright as the room." if dark > 0.0 else
        f"{short(name)} is a sheet without thickness; it is lit from behind, and dark in front.",
        REACHES_THROUGH if interpolates else TRACED,
        harm=min(1.0, 0.55 + 1.5 * share) if interpolates else min(0.48, 0.25 + share),
        at=point(middle),
        box=(point(part.low), point(part.high)),
        objects=[name],
        evidence={
            "outside_over_inside": round(bright / dark, 2) if dark > 0.0 else None, "share_of_points": round(float(between.mean()), 3),
            "area_m2": round(part.area, 3), "share_of_picture": round(share, 4), "thickness_m": 0.0,
        },
        mends=[
            Mend(
                f"Make it {THICK:g} m thick to the outside; its openings stay open" + (f" ({others} other parts of it too)." if others else "."),
                {f"object.{name}.thickness": thickness},
            ),
            *_blocked(look, part, out),
        ],
        path=_path(look, middle, out),
        spot=look.spot(middle),
    )  # fmt: skip


def _rounded(times: float) -> str:
    """A ratio to two digits, the accuracy of a few rays."""
    if times > MOST_TIMES:
        return f"more than {MOST_TIMES:,}"
    return f"{float(f'{times:.2g}'):,.10g}"


def _blocked(look: Look, part: Part, out: np.ndarray) -> list[Mend]:
    """A blocker outside a flat sheet without openings: a deep card covering it, a hand's breadth behind."""
    flat = float((look.areas[part.triangles] * np.abs(look.normals[part.triangles] @ out)).sum() / max(part.area, 1e-30))
    x, y, z = upright_frame(out)
    corners = look.vertices[part.triangles].reshape(-1, 3)
    low, high = (corners @ np.stack([x, y, z]).T).min(axis=0), (corners @ np.stack([x, y, z]).T).max(axis=0)
    whole = part.area / max(float((high - low)[:2].prod()), 1e-30)
    if flat < FLAT or whole < FLAT:
        return []
    middle = (low + high) / 2.0
    at = x * middle[0] + y * middle[1] + z * (high[2] + BEHIND + BLOCKER / 2.0)
    card = f"card.Behind{short(part.name)}"
    return [
        Mend(
            f"Or put a blocker {BLOCKER:g} m deep behind it.",
            {
                f"{card}.at": ",".join(f"{v:.4f}" for v in at), f"{card}.towards": ",".join(f"{v:.4f}" for v in at + z), f"{card}.depth": BLOCKER,
                f"{card}.width": round(float(high[0] - low[0]) + 2.0 * BEHIND, 3), f"{card}.height": round(float(high[1] - low[1]) + 2.0 * BEHIND, 3),
            },
        )
    ]  # fmt: skip


def _path(look: Look, at: np.ndarray, out: np.ndarray) -> list[Any]:
    """The light's way through the sheet to the air of the room."""
    arrives, _ = look.light_at((at + out * 2.0 * look.offset)[None], out[None])
    strongest = look.lights[int(arrives[0].argmax())] if len(look.lights) and arrives.max() > 0.0 else None
    source = at + out * 1.5
    if strongest is not None and strongest.kind == "sun":
        source = at + strongest.frame[2] * 1.5
    elif strongest is not None and strongest.kind not in ("dome", "mesh"):
        source = np.asarray(strongest.position, float)
    return [point(source), point(at), point(at - out * 0.4)]
