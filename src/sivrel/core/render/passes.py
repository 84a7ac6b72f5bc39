"""The passes of a finished film, by name, as in an EXR and on the bench."""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from scipy.ndimage import uniform_filter

from ..lights.direct import REACHING, UNHINDERED
from ..scene.arrays import PART_FIRST, PART_OBJECT, SceneArrays
from ..scene.model import Camera
from ..scene.triangles import corners_at, objects_at, placed_corners, surface_rows_at
from ..trace.placements import Placements, are_same
from . import film as columns
from .film import camera_array

PASSES: dict[str, Sequence[str]] = {
    "direct": "RGB",
    "indirect": "RGB",
    "emission": "RGB",
    "diffuse": "RGB",
    "gloss": "RGB",
    "glass": "RGB",
    "occlusion": "Y",
    "albedo": "RGB",
    "normal": "XYZ",
    "position": "XYZ",
    "depth": "Z",
    "motion": "XY",
    "motion_back": "XY",
    "object": "N",
    "surface": "N",
    "variance": "RGB",
    "samples": "N",
    "half": ("R", "G", "B", "N"),
    "fireflies": ("luminance", "kind"),
    "texels": "Y",
    "served": "Y",
    "clamped": "Y",
    "beyond": ("diffuse", "mirror", "glass", "total"),
    "ended_in_glass": "Y",
    "self_hits": "Y",
    "filtered": "RGB",
    "guide_albedo": "RGB",
    "guide_normal": "XYZ",
    "smeared": "Y",
    "filter_error": "Y",
}
"""The channels of each pass.

beauty = direct + indirect = emission + diffuse + gloss + glass, by how light was found, and by what scattered it first; direct light is the sum
of the light passes. occlusion: share of the rays that hit nothing near. Depth is the distance along the view axis in metres, infinite where there
is no surface. position (metres), object and surface (numbers, -1 for none), motion and motion_back (pixels to where the point is in the next
frame, and was in the one before, right and down) are those of the first sample, unblended. variance is that of the pixel's mean. fireflies: the
greatest single find and its kind of path (see `kind_in_words`). texels: those of the coarsest depth map across the pixel, infinite where no map
serves. served: share of the lookups that a cache of bounced light had an answer for, infinite where none was asked; the rest was traced. clamped
and beyond are luminances, see core.measure.meters; ended_in_glass: paths a sample that the limit of glass ended, and self_hits the rays a sample
that met the triangle they left. half: the mean of every second sample, and how many these are. guide_albedo and guide_normal: those of the first
surface that is neither glass nor a mirror, for the noise filter. filtered, smeared and filter_error: see core.render.filter."""
OPTIONAL = ("clamped", "beyond", "ended_in_glass", "self_hits", "glass", "gloss")
"""Passes that are left out if they are black."""
LIGHT, SHADOW, NOISE, FILTERED, MATTE = "light.", "shadow.", "noise.", "filtered.", "matte."
"""Prefixes. MATTE: see core.pictures.mattes. FILTERED: of passes for compositing without grain (`core.render.filter.filter_passes`). The others are
of passes of each light: its direct light, R G B; the unshadowed share of it, Y; and, for each source, its part of the variance of the pixel's
mean luminance, Y, averaged over a neighbourhood (only few samples are paired to measure it)."""
NOISE_CAMERA, NOISE_WITHIN = "noise.camera", "noise.within"
"""The variance of the mean luminance caused by the camera rays, and the rest with them held fixed."""
NOISE_BOUNCED = ("noise.bounced", "noise.gloss", "noise.glass")
NEIGHBOURHOOD = 9
SCATTERED = ("", "diffuse", "gloss", "glass")
FOUND = ("a light aimed at", "a light met by chance", "a glow met by chance")


def channels_of(name: str) -> Sequence[str]:
    """The names of a pass's channels."""
    if name == "beauty":
        return "RGBA"
    if name.startswith((LIGHT, SHADOW, NOISE, FILTERED, MATTE)):
        return "RGB" if name.startswith((LIGHT, FILTERED)) else "Y"
    return PASSES[name]


def layer_of(light: str) -> str:
    """A light's name as part of a layer's name, without the dots and slashes that would split it."""
    return light.strip("/").replace("/", "_").replace(".", "_")


def kind_in_words(kind: float) -> str:
    """A firefly's kind of path in words: its scatterings from the camera on, and how light was found at its end."""
    path, how = divmod(int(kind), 3)
    digits: list[str] = []
    while path:
        path, digit = divmod(path, 4)
        digits.insert(0, SCATTERED[digit])
    return " → ".join([*digits, FOUND[how]])


def film_passes(film: np.ndarray, lights: list[str], arrays: SceneArrays | None = None) -> dict[str, np.ndarray]:
    """Passes by name from a film whose light passes are those of `lights`; with `arrays`, those of position and surface too."""

    def part(first: int, count: int) -> np.ndarray:
        return film[..., first : first + count]

    light = columns.film_beauty(film)
    asked = part(columns.ASKED, 1)
    scattered = [part(columns.PARTS + 3 * k, 3) for k in range(3)]
    passes = {
        "beauty": np.concatenate([light, part(columns.ALPHA, 1)], axis=2),
        "direct": part(columns.DIRECT, 3),
        "indirect": part(columns.INDIRECT, 3),
        "emission": np.maximum(light - scattered[0] - scattered[1] - scattered[2], 0.0),
        "diffuse": scattered[0],
        "gloss": scattered[1],
        "glass": scattered[2],
        "occlusion": part(columns.OCCLUSION, 1),
        "albedo": part(columns.ALBEDO, 3),
        "normal": part(columns.NORMAL, 3),
        "depth": part(columns.DEPTH, 1),
        "variance": part(columns.VARIANCE, 3),
        "samples": part(columns.SAMPLES, 1),
        "fireflies": part(columns.BRIGHTEST, 2),
        "texels": part(columns.TEXELS, 1),
        "served": np.where(asked > 0.0, part(columns.SERVED, 1) / np.maximum(asked, 1e-30), np.inf),
        "clamped": part(columns.CLAMPED, 1),
        "beyond": part(columns.LEFT, 4),
        "ended_in_glass": part(columns.ENDED_IN_GLASS, 1),
        "self_hits": part(columns.SELF_HITS, 1),
        NOISE_CAMERA: _spread(part(columns.BETWEEN, 1)),
        NOISE_WITHIN: _spread(part(columns.WITHIN, 1)),
    }
    if arrays is not None:
        passes |= _of_first_samples(film, arrays)
    for name in ("texels", "served"):
        if not np.isfinite(passes[name]).any():
            del passes[name]
    odd = part(columns.HALF_COUNT, 1)
    taken = passes["samples"] > 0.0  # of a picture of which only boxes were rendered
    if taken.any() and (odd[taken] > 0.0).all():
        number = np.rint(odd * (passes["samples"] - part(columns.DROPPED, 1)))
        passes["half"] = np.concatenate([part(columns.HALF, 3) / np.where(taken, odd, 1.0), number], axis=2).astype(np.float32)
    guides = columns.guides_in(film)
    if not np.allclose(guides[1], passes["normal"], atol=1e-3):
        passes |= {"guide_albedo": guides[0], "guide_normal": guides[1]}
    if (passes["occlusion"] == 1.0).all():
        del passes["occlusion"]
    for name in OPTIONAL:
        if not passes[name].any():
            del passes[name]
    for k, name in enumerate(NOISE_BOUNCED):
        if part(columns.WITHIN_BOUNCED + k, 1).any():
            passes[name] = _spread(part(columns.WITHIN_BOUNCED + k, 1))
    for slot, light_name in enumerate(lights):
        own = part(columns.FILM_COLUMNS + slot * columns.PASS_COLUMNS, columns.PASS_COLUMNS)
        if own[..., :3].any() or own[..., UNHINDERED].any():
            passes[LIGHT + layer_of(light_name)] = own[..., :3]
        if own[..., UNHINDERED].any():
            unhindered = own[..., UNHINDERED : UNHINDERED + 1]
            passes[SHADOW + layer_of(light_name)] = np.where(unhindered > 0.0, own[..., REACHING : REACHING + 1] / np.maximum(unhindered, 1e-30), 1.0)
        if own[..., columns.WITHIN_LIGHT].any():
            passes[NOISE + LIGHT + layer_of(light_name)] = _spread(own[..., columns.WITHIN_LIGHT :])
    return passes


def _spread(plane: np.ndarray) -> np.ndarray:
    """A plane averaged over a neighbourhood; its sum is preserved."""
    return uniform_filter(plane, (NEIGHBOURHOOD, NEIGHBOURHOOD, 1), mode="reflect")


def _of_first_samples(film: np.ndarray, arrays: SceneArrays) -> dict[str, np.ndarray]:
    triangle = columns.triangles_in(film)
    there = triangle >= 0
    at = np.where(there, triangle, 0)
    position = np.where(there[..., None], _mixed(film, corners_at(arrays, at)), 0.0)
    objects = np.where(there, objects_at(arrays, at).astype(np.float32), -1.0)
    # Each surface is in the arrays twice: emitting from its front, and from both faces.
    surfaces = np.where(there, (surface_rows_at(arrays, at) // 2).astype(np.float32), -1.0)
    return {"position": position.astype(np.float32), "object": objects[..., None], "surface": surfaces[..., None]}


def _mixed(film: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """float64 [rows, columns, 3]: positions of the first samples' hits on triangles [rows, columns, 3, 3]."""
    b1, b2 = (film[..., columns.WEIGHTS + k, None].astype(np.float64) for k in range(2))
    return corners[..., 0, :] * (1.0 - b1 - b2) + corners[..., 1, :] * b1 + corners[..., 2, :] * b2


class Placed(NamedTuple):
    """Where a shot's surfaces are at one frame: points and corners, `standing` and parts as in `SceneArrays`, the placements, and the camera."""

    points: np.ndarray
    corners: np.ndarray
    standing: int
    parts: np.ndarray
    placements: Placements
    camera: Camera

    def at(self, film: np.ndarray) -> np.ndarray:
        """float64 [rows, columns, 3]: positions of the first samples' hits."""
        return _mixed(film, placed_corners(self.points, self.corners, self.standing, self.placements, np.maximum(columns.triangles_in(film), 0)))

    def is_like(self, other: "Placed") -> bool:
        """Whether the triangles of two frames are the same ones."""
        return (
            self.corners.shape == other.corners.shape
            and self.standing == other.standing
            and np.array_equal(self.parts[:, [PART_FIRST, PART_OBJECT]], other.parts[:, [PART_FIRST, PART_OBJECT]])
            and are_same(self.placements, other.placements, in_place=False)
        )


def motion_pass(film: np.ndarray, now: Placed, then: Placed, size: tuple[int, int]) -> np.ndarray | None:
    """float32 [rows, columns, 2]: motion in pixels, right and down, of the first samples' hits from the frame `now` to the frame `then`. None if the
    two differ in their triangles."""
    if not now.is_like(then):
        return None
    here, there = on_screen(now.at(film), now.camera, size), on_screen(then.at(film), then.camera, size)
    return np.where(film[..., columns.TRIANGLE, None] >= 0, there - here, 0.0).astype(np.float32)


def on_screen(points: np.ndarray, camera: Camera, size: tuple[int, int]) -> np.ndarray:
    """Pixels from the left and from the top of world points [..., 3]."""
    eye = camera_array(camera, *size)
    v = points - eye[3]
    x, y, along = v @ eye[0], v @ eye[1], -(v @ eye[2])
    if not camera.orthographic:
        depth = np.where(np.abs(along) > 1e-9, along, 1e-9)
        x, y = x / depth, y / depth
    fx, fy = x / eye[4, 0] - eye[5, 0], y / eye[4, 1] - eye[5, 1]
    return np.stack([(fx + 1.0) / 2.0 * size[0], (1.0 - fy) / 2.0 * size[1]], axis=-1)
