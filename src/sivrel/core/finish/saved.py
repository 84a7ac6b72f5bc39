"""Finished pictures as files to look at: PNG and JPEG with 8 bits a channel, TIFF with 16."""

import io

import numpy as np
from PIL import Image

from ..errors import InputError
from .view import to_bytes

KINDS = {"png": "image/png", "jpg": "image/jpeg", "tif": "image/tiff"}
"""Kinds by the ending of a file's name, with their media types."""
ENDINGS = {**{kind: kind for kind in KINDS}, "jpeg": "jpg", "tiff": "tif"}
QUALITY = 95
"""Of a JPEG, without subsampling of colour."""


def kind_of(ending: str) -> str:
    """The kind of an ending with or without its dot. Raises InputError."""
    kind = ENDINGS.get(ending.lower().lstrip("."))
    if kind is None:
        raise InputError(f"A finished picture is a PNG, a JPEG or a TIFF; “{ending}” is none of these: use .png, .jpg or .tif.")
    return kind


def encoded(display: np.ndarray, kind: str) -> bytes:
    """A file of display values float [rows, columns, 3] in [0, 1]."""
    body = io.BytesIO()
    if kind == "tif":
        import tifffile

        tifffile.imwrite(body, (display * 65535.0 + 0.5).astype(np.uint16), photometric="rgb", compression="zlib", metadata=None)
    elif kind == "jpg":
        Image.fromarray(to_bytes(display)).save(body, "JPEG", quality=QUALITY, subsampling=0)
    else:
        Image.fromarray(to_bytes(display)).save(body, "PNG")
    return body.getvalue()
