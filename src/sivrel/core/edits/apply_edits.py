"""Applies edits to a scene: returns a new scene, the old one is unchanged."""

import math
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from ..errors import InputError, did_you_mean
from ..lights.daylight import SUN_ANGLE, daylight, direction
from ..scene.cards import make_card
from ..scene.frames import upright_frame
from ..scene.model import Camera, Light, Mesh, Profile, Scene, Texture
from ..scene.texels import texels_of
from .edits import CameraEdit, CardEdit, Edits, LightEdit, ObjectEdit
from .mending import darkened, mended, scaled, thickened

PLAIN = (
    "on",
    "solo",
    "intensity",
    "exposure",
    "color",
    "normalize",
    "width",
    "height",
    "radius",
    "length",
    "angle",
    "rotation",
    "diffuse",
    "specular",
)
SEEN_BY = {
    "camera": "seen_by_camera", "shadows": "casts_shadows", "bounced": "seen_by_bounced",
    "aimed": "aimed", "stand_in": "stand_in", "refine": "refine",
}  # fmt: skip
NEW_SUN = np.array([0.4, 0.8, 0.45])
"""Direction to a sun that is added."""
SHAPING = {"cone_angle": "cone_angle", "cone_softness": "cone_softness", "focus": "focus"}


def apply_edits(
    scene: Scene, edits: Edits, profile: Callable[[str], Profile] | None = None, panorama: Callable[[str], Texture] | None = None
) -> Scene:
    """`scene` with `edits` applied; `profile` and `panorama` read files that edits refer to. Raises InputError if
    an edit names something that does not exist."""
    edited = replace(
        scene, meshes=list(scene.meshes), surfaces=list(scene.surfaces), lights=list(scene.lights), cameras=list(scene.cameras),
        notes=list(scene.notes),
    )  # fmt: skip
    whole = edits.scenes.get("whole")
    if whole and whole.scale:
        scaled(edited, whole.scale)
    for name, edit in edits.of_geometry().objects.items():
        _mend(edited, name, edit)
    for name, card in edits.cards.items():
        _add_card(edited, name, card)
    for name, edit in edits.objects.items():
        if not edit.out:
            _edit_object(edited, name, edit)
    for mesh in edited.meshes:
        if mesh.aimed and not any(light.kind == "mesh" and light.mesh == mesh.name for light in edited.lights):
            edited.lights.append(Light(mesh.name, "mesh", mesh=mesh.name))
    for name, light_edit in edits.lights.items():
        _edit_light(edited, name, light_edit, profile, panorama)
    for name, camera_edit in edits.cameras.items():
        _edit_camera(edited, name, camera_edit)
    return edited


def _mend(scene: Scene, name: str, edit: ObjectEdit) -> None:
    """Replace an object by its edited version; lights linked to it are linked to its parts."""
    members = _members(scene.meshes, name)
    if not members:
        raise _no_object(scene, name)
    darker: dict[int, int] = {}
    shapes: dict[int, Mesh] = {}
    for k in reversed(members):
        old = scene.meshes[k]
        if edit.out:
            del scene.meshes[k]
            continue
        if edit.brightest is not None:
            old = darkened(scene, old, edit.brightest, darker)
        parts = mended(old, edit, shapes)
        scene.meshes[k : k + 1] = parts
        if len(parts) > 1 or parts[0].name != old.name:
            names = frozenset(part.name for part in parts)
            for number, light in enumerate(scene.lights):
                links = {a: getattr(light, a) for a in ("lit", "shadowing")}
                changed = {a: (link - {old.name}) | names for a, link in links.items() if link is not None and old.name in link}
                scene.lights[number] = replace(light, **changed)


def _no_object(scene: Scene, name: str) -> InputError:
    return InputError(f"There is no object “{name}” in {scene.name}.{did_you_mean(name, [m.name for m in scene.meshes])}")


def _add_card(scene: Scene, name: str, card: CardEdit) -> None:
    if any(mesh.name == name for mesh in scene.meshes):
        raise InputError(f"There is already an object “{name}”; give the card another name.")
    low, high = scene.bounds()
    middle = (low + high) / 2.0
    at = card.at or (float(middle[0]), float(middle[1]), float(middle[2]))
    pattern = card.pattern or "plain"
    count = card.count or 5
    opacity = 1.0 if card.opacity is None else card.opacity
    mesh, surface = make_card(
        name, pattern, at, card.towards, card.turn or 0.0, card.width or 1.0, card.height or 1.0, count, opacity, len(scene.surfaces), card.color
    )
    if card.depth and pattern == "plain":
        mesh = thickened(mesh.changed(vertices=mesh.vertices + mesh.normals * np.float32(card.depth / 2.0)), card.depth)
    scene.surfaces.append(surface)
    scene.meshes.append(mesh)


def _members(meshes: list[Mesh], name: str) -> list[int]:
    """Meshes that a name refers to: itself, or all below a path."""
    exact = [k for k, mesh in enumerate(meshes) if mesh.name == name]
    return exact or [k for k, mesh in enumerate(meshes) if f"/{name.strip('/')}/" in f"{mesh.name}/"]


def _edit_object(scene: Scene, name: str, edit: ObjectEdit) -> None:
    members = _members(scene.meshes, name)
    if not members:
        raise _no_object(scene, name)
    for k in members:
        changes: dict[str, Any] = {}
        for field, attribute in SEEN_BY.items():
            value = getattr(edit, field)
            if value is not None:
                changes[attribute] = value
        mesh = scene.meshes[k] = scene.meshes[k].changed(**changes)
        if mesh.aimed and not any(max(scene.surfaces[s].emission) > 0.0 or scene.surfaces[s].emission_map for s in np.unique(mesh.surfaces)):
            raise InputError(f"The object “{mesh.name}” does not glow, so it can't be aimed at.")


def linked(meshes: list[Mesh], pattern: str) -> frozenset[str] | None:
    """Names of the meshes that a link's text refers to: parts of names by commas, those with a leading minus excluded; None
    for all."""
    parts = [part.strip() for part in pattern.replace("−", "-").split(",") if part.strip()]
    wanted = [part for part in parts if not part.startswith("-") and part != "all"]
    unwanted = [part[1:].strip() for part in parts if part.startswith("-")]
    if not wanted and not unwanted:
        return None
    return frozenset(m.name for m in meshes if (not wanted or any(w in m.name for w in wanted)) and not any(u in m.name for u in unwanted))


def _new_light(scene: Scene, name: str, kind: str) -> Light:
    low, high = scene.bounds()
    middle = (low + high) / 2.0
    at = (float(middle[0]), float(low[1] + 0.8 * (high[1] - low[1])), float(middle[2]))
    light = Light(name, kind, position=at, frame=upright_frame(np.array([0.0, 1.0, 0.0])))  # type: ignore[arg-type]
    if kind in ("sphere", "cylinder"):
        light.radius = 0.1
    if kind == "dome":
        light.frame = np.eye(3)
    if kind == "sun":
        light.angle, light.normalize, light.frame = SUN_ANGLE, True, upright_frame(NEW_SUN)
    return light


def _edit_light(scene: Scene, name: str, edit: LightEdit, profile: Any, panorama: Any) -> None:
    known = [light.name for light in scene.lights]
    if edit.kind == "daylight":
        _add_daylight(scene, name, edit)
        return
    if name in known:
        at = known.index(name)
        if edit.kind not in (None, scene.lights[at].kind):
            raise InputError(f"The light “{name}” already exists and is a {scene.lights[at].kind}; give the new one another name.")
        light = replace(scene.lights[at], shaping=replace(scene.lights[at].shaping), shadow=replace(scene.lights[at].shadow))
    elif edit.kind is not None:
        at, light = len(scene.lights), _new_light(scene, name, edit.kind)
    else:
        raise InputError(f"There is no light “{name}” in {scene.name}.{did_you_mean(name, known)} Give light.{name}.kind to add it.")
    for field in PLAIN:
        value = getattr(edit, field)
        if value is not None:
            setattr(light, field, value)
    if light.kind == "point" and edit.radius:
        light.kind = "sphere"
    elif light.kind == "sphere" and light.radius <= 0.0:
        light.kind = "point"
    if edit.temperature is not None:
        light.temperature = edit.temperature or None
    if edit.camera is not None:
        light.seen_by_camera = edit.camera
    _place(light, edit)
    for field, attribute in SHAPING.items():
        if getattr(edit, field) is not None:
            setattr(light.shaping, attribute, getattr(edit, field))
    for field in ("way", "rays", "resolution", "filter", "bias", "fit"):
        if getattr(edit.shadows, field) is not None:
            setattr(light.shadow, field, getattr(edit.shadows, field))
    if edit.profile is not None:
        light.shaping.profile = None if edit.profile == "none" or profile is None else profile(edit.profile)
    if edit.panorama is not None:
        light.picture = None if edit.panorama == "none" or panorama is None else panorama(edit.panorama)
    if edit.link is not None:
        light.lit = linked(scene.meshes, edit.link)
    if edit.shadow_link is not None:
        light.shadowing = linked(scene.meshes, edit.shadow_link)
    scene.lights[at : at + 1] = [light]


def _place(light: Light, edit: LightEdit) -> None:
    if edit.at is not None:
        light.position = edit.at
    if edit.towards is not None:
        back = np.asarray(light.position, float) - np.asarray(edit.towards, float)
        if np.linalg.norm(back) < 1e-9:
            raise InputError(f"The light “{light.name}” can't point at its own position; give light.{light.name}.towards another point.")
        light.frame = upright_frame(back)
    if light.kind == "sun" and not (edit.elevation is None and edit.bearing is None):
        elevation, bearing = sun_angles(light.frame[2])
        light.frame = upright_frame(
            direction(elevation if edit.elevation is None else edit.elevation, bearing if edit.bearing is None else edit.bearing)
        )


def sun_angles(way: np.ndarray) -> tuple[float, float]:
    """The inverse of `daylight.direction`: elevation and bearing in degrees, the bearing from 0 to 360."""
    x, y, z = (float(v) for v in np.asarray(way, float) / np.linalg.norm(way))
    return math.degrees(math.asin(max(-1.0, min(1.0, y)))), math.degrees(math.atan2(x, -z)) % 360.0


def _edit_camera(scene: Scene, name: str, edit: CameraEdit) -> None:
    known = [camera.name for camera in scene.cameras]
    if name in known:
        at, camera = known.index(name), scene.cameras[known.index(name)]
    elif edit.at is None or edit.towards is None:
        raise InputError(f"There is no camera “{name}” in {scene.name}.{did_you_mean(name, known)} Give camera.{name}.at and .towards to add it.")
    else:
        at, camera = len(known), replace(scene.camera(edit.like), name=name)
    scene.cameras[at : at + 1] = [moved(camera, edit)]


def moved(camera: Camera, edit: CameraEdit) -> Camera:
    """A camera with an edit applied; empty settings do not change. Raises InputError."""
    world = camera.to_world.copy()
    position = world[:, 3].copy() if edit.at is None else np.asarray(edit.at, float)
    world[:, 3] = position
    if edit.towards is not None:
        back = position - np.asarray(edit.towards, float)
        if np.linalg.norm(back) < 1e-9:
            raise InputError(f"The camera “{camera.name}” can't look at its own position; give camera.{camera.name}.towards another point.")
        world[:, :3] = upright_frame(back).T
    half_width = camera.half_width if edit.view is None or camera.orthographic else math.tan(math.radians(edit.view) / 2.0)
    exposure = camera.exposure if edit.exposure is None else edit.exposure
    return replace(camera, to_world=world, half_width=half_width, exposure=exposure)


def _add_daylight(scene: Scene, name: str, edit: LightEdit) -> None:
    """A sky and its sun, as two lights, `name` and `name sun`."""
    made = daylight(
        edit.latitude if edit.latitude is not None else 57.5,
        edit.longitude if edit.longitude is not None else 0.0,
        edit.moment or "2026-06-21T12:00+00:00",
        edit.turbidity or 3.0,
        edit.north or 0.0,
    )
    common: dict[str, Any] = {
        "intensity": 1.0 if edit.intensity is None else edit.intensity, "exposure": edit.exposure or 0.0,
        "on": edit.on is not False, "solo": bool(edit.solo),
    }  # fmt: skip
    scene.lights.append(
        Light(name, "dome", picture=Texture(texels_of(made.sky, levels=1), ("repeat", "clamp")), seen_by_camera=edit.camera is not False, **common)
    )
    angle = SUN_ANGLE if edit.angle is None else edit.angle
    sun = Light(f"{name} sun", "sun", made.sun, frame=upright_frame(made.towards_sun), angle=angle, normalize=angle > 0.0, **common)
    for field in ("way", "rays", "resolution", "filter", "bias", "fit"):
        if getattr(edit.shadows, field) is not None:
            setattr(sun.shadow, field, getattr(edit.shadows, field))
    sun.position = tuple(float(x) for x in made.towards_sun * math.hypot(*(np.subtract(*scene.bounds()[::-1]))))  # type: ignore[assignment]
    scene.lights.append(sun)
