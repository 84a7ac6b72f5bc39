"""Lights that light nothing here: inside objects, behind walls, turned away, linked to nothing, at zero; and those that hardly count."""

from typing import Any

import numpy as np

from ..lights.radiance import emitted
from ..scene.arrays import POWER
from .finding import Mend, SceneFinding, point, short
from .look import Look

POINTS, BOUNCES, MANY_POINTS = 320, 3, 60_000
AWAY = 0.02
"""Share of visible points that must get a hundredth of the light's full strength, or else it is turned away."""
MANY = 10
"""Number of lights from which choosing some by importance is faster than aiming at all (docs/benchmarks.md, many small lights)."""
IDLE, MANY_IDLE = 1e-3, 8
"""Share of all direct light below which a light hardly counts, and how many such lights are worth a finding."""


def check(look: Look) -> list[SceneFinding]:
    found = []
    for light in look.scene.lights:
        if light.kind in ("portal", "mesh") or not light.on:
            continue
        if not max(emitted(light)) > 0.0:
            mends = [Mend("Switch it off.", {f"light.{light.name}.on": False}), Mend("Give it an intensity.", {f"light.{light.name}.intensity": 1.0})]
            found.append(_idle(look, light, "is at zero", "It costs a ray at every point and adds nothing.", 0.2, mends))
        elif light.lit is not None and not {m.name for m in look.meshes} & light.lit:
            mends = [Mend("Let it light everything.", {f"light.{light.name}.link": "all"})]
            found.append(_idle(look, light, "is linked to nothing that is there", "It lights no object of this shot.", 0.3, mends))
    known = {name for f in found for name in f.objects}
    if not len(look.seen) or not look.lights:
        return found
    chosen = look.rng.permutation(len(look.seen))[:POINTS]
    at, normals = look.seen_at[chosen] + look.seen_normals[chosen] * 2.0 * look.offset, look.seen_normals[chosen]
    # Points that a few bounces reach count too: a light in the next room may light this one through the door.
    every = [(at, normals)]
    for _ in range(BOUNCES):
        p, n = every[-1]
        d = look.about(n, 16)[np.arange(len(n)), look.rng.integers(0, 16, len(n))]
        hits, distance = look.cast(p, d)
        met = hits >= 0
        facing = look.facing(hits[met], d[met])
        every.append((p[met] + d[met] * distance[met, None] + facing * 2.0 * look.offset, facing))
    at, normals = (np.concatenate(columns) for columns in zip(*every, strict=True))
    arrives, unhindered = look.light_at(at, normals, 3)
    total = arrives.sum()
    idle = []
    for i, light in enumerate(look.lights):
        if light.kind == "mesh" or light.name in known:
            continue
        if light.kind in ("rect", "disk") and (unhindered[:, i] > 0.01 * _if_turned(look, i, at, normals)).mean() < AWAY:
            found.append(_turned_away(look, light))
            continue
        if arrives[:, i].max() > 0.0:
            if arrives[:, i].sum() < IDLE * total:
                idle.append(light)
            continue
        if _reaches_after_all(look, i):
            continue
        found.append(_why_dark(look, light, unhindered[:, i], at))
    if len(look.lights) >= MANY and look.recipe.flat()["lights.seen"] == "all":
        found.append(_costly(look, len(idle)))
    if len(idle) >= MANY_IDLE:
        found.append(_many(look, [light.name for light in idle], len(look.lights)))
    return found


def _reaches_after_all(look: Look, i: int) -> bool:
    """Whether a light reaches any of many more points of the room, however small its patch: a sun through a narrow window, a sky through a crack."""
    per = MANY_POINTS // len(look.air)
    rays = look.directions(MANY_POINTS)[look.rng.permutation(MANY_POINTS)[: per * len(look.air)]]
    origins = np.repeat(look.air, per, axis=0)
    hits, distance = look.cast(origins, rays)
    met = hits >= 0
    if look.lights[i].kind == "dome":
        return bool((~met).any())
    normals = look.facing(hits[met], rays[met])
    at = origins[met] + rays[met] * distance[met, None] + normals * 2.0 * look.offset
    return bool((look.light_at(at, normals, 1, (i,))[0][:, i] > 0.0).any())


def _why_dark(look: Look, light: Any, unhindered: np.ndarray, at: np.ndarray) -> SceneFinding:
    name, place = light.name, np.asarray(light.position, float)
    switch = Mend("Switch it off.", {f"light.{name}.on": False})
    if light.kind == "dome":
        why = "Its rays are aimed at a sky that the room can't see."
        return _idle(look, light, "reaches nothing visible, nor anything that lights it", why, 0.3, [switch], "dome blocked", look.eye)
    if light.kind == "sun":
        why = "Walls or ground block it everywhere; it costs a shadow ray at every point."
        return _idle(look, light, "reaches nothing visible", why, 0.3, [switch], "light behind", look.eye)
    solid = look.solid_at(place)
    if solid is not None:
        way = look.eye - place
        out = Mend("Move it out, towards the camera.", {f"light.{name}.at": _text(place + way * _out_of(look, place, way, solid))})
        through = Mend(f"Turn off the shadow of {short(solid.name)}.", {f"object.{solid.name}.shadows": False})
        finding = _idle(
            look, light, f"stands inside {short(solid.name)}", "No light leaves the solid around it.", 0.5, [out, through, switch], "light inside"
        )
        finding.evidence = {"inside": solid.name}
        return finding
    if unhindered.max() <= 0.0:
        return _turned_away(look, light)
    blockers = _blockers(look, place, at)
    wall = f" {short(blockers[0])}" if blockers else " a wall"
    here = Mend("Move it to the camera's side.", {f"light.{name}.at": _text(_this_side(look, place))})
    does, why = f"is behind{wall}: none of its light reaches anything visible", "It costs a shadow ray at every point, and adds nothing."
    finding = _idle(look, light, does, why, 0.45, [here, switch], "light behind")
    finding.evidence = {"blocked_by": blockers[:3]}
    return finding


def _text(place: np.ndarray) -> str:
    return ",".join(f"{v:.3f}" for v in place)


def _if_turned(look: Look, i: int, at: np.ndarray, normals: np.ndarray) -> np.ndarray:
    """The light of a flat light at each point without blockers, if it faced it."""
    way = np.asarray(look.lights[i].position, float) - at
    distance = np.maximum(np.linalg.norm(way, axis=1), 0.05)
    return look.arrays.lights[i, POWER] * np.maximum(np.einsum("ij,ij->i", normals, way), 0.0) / distance**3 + 1e-30


def _turned_away(look: Look, light: Any) -> SceneFinding:
    aim = Mend("Turn it to the middle of the visible scene.", {f"light.{light.name}.towards": _text(look.seen_at.mean(axis=0))})
    off = Mend("Switch it off.", {f"light.{light.name}.on": False})
    return _idle(look, light, "faces away from everything visible", "It only lights what is out of view.", 0.4, [aim, off], "light turned away")


def _out_of(look: Look, place: np.ndarray, way: np.ndarray, solid: Any) -> float:
    """Where `way` leaves the solid, as a share of its length."""
    for share in np.linspace(0.02, 1.0, 50):
        if abs(look.winding((place + way * share)[None], solid)[0]) < 0.5:
            return float(min(1.0, share + 0.05))
    return 1.0


def _blockers(look: Look, place: np.ndarray, at: np.ndarray) -> list[str]:
    way = at - place
    hits, distance = look.cast(np.broadcast_to(place, at.shape), way / np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-9))
    stopped = hits[(hits >= 0) & (distance < np.linalg.norm(way, axis=1))]
    counts = np.bincount(look.object_of[stopped], minlength=len(look.meshes))
    return [look.meshes[k].name for k in np.argsort(-counts, kind="stable")[:3] if counts[k]]


def _this_side(look: Look, place: np.ndarray) -> np.ndarray:
    """The point in the room's air nearest to a point behind its wall."""
    return look.air[np.linalg.norm(look.air - place, axis=1).argmin()]


def _many(look: Look, names: list[str], count: int) -> SceneFinding:
    return SceneFinding(
        "idle lights", f"{len(names)} of {count} lights bring less than a thousandth of the visible light.",
        "Each is aimed at, or may be chosen, at every point: their rays add noise and time, but no light.", harm=0.25, at=point(look.eye),
        box=(point(look.eye), point(look.eye)), objects=names, evidence={"lights": len(names), "of": count},
        mends=[Mend("Switch them off.", {f"light.{name}.on": False for name in names})],
    )  # fmt: skip


def _costly(look: Look, idle: int) -> SceneFinding:
    count, at = len(look.lights), point(look.eye)
    names = [light.name for light in look.lights]
    return SceneFinding(
        "many lights", f"{count} lights are each aimed at from every visible point.",
        f"That is {count} shadow rays per point, however little a light brings.",
        harm=min(0.6, 0.15 + 0.01 * count), at=at, box=(at, at), objects=names, evidence={"lights": count, "bring_next_to_nothing": idle},
        mends=[Mend("In the recipe, aim at chosen lights instead of all (lights.seen).")],
    )  # fmt: skip


def _idle(look: Look, light: Any, does: str, why: str, harm: float, mends: list[Mend], kind: str = "idle light", at: Any = None) -> SceneFinding:
    place = point(np.asarray(light.position if at is None else at, float))
    return SceneFinding(
        kind, f"The light {short(light.name)} {does}.", why, harm, place, (place, place), [light.name], {}, mends, [], look.spot(np.array(place))
    )
