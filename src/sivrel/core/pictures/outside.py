"""Pictures from other programs: an EXR with passes under commonly used names, or a PNG."""

from pathlib import Path

import numpy as np

from ..errors import InputError
from ..formats.exr_file import open_exr
from ..formats.image import read_image
from ..render.frame import Frame
from .exr import Picture, read_exr

SUFFIXES = (".exr", ".png", ".hdr", ".jpg", ".jpeg", ".tif", ".tiff")
NAMES = {
    "albedo": ("albedo", "diffusealbedo", "basecolor", "basecolour", "diffusefilter", "diffcol"),
    "normal": ("normal", "normals", "n", "worldnormal", "shadingnormal"),
    "depth": ("depth", "z", "zdepth"),
    "position": ("position", "p", "worldposition", "pworld"),
    "emission": ("emission", "emit", "selfillumination"),
    "direct": ("direct", "directlight", "directlighting", "directdiffuse"),
    "indirect": ("indirect", "gi", "globalillumination", "indirectlight", "indirectdiffuse"),
    "variance": ("variance", "beautyvariance"),
    "samples": ("samples", "samplecount"),
    "object": ("object", "objectid", "id"),
}
"""Common names of passes, without capitals, spaces, digits and signs, by our names."""
BEAUTY = ("", "beauty", "rgba", "rgb", "combined", "color", "colour", "final", "main")
LETTERS = ("RGB", "rgb", "XYZ", "xyz")
SINGLE = ("Z", "z", "Y", "V", "N", "R", "X", "A", "")
LEAST_SIDE = 16
MOST_PIXELS = 1 << 25
"""An 8K frame. Judging a picture needs a dozen planes of its size."""


def read_outside(path: Path) -> Picture:
    """A picture with its passes; with its recipe if this program wrote it. Raises InputError."""
    if path.suffix.lower() not in SUFFIXES:
        raise InputError(f"{path.name} can't be diagnosed; give an EXR, with its passes if there are any, or a PNG.")
    if not path.is_file():
        raise InputError(f"There is no picture {path}; check the name.")
    if path.suffix.lower() != ".exr":
        texels = read_image(path.read_bytes(), path.name, most=MOST_PIXELS)
        return _of(path, {"beauty": texels})
    layers = _layers(path)
    if layers is None:
        return read_exr(path)
    return _of(path, layers)


def _of(path: Path, passes: dict[str, np.ndarray]) -> Picture:
    rows, columns = passes["beauty"].shape[:2]
    if min(rows, columns) < LEAST_SIDE:
        raise InputError(f"{path.name} is {columns} x {rows} pixels; give a picture of at least {LEAST_SIDE} pixels a side.")
    return Picture(passes, Frame(columns, rows))


def _layers(path: Path) -> dict[str, np.ndarray] | None:
    """Passes of an EXR by our names; None if this program wrote it. Raises InputError."""
    header, planes = open_exr(path, path.name, parts=True)
    if "sivrelRecipe" in header:
        return None
    found: dict[str, np.ndarray] = {}
    layers: dict[str, list[str]] = {}
    for name in planes:
        layer, _, letter = name.rpartition(".")
        layers.setdefault(layer, []).append(letter)
    for layer, letters in layers.items():
        colour = _colour(planes, layer, letters)
        plain = _plain(layer)
        if plain in BEAUTY and colour is not None and ("beauty" not in found or plain == ""):
            alpha = planes.get(f"{layer}.A" if layer else "A", np.ones(colour.shape[:2], np.float32))
            found["beauty"] = np.dstack([colour, alpha])
        for ours, names in NAMES.items():
            if plain in names or (layer == "" and any(_plain(letter) in names for letter in letters)):
                single = next((planes[f"{layer}.{s}".strip(".")] for s in (*SINGLE, *letters) if f"{layer}.{s}".strip(".") in planes and layer), None)
                if layer == "":
                    single = next(planes[letter] for letter in letters if _plain(letter) in names)
                    colour_here = None
                else:
                    colour_here = colour
                wanted = 1 if ours in ("depth", "samples", "object") else 3
                if wanted == 3 and colour_here is not None:
                    found[ours] = colour_here
                elif wanted == 1 and single is not None:
                    found[ours] = single[..., None]
    if "beauty" not in found:
        grey = planes.get("Y")
        if grey is None:
            raise InputError(f"{path.name} has no picture in its channels; give an EXR with R, G and B.")
        found["beauty"] = np.dstack([grey, grey, grey, np.ones_like(grey)])
    return found


def _colour(planes: dict[str, np.ndarray], layer: str, letters: list[str]) -> np.ndarray | None:
    for triple in LETTERS:
        if all(letter in letters for letter in triple):
            return np.dstack([planes[f"{layer}.{letter}".strip(".")] for letter in triple])
    return None


def _plain(name: str) -> str:
    return "".join(c for c in name.rsplit(".", 1)[-1].lower() if c.isalpha())
