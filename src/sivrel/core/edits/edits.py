"""Edits: the artist's changes to a shot's lights, objects and cameras, kept as an overlay and never in the user's file.

Each edit has a key, `light.NAME.setting`, `object.NAME.setting`, `card.NAME.setting`, `camera.NAME.setting` or `scene.whole.setting`. As in the
recipe, the declaration here is the one source of the forms, the command line's `--set`, the reference and the words in which proofs differ.
"""

import json
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, StringConstraints, ValidationError

from ..errors import InputError, did_you_mean
from ..json_text import is_text, parse_json
from ..settings import Group, Three, declared_settings
from ..settings import setting as declared
from ..shadows.suspect_maps import MOST_RESOLUTION
from ..shadows.ways import CODES as SHADOW_WAYS
from ..stored import EDITS

ADDED_KINDS = ("rect", "disk", "sphere", "cylinder", "point", "sun", "dome", "daylight", "portal")
"""Kinds of light that can be added to a shot."""
CARD_PATTERNS = ("plain", "slats", "panes", "leaves", "soft")
GROUPS = {"light": "lights", "object": "objects", "card": "cards", "camera": "cameras", "scene": "scenes"}
WHOLE = "whole"
"""The name of the whole scene."""


def _unicode(text: str) -> str:
    if not is_text(text):
        raise ValueError("not Unicode")
    return text


Name = Annotated[str, StringConstraints(min_length=1, max_length=4096), AfterValidator(_unicode)]
"""A name in an edit's key."""


def setting(name: str, phrase: str, trades: str, unit: str = "", **limits: Any) -> Any:
    """One editable value; the file's value applies until it is given."""
    return declared(None, name, phrase, trades, unit, **limits)


class ShadowEdit(Group):
    way: Literal[tuple(SHADOW_WAYS)] | None = setting("shadow", "Its shadow is computed by {}", "A way of its own; empty leaves it to the recipe.")  # type: ignore[valid-type]
    rays: int | None = setting("shadow rays", "with {} rays.", "Rays to this light from each point that the camera sees.", ge=1, le=256)
    resolution: int | None = setting("map resolution", "{} texels across,", "Size of its depth map.", "texels", ge=16, le=MOST_RESOLUTION)
    filter: float | None = setting("map filter", "softened over {},", "Width of the map's filter.", "texels", ge=0.0, le=32.0)
    bias: float | None = setting("map bias", "biased by {} texels.", "Bias against its own shadow.", "texels", ge=0.0, le=64.0)
    fit: Literal["scene", "view"] | None = setting(
        "map fit", "It is fitted to {}.", "A sun's map: the whole scene, or where most of the picture lies, traced beyond."
    )


class LightEdit(Group):
    kind: Literal[ADDED_KINDS] | None = setting("kind", "It is a {}.", "The kind of a light that is added.")  # type: ignore[valid-type]
    on: bool | None = setting("on", "It is {}.", "A light that is off is left out entirely.")
    solo: bool | None = setting("solo", "Alone: {}.", "While any light is soloed, only soloed lights are on, and nothing glows.")
    intensity: float | None = setting("intensity", "Its intensity is {}", "As in UsdLux: radiance, or as defined by normalize.", ge=0.0, le=1e12)
    exposure: float | None = setting("exposure", "raised by {} stops,", "Each stop doubles it.", "stops", ge=-40.0, le=40.0)
    color: Three | None = setting("colour", "in {}", "Linear Rec.709: red, green, blue.")
    temperature: float | None = setting(
        "temperature", "times a glow of {} K.", "Multiplies the colour by a black body's; 0 for none.", "K", ge=0.0, le=40000.0
    )
    normalize: bool | None = setting("normalize", "Its power is kept when its size changes: {}.", "As in UsdLux.")
    at: Three | None = setting("position", "It is at {}.", "Metres, y up.", "m")
    towards: Three | None = setting(
        "aim", "It points to {}.", "The point that it is aimed at, in metres; for a sun only the direction from its position counts.", "m"
    )
    elevation: float | None = setting(
        "height above the horizon", "It stands {}° above the horizon", "Of a sun; 90 is overhead.", "°", ge=-90.0, le=90.0
    )
    bearing: float | None = setting(
        "bearing", "at a bearing of {}°.", "Of a sun: 0 is −z, 90 is +x, as on a compass with north at −z.", "°", ge=-360.0, le=360.0
    )
    width: float | None = setting("width", "It is {} m wide", "Side of a rect, diameter of a disk.", "m", gt=0.0, le=1e5)
    height: float | None = setting("height", "and {} m high.", "The other side.", "m", gt=0.0, le=1e5)
    radius: float | None = setting("radius", "Its radius is {} m.", "Of a sphere or cylinder; 0 makes a sphere a point.", "m", ge=0.0, le=1e5)
    length: float | None = setting("length", "It is {} m long.", "Of a cylinder.", "m", gt=0.0, le=1e5)
    angle: float | None = setting("angle", "It is {}° across.", "Apparent size of a sun: softness of its shadows.", "°", ge=0.0, le=360.0)
    cone_angle: float | None = setting(
        "cone", "Its cone opens {}° from the axis.", "Half angle outside which it emits nothing; 180 is no cone.", "°", ge=0.0, le=180.0
    )
    cone_softness: float | None = setting("cone softness", "{} of it fades.", "Share of the cone over which it fades.", ge=0.0, le=1.0)
    focus: float | None = setting("focus", "Its focus is {}.", "Exponent of the cosine from the axis.", ge=0.0, le=1000.0)
    profile: str | None = setting(
        "photometric profile", "Shaped by {}.", "An IES file, on the bench one beside the scene; “none” takes the file's own away.", max_length=4096
    )
    panorama: str | None = setting(
        "panorama",
        "Its picture is {}.",
        "A latitude-longitude EXR or HDR picture, on the bench one beside the scene; “none” for none.",
        max_length=4096,
    )
    rotation: float | None = setting("rotation", "Turned by {}°.", "Turns a dome about its pole.", "°", ge=-720.0, le=720.0)
    latitude: float | None = setting("latitude", "At {}° north", "Place of a daylight sky.", "°", ge=-90.0, le=90.0)
    longitude: float | None = setting("longitude", "and {}° east,", "Place of a daylight sky.", "°", ge=-180.0, le=180.0)
    moment: str | None = setting("moment", "on {}.", "Date and time with its zone, like 2026-06-21T12:00+00:00.", max_length=40)
    turbidity: float | None = setting("turbidity", "Haze {}.", "Preetham's turbidity: 2 clear, 6 hazy.", ge=1.7, le=10.0)
    north: float | None = setting("north", "North lies {}° from −z towards +x.", "Turns the sky and its sun.", "°", ge=-720.0, le=720.0)
    camera: bool | None = setting("seen by camera", "The camera sees it: {}.", "Hides the light itself, not what it lights.")
    diffuse: float | None = setting("on the base", "It adds {} by the base", "Factor of its diffuse light.", ge=0.0, le=100.0)
    specular: float | None = setting("in highlights", "and {} in highlights.", "Factor of its glossy light.", ge=0.0, le=100.0)
    link: str | None = setting(
        "lights only", "It lights {}.", "Names or parts of names of meshes, by commas; “all” for all; a leading − excludes.", max_length=4096
    )
    shadow_link: str | None = setting(
        "shadowed only by", "Only {} cast its shadows.", "Names or parts of names of meshes; “all” for all.", max_length=4096
    )
    shadows: ShadowEdit = ShadowEdit()


class ObjectEdit(Group):
    camera: bool | None = setting("seen by camera", "The camera sees it: {};", "Hidden from the camera, it still casts shadows and bounces light.")
    shadows: bool | None = setting("casts shadows", "it casts shadows: {};", "Off, light passes through it to the lights.")
    bounced: bool | None = setting("seen by bounced light", "bounced light sees it: {}.", "Off, scattered rays pass through it.")
    stand_in: bool | None = setting("stand-in", "A plain stand-in replaces its surfaces: {}.", "Matte, with the same mean colour, for lighting.")
    refine: int | None = setting("bake refining", "A bake refines it {} times.", "A number of its own; empty leaves it to the recipe.", ge=0, le=6)
    aimed: bool | None = setting("aimed at", "Its glow is aimed at: {}.", "A mesh that emits, aimed at like a light or only found by chance.")
    out: bool | None = setting("left out", "It is left out: {}.", "As if it were not in the file.")
    thickness: float | None = setting(
        "thickness",
        "It is {} m thick,",
        "Thickens a sheet to a slab, behind its front or, if negative, in front of it; openings stay open.",
        "m",
        ge=-20.0,
        le=20.0,
    )
    turned: Literal["over", "agree"] | None = setting(
        "faces turned", "its faces are flipped {},", "All of them, or so that neighbours agree and closed parts face outwards."
    )
    shape: Literal["box", "hull"] | None = setting("plain shape", "a {} replaces it,", "A box or a convex hull instead of its own shape.")
    triangles: float | None = setting(
        "triangles kept", "{} of its triangles are kept,", "Share of them; the shape changes little at first.", gt=0.0, le=1.0
    )
    longest_edge: float | None = setting("longest edge", "no edge is longer than {} m,", "Longer ones are halved.", "m", gt=0.0, le=1e5)
    brightest: float | None = setting(
        "albedo at most",
        "it reflects {} of the light at most,",
        "Darkens its base colours to that albedo; no real surface is brighter than 0.9.",
        ge=0.01,
        le=1.0,
    )
    split: Literal["parts", "facing"] | None = setting(
        "split", "it is split by {}.", "Into connected parts, or floor, ceiling and walls, to be linked and refined one by one."
    )


MENDS = ("out", "thickness", "turned", "shape", "triangles", "longest_edge", "brightest", "split")
"""The settings of an object that change its shape and surfaces, in the order in which they are applied."""


class CardEdit(Group):
    pattern: Literal[CARD_PATTERNS] | None = setting("pattern", "A card of {}", "Its opaque pattern; “soft” is a dark patch that fades to its edge.")  # type: ignore[valid-type]
    at: Three | None = setting("position", "at {}", "Its middle, in metres.", "m")
    towards: Three | None = setting("facing", "facing {}", "The point that it faces; straight up when empty.", "m")
    turn: float | None = setting("turn", "turned by {}°,", "About its own normal.", "°", ge=-720.0, le=720.0)
    width: float | None = setting("width", "{} m", "Metres.", "m", gt=0.0, le=1e4)
    height: float | None = setting("height", "by {} m,", "Metres.", "m", gt=0.0, le=1e4)
    count: int | None = setting("repeats", "with {} repeats,", "Slats, panes or leaves across.", ge=1, le=200)
    opacity: float | None = setting("opacity", "{} opaque,", "Of its opaque parts.", ge=0.0, le=1.0)
    depth: float | None = setting("depth", "{} m deep,", "A plain card as a slab, which closes a gap without leaking itself.", "m", ge=0.0, le=100.0)
    color: Three | None = setting("colour", "in {}.", "Linear Rec.709: red, green, blue; dark when empty.")


class CameraEdit(Group):
    like: str | None = setting(
        "like", "It is a copy of {}.", "The camera that an added one takes its lens from; the first when empty.", max_length=4096
    )
    at: Three | None = setting("position", "It is at {}", "Metres, y up.", "m")
    towards: Three | None = setting("aim", "and looks at {},", "The point in the middle of its picture, in metres; its horizon is level.", "m")
    view: float | None = setting("field of view", "{}° from side to side.", "Of a camera in perspective.", "°", ge=1.0, le=170.0)
    exposure: float | None = setting(
        "exposure", "It is shown raised by {} stops.", "For display only; the light does not change.", "stops", ge=-40.0, le=40.0
    )


class SceneEdit(Group):
    scale: float | None = setting(
        "scale", "Everything is scaled by {}.", "Makes the scene real-sized: every distance, and every size of a light.", ge=1e-6, le=1e6
    )


class Edits(Group):
    """All edits of a shot; `Edits()` changes nothing."""

    lights: dict[Name, LightEdit] = {}
    objects: dict[Name, ObjectEdit] = {}
    cards: dict[Name, CardEdit] = {}
    cameras: dict[Name, CameraEdit] = {}
    scenes: dict[Literal["whole"], SceneEdit] = {}

    def of_geometry(self) -> "Edits":
        """The part of the edits that changes the packed geometry: shapes, surfaces, scale."""
        shapes = {
            name: ObjectEdit(**{field: getattr(edit, field) for field in MENDS})
            for name, edit in self.objects.items()
            if any(getattr(edit, field) is not None for field in MENDS)
        }
        return Edits(cards=self.cards, objects=shapes, scenes=self.scenes)

    def flat(self) -> dict[str, Any]:
        """Values by key, sorted, tuples as text."""
        found = {}
        for group, attribute in GROUPS.items():
            for name, edit in getattr(self, attribute).items():
                for field, value in edit.model_dump(exclude_none=True).items():
                    for sub, inner in value.items() if isinstance(value, dict) else ((None, value),):
                        key = f"{group}.{name}.{field}" + (f".{sub}" if sub else "")
                        found[key] = ",".join(f"{x:g}" for x in inner) if isinstance(inner, tuple | list) else inner
        return dict(sorted(found.items()))


MODELS: dict[str, type[Group]] = {"light": LightEdit, "object": ObjectEdit, "card": CardEdit, "camera": CameraEdit, "scene": SceneEdit}


SETTINGS = {group: declared_settings(model) for group, model in MODELS.items()}
"""The declarations of all settings, by group and by the last part of their key."""


def is_edit(key: str) -> bool:
    """Whether a key is an edit's, and not a recipe's."""
    return key.split(".", 1)[0] in GROUPS


def apart(values: dict[str, Any]) -> tuple[dict[str, Any], dict[str, Any]]:
    """Values by key, split into those of the recipe and those of edits."""
    return {k: v for k, v in values.items() if not is_edit(k)}, {k: v for k, v in values.items() if is_edit(k)}


def split_key(key: str) -> tuple[str, str, str]:
    """(group, name, setting) of an edit's key; names may contain dots. Raises InputError."""
    group, _, rest = key.partition(".")
    known = SETTINGS.get(group, {})
    if group == "scene" and not rest.startswith(f"{WHOLE}."):
        raise InputError(f"There is no setting “{key}”; settings of the whole scene are written like scene.{WHOLE}.scale.")
    for field in sorted(known, key=len, reverse=True):
        if rest.endswith(f".{field}") and len(rest) > len(field) + 1:
            return group, rest[: -len(field) - 1], field
    name, _, field = rest.rpartition(".")
    offer = did_you_mean(field, known, f"{group}.{(name or 'NAME')[:80].replace('{', '').replace('}', '')}.{{}}")
    raise InputError(f"There is no setting “{key[:200]}”.{offer} `sivrel recipes` lists them all.")


def with_edits(edits: Edits, values: dict[str, Any]) -> Edits:
    """`edits` with some keys set, as text or as values; an empty text removes the edit. Raises InputError."""
    tree: dict[str, Any] = edits.model_dump(exclude_none=True)
    for key, value in values.items():
        group, name, field = split_key(key)
        leaf = tree.setdefault(GROUPS[group], {}).setdefault(name, {})
        if isinstance(value, str) and not is_text(value):
            raise InputError(f"{group}.….{field} contains characters that are not Unicode; write it again.")
        *outer, last = field.split(".")
        for step in outer:
            leaf = leaf.setdefault(step, {})
        if value is None or value == "":
            leaf.pop(last, None)
        else:
            leaf[last] = value
    for attribute in GROUPS.values():
        members = tree.get(attribute, {})
        for name in [n for n, edit in members.items() if not any(v not in ({}, None) for v in edit.values())]:
            del members[name]
    try:
        return Edits.model_validate(tree)
    except ValidationError as error:
        raise InputError(_sentence(error)) from None


def _sentence(error: ValidationError) -> str:
    first = error.errors()[0]
    place = [str(part) for part in first["loc"]] or ["the whole"]
    group = next((g for g, a in GROUPS.items() if a == place[0]), place[0])
    field = next((f for f in (".".join(place[2:4]), place[2] if len(place) > 2 else "") if f in SETTINGS.get(group, {})), "")
    info = SETTINGS.get(group, {}).get(field)
    if info is None:
        return f"The edits have something unknown at “{'.'.join(place)[:200]}”; remove it."
    return info.refusal(f"{group}.{place[1] if len(place) > 1 else ''}.{field}", first["input"])


def to_json(edits: Edits) -> str:
    """The edits as stored and in picture headers."""
    return json.dumps(EDITS.stamp(edits.model_dump(exclude_none=True, exclude_defaults=True)), sort_keys=True)


def from_json(text: str | bytes) -> Edits:
    """The inverse of `to_json`. Raises InputError."""
    data = EDITS.upgrade(parse_json(text or "{}", "The edits are not JSON that this program can read."))
    try:
        return Edits.model_validate(data)
    except ValidationError as error:
        raise InputError(_sentence(error)) from None


def difference(before: Edits, after: Edits) -> list[tuple[str, Any, Any]]:
    """(key, value before, value after) of every edit that differs; None if there is none."""
    old, new = before.flat(), after.flat()
    return [(key, old.get(key), new.get(key)) for key in sorted({*old, *new}) if old.get(key) != new.get(key)]
