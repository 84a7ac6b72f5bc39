"""The filtered version of a picture: made once, and stored beside it."""

from pathlib import Path
from typing import Any

import numpy as np

from ..core.errors import InputError
from ..core.pictures.exr import read_exr
from ..core.render.filter import SMEARED, filter_noise
from ..store import files


def kept_filtered(data: Path, digest: str) -> dict[str, Any]:
    """The filtered picture, stored or made now: image and smear, smeared share, and the number of the object with most of it,
    or -1. Raises InputError if the picture lacks passes that the filter needs."""
    path = files.filtered_path(data, digest)
    if not path.is_file():
        picture = read_exr(files.picture_path(data, digest))
        try:
            filtered = filter_noise(picture.passes)
        except KeyError as error:
            raise InputError(f"This proof was stored without its pass {error}, which the filter needs; prove it again.") from None
        numbers = picture.passes["object"][filtered.smear > SMEARED, 0].astype(int)
        most = int(np.bincount(numbers[numbers >= 0]).argmax()) if (numbers >= 0).any() else -1
        path.parent.mkdir(parents=True, exist_ok=True)
        beside = path.with_name(f".{path.name}")
        with open(beside, "wb") as file:
            np.savez(file, image=filtered.image.astype(np.float16), smear=filtered.smear.astype(np.float16), smeared=filtered.smeared, most=most)
        beside.replace(path)
    return dict(np.load(path))
