"""Motion blur: what moves while the shutter is open.

The camera moves on without steps: every sample has a moment of its own (Cook, Porter & Carpenter 1984, "Distributed Ray Tracing"). Everything else,
objects, lights and their depth maps, is made ready at the middle of equal spans of the shutter's time, so many that nothing moves farther on the
screen in one of them than STEP pixels, half the width of the pixel filter. Where a recipe allows fewer, its steps may show; their width is said.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from ..caches import hash_of
from ..scene.arrays import SceneArrays
from ..scene.model import Camera, Light, Scene
from ..scene.placed_mesh import moves
from .film import camera_array
from .groups import MotionSettings

STEP = 1.0
"""Pixels by which things may move in one span."""
MOST_TURN = 3.0
"""Degrees by which the camera may turn in one span: its axes go straight from one to the next."""
OF_LIGHTS = 4
"""Spans at least where a light moves: its shadows move faster than it does."""
USUAL = 0.5
"""Share of a frame for which the shutter is open where nothing else is said: 180 degrees of a turning one."""


class Span(NamedTuple):
    """A part of the shutter's time: the scene, and the camera at its beginning and its end."""

    scene: SceneArrays
    opening: Camera
    closing: Camera


@dataclass(frozen=True)
class Motion:
    """What moves between two moments: names of objects and lights, the farthest way on the screen in pixels, and the camera's turn in degrees."""

    objects: tuple[str, ...] = ()
    lights: tuple[str, ...] = ()
    pixels: float = 0.0
    turn: float = 0.0
    camera: bool = False

    @property
    def of_scene(self) -> bool:
        """Whether anything but the camera moves."""
        return bool(self.objects or self.lights)

    @property
    def any(self) -> bool:
        return self.camera or self.of_scene

    def spans(self, most: int) -> int:
        """Into how many spans the time is cut, at most `most`."""
        wanted = math.ceil(self.turn / MOST_TURN)
        if self.of_scene:
            wanted = max(wanted, 2, math.ceil(self.pixels / STEP), OF_LIGHTS if self.lights else 0)
        return max(1, min(wanted, most))


def open_time(camera: Camera, wanted: MotionSettings) -> tuple[float, float]:
    """When the shutter opens and closes, in frames from the frame's own time: as the recipe says, else the camera, else USUAL."""
    if wanted.shutter > 0.0:
        return 0.0, wanted.shutter
    return camera.shutter if camera.shutter[1] > camera.shutter[0] else (0.0, USUAL)


def motion_between(first: Scene, last: Scene, camera: str, size: tuple[int, int]) -> Motion | None:
    """What moves between two moments of a shot; None where they do not have the same triangles and lights, so that it can't be said."""
    lights = {light.name: light for light in first.lights}
    if [mesh.count for mesh in first.meshes] != [mesh.count for mesh in last.meshes] or list(lights) != [x.name for x in last.lights]:
        return None
    eye, other = first.camera(camera), last.camera(camera)
    moved, shifted, farthest = [], [], 0.0
    for a, b in zip(first.meshes, last.meshes, strict=True):
        if moves(a, b):
            moved.append(a.name)
            farthest = max(farthest, _on_screen(a.vertices, b.vertices, eye, size))
    for after in last.lights:
        before = lights[after.name]
        if _state(before) != _state(after):
            shifted.append(after.name)
            farthest = max(farthest, _on_screen(np.array([[before.position] * 3]), np.array([[after.position] * 3]), eye, size))
    cosine = float(np.clip((np.trace(eye.to_world[:, :3].T @ other.to_world[:, :3]) - 1.0) / 2.0, -1.0, 1.0))
    still = np.array_equal(camera_array(eye, *size), camera_array(other, *size))
    return Motion(tuple(moved), tuple(shifted), farthest, math.degrees(math.acos(cosine)), not still)


def _state(light: Light) -> str:
    return hash_of(repr(light))


def _on_screen(before: np.ndarray, after: np.ndarray, camera: Camera, size: tuple[int, int]) -> float:
    """The farthest way on the camera's screen, in pixels, of the corners of triangles [n, 3, 3] that reach into the picture at either time."""
    eye = camera_array(camera, *size)
    at, ahead, inside = [], [], np.zeros(len(before), bool)
    for corners in (before, after):
        v = corners.astype(np.float64) - eye[3]
        x, y, along = v @ eye[0], v @ eye[1], -(v @ eye[2])
        depth = np.ones_like(along) if camera.orthographic else np.maximum(along, 1e-6)
        places = np.stack([x / depth / eye[4, 0] - eye[5, 0], y / depth / eye[4, 1] - eye[5, 1]], axis=-1)
        inside |= (along > 0.0).any(axis=1) & (places.min(axis=1) < 1.0).all(axis=-1) & (places.max(axis=1) > -1.0).all(axis=-1)
        at.append(places)
        ahead.append(along > 0.0)
    counted = inside[:, None] & ahead[0] & ahead[1]
    ways = np.hypot(*((at[1] - at[0]) * np.array(size) / 2.0)[counted].T)
    return float(ways.max(initial=0.0).clip(0.0, max(size)))


def between(a: Camera, b: Camera) -> Camera:
    """The camera halfway from one to another."""
    return replace(
        b, to_world=(a.to_world + b.to_world) / 2.0, half_width=(a.half_width + b.half_width) / 2.0,
        shift=((a.shift[0] + b.shift[0]) / 2.0, (a.shift[1] + b.shift[1]) / 2.0), lens_radius=(a.lens_radius + b.lens_radius) / 2.0,
        focus=(a.focus + b.focus) / 2.0,
    )  # fmt: skip


def spans_of(
    opens: float, closes: float, count: int, arrays: SceneArrays, ends: tuple[Camera, Camera],
    at: Callable[[float], tuple[SceneArrays | None, Camera]],
) -> list[Span]:  # fmt: skip
    """The spans of a shutter's time. ends: the camera as it opens and closes; at: the scene at a time code, None for `arrays` where only the camera
    moves, and the camera."""
    if count == 1:
        return [Span(arrays, *ends)]
    middles = [at(opens + (closes - opens) * (k + 0.5) / count) for k in range(count)]
    borders = [ends[0], *(between(a[1], b[1]) for a, b in zip(middles, middles[1:], strict=False)), ends[1]]
    return [Span(scene if scene is not None else arrays, borders[k], borders[k + 1]) for k, (scene, _) in enumerate(middles)]


def blur_in_words(motion: Motion | None, opens: float, closes: float, count: int) -> str:
    """A sentence on the blur of a frame."""
    time = f"The shutter is open from {opens:.2g} to {closes:.2g} of a frame"
    if motion is None:
        return f"{time}, but what is in the scene changes meanwhile (triangles or lights come or go): nothing is blurred."
    parts = [*(["the camera"] if motion.camera else []), *_counted(motion.objects, "object"), *_counted(motion.lights, "light")]
    if not parts:
        return f"{time}; nothing moves meanwhile."
    verb = "moves" if len(parts) == 1 and (motion.camera or len(motion.objects) + len(motion.lights) == 1) else "move"
    width = f" of {motion.pixels / count:.2g} px at most" if motion.pixels >= 0.1 else ""
    steps = "" if not motion.of_scene else f", in {count} steps{width}"
    return f"{time}: {' and '.join(parts)} {verb}{steps}."


def _counted(names: tuple[str, ...], what: str) -> list[str]:
    return [] if not names else [f"1 {what}"] if len(names) == 1 else [f"{len(names)} {what}s"]
