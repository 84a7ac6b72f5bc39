"""The filtered version of a picture: made once, and stored beside it."""

from pathlib import Path
from typing import Any

import numpy as np

from ..core.pictures.exr import read_exr
from ..core.render.filter import SMEARED, filter_noise
from ..store import files


def kept_filtered(data: Path, digest: str) -> dict[str, Any]:
    """The filtered picture, stored or made now: image and smear, smeared share, the number of the object with most of it, or -1; the filter's name;
    the error of each pixel and its level, if known. Raises InputError if the picture lacks passes that the filter needs."""
    path = files.filtered_path(data, digest)
    if not path.is_file():
        picture = read_exr(files.picture_path(data, digest))
        filtered = filter_noise(picture.passes)
        numbers = picture.passes["object"][filtered.smear > SMEARED, 0].astype(int) if "object" in picture.passes else np.zeros(0, int)
        most = int(np.bincount(numbers[numbers >= 0]).argmax()) if (numbers >= 0).any() else -1
        path.parent.mkdir(parents=True, exist_ok=True)
        beside = path.with_name(f".{path.name}")
        with open(beside, "wb") as file:
            errors: dict[str, Any] = {} if filtered.error is None else {"error": filtered.error.astype(np.float16), "level": filtered.level}
            image, smear = (plane.astype(np.float16) for plane in (filtered.image, filtered.smear))
            np.savez(file, image=image, smear=smear, smeared=filtered.smeared, most=most, by=filtered.by, **errors)
        beside.replace(path)
    return dict(np.load(path))
