"""OpenEXR out and in: beauty as R G B A, passes as layers, recipe and frame in the header."""

import errno
import json
import shutil
from collections.abc import Collection
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR

from ... import __version__
from ..edits import edits as scene_edits
from ..edits.edits import Edits
from ..errors import InputError
from ..formats.exr_file import box_of, open_exr, share_work
from ..json_text import parse_json
from ..render.frame import Frame
from ..render.passes import FILTERED, LIGHT, NOISE, PASSES, SHADOW, channels_of
from ..render.recipe import Recipe, from_json, to_json
from ..scene.model import LAST_TIME
from ..whole_file import whole_file

LARGEST_HALF = 65504.0
MOST_STOPS = 100.0
"""Most stops of exposure that a picture's header may set."""


@dataclass
class Picture:
    """A picture with passes, as in a file.

    passes: float32 [rows, columns, channels] by name; "beauty" has R G B A
    recipe, shot, camera, version: None where the file was not written by this program
    exposure: of its camera, in stops; 0 if the file has none
    through: the frames of its sequence, in words, where its caches are theirs
    objects: names by the numbers of the pass “object”, as far as the file has them
    problem: one sentence on why recipe and edits are None although this program wrote the file; empty if there is none
    """

    passes: dict[str, np.ndarray]
    frame: Frame
    recipe: Recipe | None = None
    shot: str | None = None
    camera: str | None = None
    version: str | None = None
    edits: Edits | None = None
    objects: list[str] = field(default_factory=list)
    problem: str = ""
    exposure: float = 0.0
    through: str = ""

    @property
    def beauty(self) -> np.ndarray:
        return self.passes["beauty"]


def write_exr(path: Path, picture: Picture, *, half: bool = False) -> None:
    """Write `picture` to `path`, 32-bit floats (16 with `half`), ZIP. The same picture gives the same bytes: the header
    holds the recipe, but no times and no machine."""
    depth = np.float16 if half else np.float32
    x0, y0, x1, y1 = picture.frame.window
    header = {
        "compression": OpenEXR.ZIP_COMPRESSION,
        "type": OpenEXR.scanlineimage,
        "dataWindow": (np.array([x0, y0], np.int32), np.array([x1 - 1, y1 - 1], np.int32)),
        "displayWindow": (
            np.array([0, 0], np.int32),
            np.array([picture.frame.width - 1, picture.frame.height - 1], np.int32),
        ),
        "sivrelVersion": __version__,
        "sivrelRecipe": to_json(picture.recipe or Recipe()),
        "sivrelEdits": scene_edits.to_json(picture.edits or Edits()),
        "sivrelShot": json.dumps(_about(picture)),
        "sivrelObjects": json.dumps(picture.objects),
    }
    channels = {}
    for name, image in picture.passes.items():
        for k, letter in enumerate(channels_of(name)):
            channel = letter if name == "beauty" else f"{name}.{letter}"
            plane = image[..., k]
            if half:  # finite values stay finite
                plane = np.where(np.isfinite(plane), np.clip(plane, -LARGEST_HALF, LARGEST_HALF), plane)
            channels[channel] = np.ascontiguousarray(plane, depth)
    share_work(sum(plane.size for plane in channels.values()))
    try:
        OpenEXR.File(header, channels).write(str(path))
    except RuntimeError:
        if path.parent.is_dir() and shutil.disk_usage(path.parent).free < sum(plane.nbytes for plane in channels.values()):
            raise OSError(errno.ENOSPC, "There is no room on the disk for the picture", str(path)) from None
        raise InputError(f"The picture can't be written to {path}; check that the folder exists and is writable.") from None


def _about(picture: Picture) -> dict[str, Any]:
    """What the header says besides recipe and edits."""
    about = {"shot": picture.shot, "camera": picture.camera, "seed": picture.frame.seed, "exposure": picture.exposure}
    about |= {"frame": picture.frame.time} if picture.frame.time is not None else {}
    return {**about, "through": picture.through} if picture.through else about


def save_exr(path: Path, picture: Picture) -> None:
    """Write `picture` to `path` in one step: an existing file stays intact until the new one is complete. Raises InputError."""
    if path.suffix.lower() != ".exr":
        raise InputError(f"The picture is written as EXR; name it {path.with_suffix('.exr').name}.")
    with whole_file(path) as beside:
        write_exr(beside, picture)


def read_exr(path: Path, only: Collection[str] | None = None) -> Picture:
    """Read a picture, or only the beauty and some of its passes, which is faster; passes that this program does not know are left out. Raises
    InputError."""
    if not path.is_file():
        raise InputError(f"There is no picture {path}; check the name.")
    header, planes = open_exr(path, str(path))
    if not {"R", "G", "B"} <= planes.keys():
        raise InputError(f"{path} has no channels R, G and B; give a picture with a beauty pass.")
    passes = {"beauty": np.stack([planes.get(c, np.ones_like(planes["R"])) for c in "RGBA"], axis=2)}
    layers = {channel.rpartition(".")[0] for channel in planes}
    for name in [*PASSES, *sorted(layer for layer in layers if layer.startswith((LIGHT, SHADOW, NOISE, FILTERED)))]:
        letters = channels_of(name)
        if (only is None or name in only) and all(f"{name}.{letter}" in planes for letter in letters):
            passes[name] = np.stack([planes[f"{name}.{letter}"] for letter in letters], axis=2)
    return _with_header(Picture(passes, Frame()), header, path)


def _with_header(picture: Picture, header: dict[str, Any], path: Path) -> Picture:
    """The picture with its header: its place in the frame, and how it was made as far as that can be read. Raises InputError."""
    left, top, right, bottom = box_of(header, "dataWindow")
    x0, y0, x1, y1 = box_of(header, "displayWindow")
    region = None if (left, top, right, bottom) == (x0, y0, x1, y1) else (left - x0, top - y0, right - x0, bottom - y0)
    about, objects = _json_of(header, "sivrelShot", {}), _json_of(header, "sivrelObjects", [])
    seed = about.get("seed")
    try:
        picture.frame = Frame(x1 - x0, y1 - y0, region)
    except InputError:
        raise InputError(f"{path} has a data window outside its display window, or one too large; crop it first.") from None
    if isinstance(seed, int) and 0 <= seed < 1 << 32:
        picture.frame = replace(picture.frame, seed=seed)
    time = about.get("frame")
    if isinstance(time, int | float) and abs(time) <= LAST_TIME:  # also false for not-a-number
        picture.frame = replace(picture.frame, time=float(time))
    picture.shot, picture.camera = (about[key] if isinstance(about.get(key), str) else None for key in ("shot", "camera"))
    exposure = about.get("exposure")
    if isinstance(exposure, int | float) and abs(exposure) <= MOST_STOPS:  # also false for not-a-number
        picture.exposure = float(exposure)
    picture.through = str(about.get("through", ""))
    picture.objects = [str(name) for name in objects]
    if "sivrelRecipe" in header:
        picture.version = str(header.get("sivrelVersion", ""))
        try:
            recipe, edits = from_json(str(header["sivrelRecipe"])), scene_edits.from_json(str(header.get("sivrelEdits", "")))
            picture.recipe, picture.edits = recipe, edits
        except InputError as error:
            picture.problem = f"How {path.name} was made can't be read: {error}"
    return picture


def _json_of(header: dict[str, Any], key: str, nothing: Any) -> Any:
    """A part of the header that is JSON of the same type as `nothing`, or `nothing`."""
    try:
        value = parse_json(str(header.get(key, "")), "")
    except InputError:
        return nothing
    return value if isinstance(value, type(nothing)) else nothing
