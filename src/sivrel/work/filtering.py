"""The filtered version of a picture: made once, and stored beside it."""

import threading
from pathlib import Path
from typing import Any

import numpy as np

from ..core.pictures.exr import read_exr, save_exr
from ..core.render.filter import SMEARED, Filtered, filter_noise, filter_passes
from ..core.whole_file import whole_file
from ..store import files

FILTERING = threading.Lock()
"""Held while one picture is filtered: two at once would take as long each, and may be of the same."""


def kept_filtered(data: Path, digest: str) -> dict[str, Any]:
    """The filtered picture, stored or made now: image; smear, smeared share, and the number of the object with most of it, or -1; the filter's name;
    the error of each pixel and its level; each if known. Raises InputError if the picture lacks passes that the filter needs."""
    path = files.filtered_path(data, digest)
    with FILTERING:
        if not path.is_file():
            picture = read_exr(files.picture_path(data, digest))
            filtered, most = filter_noise(picture.passes), -1
            if "object" in picture.passes and filtered.smear is not None:
                where = picture.passes["object"][filtered.smear > SMEARED, 0].astype(int)
                most = int(np.bincount(where[where >= 0]).argmax()) if (where >= 0).any() else -1
            _keep(path, filtered, most)
    return dict(np.load(path))


def _keep(path: Path, filtered: Filtered, most: int) -> None:
    known = {"smear": filtered.smear, "error": filtered.error}
    planes: dict[str, Any] = {name: plane.astype(np.float16) for name, plane in known.items() if plane is not None}
    numbers: dict[str, Any] = {name: value for name, value in (("smeared", filtered.smeared), ("level", filtered.level)) if value is not None}
    path.parent.mkdir(parents=True, exist_ok=True)
    with whole_file(path) as beside, open(beside, "wb") as file:
        np.savez(file, image=filtered.image.astype(np.float16), most=most, by=filtered.by, **planes, **numbers)


def keep_filtered_exr(data: Path, digest: str) -> None:
    """Store the picture with its passes for compositing filtered, as EXR beside the filtered picture."""
    image, path = kept_filtered(data, digest)["image"].astype(np.float32), files.filtered_exr_path(data, digest)
    with FILTERING:
        if not path.is_file():
            picture = read_exr(files.picture_path(data, digest))
            picture.passes |= {"filtered": image} | (filter_passes(picture.passes) if "direct" in picture.passes else {})
            save_exr(path, picture)
