"""Removes unusable numbers from a scene as it is read: not-a-number, infinity, and extreme sizes.

A file may contain them through damage or a bug in the program that wrote it. What can be repaired is, the rest is left out, and a note says
which; the kernels can then rely on finite numbers.
"""

import math
from collections.abc import Callable, Iterator
from dataclasses import fields
from typing import Any

import numpy as np

from ..errors import InputError
from .model import Camera, Light, Mesh, Profile, Scene, Surface, Texture, TextureUse
from .placed_mesh import PlacedMesh
from .texels import HALF, LINEAR, Texels, TileSet, texels_of

FARTHEST = 1e9
"""Metres from the origin, or across, that anything may lie: single precision resolves 64 m there."""
BRIGHTEST = 1e20
"""Radiance, and any other quantity of light."""
WIDEST = 1e4
"""Tangent of half of a camera's field of view: 179.99 degrees."""
LENGTHS = ("width", "height", "length", "radius")


def sanitize(scene: Scene) -> None:
    """Repair or leave out, in place, what holds numbers that are not finite or too large; notes say what. Raises InputError where nothing
    is left to render."""
    checks: tuple[tuple[str, list[Any], Callable[..., Any]], ...] = (
        ("light", scene.lights, _light_problem), ("camera", scene.cameras, _camera_problem), ("object", scene.meshes, _Meshes().problem),
    )  # fmt: skip
    for what, things, problem_of in checks:
        sound = []
        for thing in things:
            problem = problem_of(thing)
            if problem:
                scene.notes.append(f"The {what} {thing.name[:120]} {problem}, so it was left out.")
            else:
                sound.append(thing)
        things[:] = sound
    if not scene.triangle_count():
        raise InputError(f"{scene.name} has nothing to render; every object in it is damaged.")
    left = {mesh.name for mesh in scene.meshes}
    scene.lights[:] = [light for light in scene.lights if light.kind != "mesh" or light.mesh in left]
    for surface in scene.surfaces:
        _repair_surface(surface, scene.notes)
    for texture, owner in textures_of(scene):
        _repair_texture(texture, owner, scene.notes)


def check_edited(scene: Scene) -> None:
    """Raise InputError if edits made a scene impossible to render; repair the pictures that they added."""
    problems = [("light", light.name, _light_problem(light)) for light in scene.lights]
    problems += [("camera", camera.name, _camera_problem(camera)) for camera in scene.cameras]
    for what, name, problem in problems:
        if problem:
            raise InputError(f"With these edits the {what} {name[:120]} {problem}; set it to smaller numbers.")
    for texture, owner in textures_of(scene):
        _repair_texture(texture, owner, scene.notes)


def check_extent(scene: Scene) -> None:
    """Raise InputError if edits made a scene too large."""
    low, high = scene.bounds()
    if not (low.min() > -FARTHEST and high.max() < FARTHEST):
        raise InputError(f"With these edits the scene reaches further than {FARTHEST / 1000.0:,.0f} km; scale it down.")


def _within(limit: float, *values: object) -> bool:
    """Whether all numbers and arrays are finite and at most `limit` in size."""
    # Plain numbers are compared directly, since a scene of a thousand lights is checked for every picture.
    return all(
        abs(value) <= limit if isinstance(value, float | int)
        else _within(limit, *value) if isinstance(value, tuple | list)
        else bool((np.abs(value) <= limit).all())  # type: ignore[call-overload]
        for value in values
    )  # fmt: skip


def _light_problem(light: Light) -> str:
    """The problem with a light, as the end of a sentence; empty if there is none."""
    shape = light.shaping
    lengths = [getattr(light, name) for name in LENGTHS]
    if not _within(FARTHEST, light.position, lengths, light.unit):
        return "has a place or a size that is not finite, or too large"
    if not _within(2.0, light.frame) or min(math.hypot(*row) for row in np.asarray(light.frame, float).tolist()) < 0.5:
        return "has a transform that can't be used"
    if light.stretch is not None and not (_within(1e6, light.stretch) and abs(np.linalg.det(light.stretch)) > 1e-12):
        return "has a transform that can't be used"
    # By logarithms: two to the power of an exposure may be beyond all numbers.
    strength = [abs(float(c)) for c in (*light.color, light.intensity)]
    if not _within(BRIGHTEST, strength, light.exposure, light.diffuse, light.specular, light.temperature or 0.0):
        return "has a brightness that is not finite, or too large"
    power = light.exposure + math.log2(max(*strength[:3], 1e-30)) + math.log2(max(strength[3], 1e-30))
    if power > math.log2(BRIGHTEST) or light.exposure < -200.0:
        return "has an exposure that is too large"
    if not _within(1e6, light.angle, light.rotation, shape.cone_angle, shape.cone_softness, shape.focus, shape.focus_tint, shape.profile_scale):
        return "has angles that are not finite, or too large"
    if shape.profile is not None and not _profile_is_sound(shape.profile):
        return "has a photometric profile with numbers that are not finite, or below zero"
    return ""


def _profile_is_sound(profile: Profile) -> bool:
    return _within(BRIGHTEST, profile.candela, profile.vertical, profile.horizontal) and float(profile.candela.min(initial=0.0)) >= 0.0


def _camera_problem(camera: Camera) -> str:
    world = np.asarray(camera.to_world, float)
    if not _within(FARTHEST, world) or np.linalg.norm(world[:, :3], axis=0).min() < 0.5:
        return "has a transform that can't be used"
    widest = FARTHEST if camera.orthographic else WIDEST
    if not (1e-9 <= camera.half_width <= widest) or not _within(1e4, camera.shift):
        return "has a field of view that can't be used"
    if not (0.0 <= camera.lens_radius <= FARTHEST and 0.0 < camera.focus <= 1e30):
        return "has a focus or an aperture that can't be used"
    if not _within(100.0, camera.exposure):
        return "has an exposure that is not finite, or too large"
    return ""


class _Meshes:
    """The problems of meshes; shapes are looked at once."""

    def __init__(self) -> None:
        self.shapes: dict[int, str] = {}

    def problem(self, mesh: Mesh) -> str:
        if not isinstance(mesh, PlacedMesh):
            return _mesh_problem(mesh)
        if id(mesh.shape) not in self.shapes:
            self.shapes[id(mesh.shape)] = _mesh_problem(mesh.shape)
        problem = self.shapes[id(mesh.shape)]
        return problem or ("" if np.abs(np.concatenate(mesh.box())).max() <= FARTHEST else OUT_OF_REACH)


OUT_OF_REACH = "has points that are not finite, or too far away"


def _mesh_problem(mesh: Mesh) -> str:
    """The problem with a mesh's positions. (Its normals and coordinates are finite, see `indexed`.)"""
    points = mesh.geometry.points
    return "" if len(points) and np.abs(points).max() <= FARTHEST else OUT_OF_REACH


def _repair_surface(surface: Surface, notes: list[str]) -> None:
    """Replace unusable numbers by defaults, and return which."""
    plain, repaired = Surface(), []
    for field in fields(Surface):
        value = getattr(surface, field.name)
        if isinstance(value, tuple | float | int) and not _within(BRIGHTEST, value):
            setattr(surface, field.name, getattr(plain, field.name))
            repaired.append(field.name.replace("_", " "))
    if repaired:
        notes.append(f"The material {surface.name[:120]} has numbers that are not finite; defaults stand in for its {', '.join(repaired)}.")


def _repair_texture(texture: Texture, owner: str, notes: list[str]) -> None:
    if texture.sound:
        return
    for name in ("scale", "bias", "transform"):
        if not _within(BRIGHTEST, getattr(texture, name)):
            setattr(texture, name, getattr(Texture(texture.texels), name))
            notes.append(f"The picture of {owner} has a transform or scale that is not finite; these are ignored.")
    if isinstance(texture.texels, TileSet):
        mended = {place: _repaired(tile) for place, tile in texture.texels.tiles.items()}
        count = sum(wrong for _, wrong in mended.values())
        texture.texels = TileSet({place: tile for place, (tile, _) in mended.items()})
    else:
        texture.texels, count = _repaired(texture.texels)
    if count:
        pixels = "One pixel" if count == 1 else f"{count:,} pixels"
        notes.append(f"{pixels} of the picture of {owner} {'is' if count == 1 else 'are'} not finite numbers, and black stands in for them.")
    texture.sound = True


def _repaired(texels: Texels) -> tuple[Texels, int]:
    """Texels without numbers that are not finite, and how many texels had some."""
    if texels.coding not in (HALF, LINEAR):
        return texels, 0
    linear = texels.linear()
    with np.errstate(invalid="ignore"):
        wrong = ~(np.abs(linear) <= BRIGHTEST)
    count = int(wrong.any(axis=2).sum())
    return (texels_of(np.where(wrong, np.float32(0.0), linear)), count) if count else (texels, 0)


def textures_of(scene: Scene) -> Iterator[tuple[Texture, str]]:
    """Every texture once, with its owner."""
    seen: set[int] = set()
    owners: list[Light | Surface] = [*scene.lights, *scene.surfaces]
    for owner in owners:
        for field in fields(owner):
            value = getattr(owner, field.name)
            texture = value.texture if isinstance(value, TextureUse) else value
            if isinstance(texture, Texture) and id(texture) not in seen:
                seen.add(id(texture))
                yield texture, f"the {'light' if isinstance(owner, Light) else 'material'} {owner.name[:120]}"
