"""The facing of triangles: closed objects that are inside out, neighbours that disagree, emitters that face the wrong way."""

from typing import Any

import numpy as np

from ..scene.topology import turned_triangles
from .finding import Mend, SceneFinding, box_of, point, short
from .look import Look, Part

MIXED = 0.01
"""Share of an object's area that must disagree with the rest."""


def check(look: Look) -> list[SceneFinding]:
    return [*_mixed(look), *_inside_out(look), *_glows_away(look)]


def _why(look: Look, triangles: np.ndarray) -> tuple[str, float]:
    if look.solid_glass[triangles].any():
        return "Solid glass depends on its faces: light that enters is treated as leaving, so it refracts wrongly and is not tinted.", 0.6
    if look.glows[triangles].any():
        return "It emits from its front only: flipped faces emit the other way.", 0.5
    return "Thickened sheets, bake patches and normal maps depend on the front, and mistake its inside for its outside.", 0.15


def _mixed(look: Look) -> list[SceneFinding]:
    found = []
    for triangles, net in look.nets:
        turned = turned_triangles(net)
        area = look.areas[triangles]
        share = float(area[turned].sum() / max(area.sum(), 1e-30))
        if share > MIXED and not look.meshes[look.object_of[triangles[0]]].double_sided:
            name = look.meshes[look.object_of[triangles[0]]].name
            why, harm = _why(look, triangles)
            at = look.vertices[triangles[turned]]
            found.append(
                SceneFinding(
                    "mixed faces", f"{share:.0%} of the faces of {short(name)} are flipped against their neighbours.", why,
                    harm=harm + 0.1, at=point(at[0].mean(axis=0)), box=box_of(at), objects=[name],
                    evidence={"share_turned": round(share, 4), "faces": int(turned.sum())},
                    mends=[Mend("Flip them so that all agree.", {f"object.{name}.turned": "agree"})], spot=look.spot(at[0].mean(axis=0)),
                )
            )  # fmt: skip
    return found


def _inside_out(look: Look) -> list[SceneFinding]:
    by_mesh: dict[int, list[Any]] = {}
    for part in look.parts:
        if part.closed and part.signed < -1e-9 and part.size > 0.02:
            holds_camera = (part.low < look.eye).all() and (look.eye < part.high).all() and abs(look.winding(look.eye[None], part)[0]) > 0.5
            if not holds_camera and not _lines_another(look, part):
                by_mesh.setdefault(part.mesh, []).append(part)
    found = []
    for number, parts in by_mesh.items():
        triangles = np.concatenate([p.triangles for p in parts])
        name, v = look.meshes[number].name, look.vertices[triangles]
        why, harm = _why(look, triangles)
        all_of_it = len(triangles) == int((look.object_of == number).sum())
        found.append(
            SceneFinding(
                "inside out", f"{short(name)} is inside out: its faces face inwards.", why, harm=harm, at=point(v.mean(axis=(0, 1))), box=box_of(v),
                objects=[name], evidence={"volume_m3": round(float(sum(p.signed for p in parts)), 6), "parts": len(parts)},
                mends=[Mend("Flip its faces.", {f"object.{name}.turned": "over" if all_of_it else "agree"})],
                spot=look.spot(v.mean(axis=(0, 1))),
            )
        )  # fmt: skip
    return found


def _lines_another(look: Look, part: Part) -> bool:
    """Whether it is the inner surface of a hollow object: it lies inside another part of the same mesh that faces outwards."""
    others = [p for p in look.parts if p.mesh == part.mesh and p.closed and p.signed > -part.signed]
    at = look.vertices[part.triangles[:1]].mean(axis=1)
    return any((p.low <= part.low).all() and (p.high >= part.high).all() and look.winding(at, p)[0] > 0.5 for p in others)


def _glows_away(look: Look) -> list[SceneFinding]:
    found = []
    glowing = look.glows[look.seen]
    for number in np.unique(look.object_of[look.seen[glowing]]):
        mesh = look.meshes[number]
        mine = glowing & (look.object_of[look.seen] == number)
        if mesh.double_sided or mine.sum() < 8 or look.seen_back[mine].mean() < 0.7:
            continue
        triangles = np.flatnonzero((look.object_of == number) & look.glows)
        if any(p.closed for p in look.parts if p.mesh == number):
            continue  # closed parts that are inside out have a finding already
        at = look.seen_at[mine]
        found.append(
            SceneFinding(
                "glows away", f"{short(mesh.name)} glows on its far side: the camera sees its back.",
                "Surfaces emit from the front of their faces only.",
                harm=0.55, at=point(at.mean(axis=0)), box=box_of(look.vertices[triangles]), objects=[mesh.name],
                evidence={"share_seen_from_behind": round(float(look.seen_back[mine].mean()), 3)},
                mends=[Mend("Flip its faces.", {f"object.{mesh.name}.turned": "over"})], spot=look.spot(at.mean(axis=0)),
            )
        )  # fmt: skip
    return found
