"""The lights panel: each light as a line with its effect on this picture, and its settings as sentences."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from ...core.edits.apply_edits import NEW_SUN, sun_angles
from ...core.edits.edits import MENDS, SETTINGS, CardEdit, Edits
from ...core.settings import SettingInfo
from ...core.survey.finding import short
from ...store.proofs import Proof
from ...store.shots import Shot

COMMON = ("intensity", "exposure", "color", "temperature")
SHADOW = ("shadows.way", "shadows.rays", "shadows.resolution", "shadows.filter", "shadows.bias", "shadows.fit")
ADDS = ("camera", "diffuse", "specular", "link", "shadow_link")
BEAM = ("cone_angle", "cone_softness", "focus", "profile")
SENTENCES: dict[str, tuple[tuple[str, ...], ...]] = {
    "rect": (COMMON, ("at", "towards", "width", "height", "normalize"), BEAM, SHADOW, ADDS),
    "disk": (COMMON, ("at", "towards", "width", "height", "normalize"), BEAM, SHADOW, ADDS),
    "sphere": (COMMON, ("at", "towards", "radius", "normalize"), BEAM, SHADOW, ADDS),
    "point": (COMMON, ("at", "towards", "radius"), BEAM, SHADOW, ADDS),
    "cylinder": (COMMON, ("at", "towards", "radius", "length", "normalize"), BEAM, SHADOW, ADDS),
    "sun": (COMMON, ("elevation", "bearing", "angle", "normalize"), SHADOW, ADDS),
    "dome": (COMMON, ("panorama", "rotation"), ("shadows.way", "shadows.rays"), ADDS),
    "daylight": (("intensity", "exposure"), ("latitude", "longitude", "moment", "turbidity", "north", "angle"), SHADOW, ("camera",)),
    "portal": (("at", "towards", "width", "height"),),
    "mesh": (("shadows.rays", "shadows.way"), ("diffuse", "specular", "link", "shadow_link")),
}
"""Settings of each kind of light, one sentence per group."""
DEFAULTS: dict[str, Any] = {
    "intensity": 1.0, "exposure": 0.0, "color": "1,1,1", "temperature": 0.0, "normalize": False, "width": 1.0, "height": 1.0, "radius": 0.1,
    "length": 1.0, "angle": 0.533, "cone_angle": 180.0, "cone_softness": 0.0, "focus": 0.0, "diffuse": 1.0, "specular": 1.0, "camera": True,
    "link": "all", "shadow_link": "all", "rotation": 0.0, "latitude": 57.5, "longitude": 0.0, "moment": "2026-06-21T12:00+00:00", "turbidity": 3.0,
    "north": 0.0, "pattern": "plain", "turn": 0.0, "count": 5, "opacity": 1.0, "shadows": True, "bounced": True, "aimed": False,
}  # fmt: skip
NOUNS = {
    "rect": "a rectangle", "disk": "a disk", "sphere": "a sphere", "point": "a point", "cylinder": "a tube", "sun": "a sun", "dome": "a sky",
    "daylight": "daylight", "portal": "a window portal", "mesh": "a glowing mesh",
}  # fmt: skip


@dataclass(frozen=True)
class Control:
    """A value in a sentence. value: the current one; file: the file's, which an emptied field returns to."""

    key: str
    about: SettingInfo
    value: str
    file: str

    @property
    def before(self) -> str:
        return self.about.phrase.split("{}")[0]

    @property
    def after(self) -> str:
        return self.about.phrase.split("{}")[1]


@dataclass(frozen=True)
class Line:
    """One light, object or card. measure: its effect on the proof on the plate, if measured; sentences: of the one that is open; place: in the
    file's tree; rays: to it at each point, if it is aimed at; exposure: in the file."""

    group: str
    name: str
    noun: str
    on: bool
    solo: bool
    measure: dict[str, Any] | None
    sentences: list[list[Control]]
    added: bool
    note: str = ""
    map: dict[str, Any] | None = None
    place: str = ""
    rays: int = 0
    exposure: float = 0.0

    @property
    def short(self) -> str:
        return short(self.name)


def as_text(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, list | tuple):
        return ",".join(f"{x:.4g}" for x in value)
    return f"{value:.6g}" if isinstance(value, float) else str(value)


def _controls(group: str, name: str, fields: tuple[str, ...], facts: dict[str, Any], flat: dict[str, Any]) -> list[Control]:
    found = []
    for field in fields:
        key = f"{group}.{name}.{field}"
        file = as_text(facts.get(field, DEFAULTS.get(field)))
        value = as_text(flat[key]) if key in flat else file
        found.append(Control(key, SETTINGS[group][field], value, file))
    return found


def _in_use(fields: tuple[str, ...], name: str, kind: str, facts: dict[str, Any], flat: dict[str, Any], mapped: bool) -> tuple[str, ...]:
    """The settings that have an effect: a beam's aim if there is a beam, a map's settings if there is one."""

    def value(field: str) -> Any:
        return flat.get(f"light.{name}.{field}", facts.get(field, DEFAULTS.get(field)))

    left_out: set[str] = set()
    beam = float(value("cone_angle") or 0.0) < 180.0 or float(value("focus") or 0.0) > 0.0 or value("profile")
    if kind in ("sphere", "point", "cylinder") and not beam:
        left_out.add("towards")
    if float(value("cone_angle") or 0.0) >= 180.0:
        left_out.add("cone_softness")
    way = value("shadows.way") or ("depth_map" if mapped else "traced")
    if way != "depth_map":
        left_out |= {"shadows.resolution", "shadows.filter", "shadows.bias", "shadows.fit"}
    if kind not in ("sun", "daylight"):
        left_out.add("shadows.fit")
    if way != "traced":
        left_out.add("shadows.rays")
    return tuple(field for field in fields if field not in left_out)


def measures_of(proof: Proof | None) -> dict[str, dict[str, Any]]:
    """The rows of a proof's ledger by their names; none without a proof."""
    return {row["name"]: row for row in proof.lights} if proof else {}


def light_lines(shot: Shot, proof: Proof | None, edits: Edits, opened: str, mapped: bool = False) -> list[Line]:
    """The file's lights, added lights, and glowing meshes. opened: the one whose settings are shown; mapped: shadows are depth maps."""
    flat = edits.flat()
    measures = measures_of(proof)
    maps = {m["light"]: m for m in proof.maps} if proof else {}
    lines = []
    facts = [fact for fact in shot.lights if not fact["mesh"]]
    known = {fact["name"] for fact in facts}
    facts += [{"name": name, "kind": edit.kind} for name, edit in edits.lights.items() if edit.kind and name not in known]
    for fact in facts:
        name, kind = fact["name"], fact["kind"]
        sentences = []
        if name == opened:
            if kind == "sun":
                fact = {**fact, **_sun_angles(fact, flat)}
            used = [_in_use(fields, name, kind, fact, flat, mapped) for fields in SENTENCES[kind]]
            sentences = [_controls("light", name, fields, fact, flat) for fields in used if fields]
        own_way = flat.get(f"light.{name}.shadows.way", fact.get("shadows.way")) or ("depth_map" if mapped else "traced")
        rays = int(flat.get(f"light.{name}.shadows.rays") or 1) if kind != "portal" and own_way == "traced" else 1
        # A daylight is two lights in the picture: the sky, and its sun.
        measure = measures.get(name)
        if kind == "daylight" and f"{name} sun" in measures and measure:
            measure = {k: _sum(measure.get(k), measures[f"{name} sun"].get(k)) if k in ("light", "noise", "time") else v for k, v in measure.items()}
        lines.append(
            Line(
                "light", name, NOUNS[kind], flat.get(f"light.{name}.on", True) is not False, bool(flat.get(f"light.{name}.solo")),
                measure, sentences, name not in known, map=maps.get(name) or maps.get(f"{name} sun"), place=fact.get("group", ""), rays=rays,
                exposure=float(fact.get("exposure") or 0.0),
            )
        )  # fmt: skip
    glow = measures.get("glow")
    for fact in shot.lights:
        if fact["mesh"]:
            lines.append(_glowing(fact, measures, glow, edits, flat))
    return lines


def _sun_angles(fact: dict[str, Any], flat: dict[str, Any]) -> dict[str, float]:
    """Elevation and bearing of a sun as the file, or an edit of its aim, has it."""
    towards, at = flat.get(f"light.{fact['name']}.towards", fact.get("towards")), flat.get(f"light.{fact['name']}.at", fact.get("at"))
    way = NEW_SUN if towards is None else np.subtract(at or (0.0, 0.0, 0.0), towards)
    elevation, bearing = sun_angles(way) if np.linalg.norm(way) > 0.0 else sun_angles(NEW_SUN)
    return {"elevation": round(elevation, 2), "bearing": round(bearing, 2)}


def _sum(a: float | None, b: float | None) -> float | None:
    return None if a is None or b is None else a + b


def _glowing(fact: dict[str, Any], measures: dict[str, Any], glow: dict[str, Any] | None, edits: Edits, flat: dict[str, Any]) -> Line:
    name = fact["name"]
    aimed = flat.get(f"object.{name}.aimed", fact["aimed"])
    sentences = [_controls("object", name, ("aimed",), fact, flat)]
    if aimed:
        sentences += [_controls("light", name, fields, fact, flat) for fields in SENTENCES["mesh"]]
        rays = flat.get(f"light.{name}.shadows.rays", 1)
        note = f"aimed at: {rays} ray{'s' if rays != 1 else ''} at each point, distributed over {fact['triangles']} triangles by importance"
    else:
        note = f"only glows: no ray is aimed at its {fact['triangles']} triangles; found when a bounced ray happens to hit it"
    on, solo = flat.get(f"light.{name}.on", True) is not False, bool(flat.get(f"light.{name}.solo"))
    return Line(
        "light" if aimed else "object", name, NOUNS["mesh"], on, solo, measures.get(name) or (None if aimed else glow), sentences, False, note,
        place=name.strip("/").rpartition("/")[0], rays=int(flat.get(f"light.{name}.shadows.rays") or 1),
    )  # fmt: skip


def other_lines(edits: Edits, shown: str | None) -> list[Line]:
    """Cards, and objects whose visibility was edited; `shown` is a requested object."""
    flat = edits.flat()
    lines = []
    for name in edits.cards:
        fields = tuple(CardEdit.model_fields)
        lines.append(Line("card", name, "a card", True, False, None, [_controls("card", name, fields, {}, flat)], True))
    of_objects = {n: [field for field in MENDS if getattr(e, field) is not None] for n, e in edits.objects.items()}
    seen_by = ("camera", "shadows", "bounced")
    edited = (n for n, e in edits.objects.items() if of_objects[n] or any(getattr(e, field) is not None for field in seen_by))
    for name in dict.fromkeys([*([shown] if shown else []), *edited]):
        sentences = [_controls("object", name, seen_by, {}, flat), _controls("object", name, tuple(of_objects.get(name, ())), {}, flat)]
        lines.append(Line("object", name, "an object", True, False, None, sentences, False))
    for name in edits.scenes:
        lines.append(Line("scene", name, "everything", True, False, None, [_controls("scene", name, ("scale",), {}, flat)], True))
    return lines
