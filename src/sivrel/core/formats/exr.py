"""OpenEXR out and in: beauty as R G B A, passes as layers, recipe and frame in the header."""

import json
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import OpenEXR

from ... import __version__
from ..errors import InputError
from ..render.frame import Frame
from ..render.passes import LIGHT, NOISE, PASSES, SHADOW, channels_of
from ..render.recipe import Recipe, from_json, to_json
from ..scene import edits as scene_edits
from ..scene.edits import Edits

LARGEST_HALF = 65504.0


@dataclass
class Picture:
    """A picture with passes as it lies in a file.

    passes: float32 [rows, columns, channels] by name; "beauty" has R G B A
    recipe, shot, camera, version: None where the file was not written by this program
    objects: names by the numbers of the pass “object”, as far as the file tells them
    """

    passes: dict[str, np.ndarray]
    frame: Frame
    recipe: Recipe | None = None
    shot: str | None = None
    camera: str | None = None
    version: str | None = None
    edits: Edits | None = None
    objects: list[str] = field(default_factory=list)

    @property
    def beauty(self) -> np.ndarray:
        return self.passes["beauty"]


def write_exr(path: Path, picture: Picture, *, half: bool = False) -> None:
    """Write `picture` to `path`, 32-bit floats (16 with `half`), ZIP. The same picture gives the same bytes: the header
    tells the recipe, and no times and no machine."""
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
        "sivrelShot": json.dumps({"shot": picture.shot, "camera": picture.camera, "seed": picture.frame.seed}),
        "sivrelObjects": json.dumps(picture.objects),
    }
    channels = {}
    for name, image in picture.passes.items():
        for k, letter in enumerate(channels_of(name)):
            channel = letter if name == "beauty" else f"{name}.{letter}"
            plane = image[..., k]
            if half:  # what is finite stays so
                plane = np.where(np.isfinite(plane), np.clip(plane, -LARGEST_HALF, LARGEST_HALF), plane)
            channels[channel] = np.ascontiguousarray(plane, depth)
    try:
        OpenEXR.File(header, channels).write(str(path))
    except RuntimeError:
        raise InputError(f"The picture can't be written to {path}; check that the folder exists and is writable.") from None


def read_exr(path: Path) -> Picture:
    """Read a picture; passes that this program does not know are left out. Raises InputError."""
    if not path.is_file():
        raise InputError(f"There is no picture {path}; check the name.")
    try:
        file = OpenEXR.File(str(path), separate_channels=True)
        header, channels = file.header(), file.channels()
        planes = {name: channel.pixels.astype(np.float32) for name, channel in channels.items()}
    except Exception:
        raise InputError(f"{path} is not an OpenEXR picture, or it is damaged.") from None
    if not {"R", "G", "B"} <= planes.keys():
        raise InputError(f"{path} has no channels R, G and B; give a picture with a beauty pass.")
    passes = {"beauty": np.stack([planes.get(c, np.ones_like(planes["R"])) for c in "RGBA"], axis=2)}
    layers = {channel.rpartition(".")[0] for channel in planes}
    for name in [*PASSES, *sorted(layer for layer in layers if layer.startswith((LIGHT, SHADOW, NOISE)))]:
        letters = channels_of(name)
        if all(f"{name}.{letter}" in planes for letter in letters):
            passes[name] = np.stack([planes[f"{name}.{letter}"] for letter in letters], axis=2)
    origin, size = header["displayWindow"][0], header["displayWindow"][1] - header["displayWindow"][0] + 1
    low, high = header["dataWindow"][0] - origin, header["dataWindow"][1] - origin + 1
    whole = tuple(low) == (0, 0) and tuple(high) == tuple(size)
    about = json.loads(header["sivrelShot"]) if "sivrelShot" in header else {}
    try:
        region = None if whole else (int(low[0]), int(low[1]), int(high[0]), int(high[1]))
        frame = Frame(int(size[0]), int(size[1]), region, int(about.get("seed", 0)))
    except InputError:
        raise InputError(f"{path} has a data window outside its display window; crop it first.") from None
    return Picture(
        passes,
        frame,
        from_json(header["sivrelRecipe"]) if "sivrelRecipe" in header else None,
        about.get("shot"),
        about.get("camera"),
        header.get("sivrelVersion"),
        scene_edits.from_json(header["sivrelEdits"]) if "sivrelEdits" in header else None,
        list(json.loads(header.get("sivrelObjects", "[]"))),
    )
