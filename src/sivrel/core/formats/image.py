"""Images in: PNG, JPEG and the like through Pillow, EXR through OpenEXR, HDR; always linear, always four channels."""

import io
import tempfile
from pathlib import Path

import numpy as np

from ..errors import InputError
from . import hdr
from .hdr import MOST_PIXELS

FORMATS = ("PNG", "JPEG", "TIFF", "BMP", "TGA")
"""Formats that Pillow may read; it has some forty more, which scenes do not need."""
EXR_MAGIC = b"\x76\x2f\x31\x01"


def srgb_to_linear(encoded: np.ndarray) -> np.ndarray:
    """Linear values of sRGB-encoded ones in [0, 1] (IEC 61966-2-1)."""
    return np.where(encoded <= 0.04045, encoded / 12.92, ((encoded + 0.055) / 1.055) ** 2.4)


def read_image(data: bytes, name: str, encoding: str = "auto", most: int = MOST_PIXELS) -> np.ndarray:
    """Texels float32 [height, width, 4] of the image file `data`.

    encoding: "sRGB" decodes, "raw" keeps the numbers, "auto" decodes 8-bit colour images (UsdUVTexture,
    sourceColorSpace). most: limit on its pixels. Raises InputError, naming the file `name`.
    """
    if data[:4] == EXR_MAGIC:
        return _read_exr(data, name)
    if data[:2] == hdr.MAGIC:
        return hdr.read_hdr(data, name)
    from PIL import Image

    try:
        with Image.open(io.BytesIO(data), formats=FORMATS) as image:
            if image.width * image.height > most:
                raise InputError(f"The image {name} is {image.width} x {image.height} pixels; scale it down to {most >> 20} million pixels or fewer.")
            deep = image.mode.startswith("I") or image.mode == "F"
            grey = image.mode in ("L", "LA", "1") or deep
            decodes = encoding == "sRGB" or (encoding == "auto" and not grey)
            if deep:
                plane = np.asarray(image, np.float32) / np.float32(65535.0 if image.mode != "F" else 1.0)
                pixels = np.repeat((srgb_to_linear(plane) if decodes else plane)[..., None], 4, axis=2).astype(np.float32)
                pixels[..., 3] = 1.0
            else:
                # Through a table of the 256 values, to decode large pictures in little extra memory.
                levels = np.arange(256, dtype=np.float32) / np.float32(255.0)
                coded = np.asarray(image.convert("RGBA"))
                pixels = levels[coded]
                if decodes:
                    pixels[..., :3] = srgb_to_linear(levels).astype(np.float32)[coded[..., :3]]
    except InputError:
        raise
    except Image.DecompressionBombError:
        raise InputError(f"The image {name} has more than {most >> 20} million pixels; scale it down.") from None
    except MemoryError:
        raise
    except Exception:
        raise InputError(f"The image {name} can't be read; give a PNG, a JPEG, an EXR or an HDR file.") from None
    return pixels


def _read_exr(data: bytes, name: str) -> np.ndarray:
    from .exr_file import open_exr  # imported here, since the library loads slowly

    with tempfile.TemporaryDirectory() as folder:  # the library reads from paths alone
        path = Path(folder) / "texture.exr"
        path.write_bytes(data)
        _, planes = open_exr(path, f"The image {name}")
    first = planes.get("R", planes.get("Y"))
    if first is None:
        raise InputError(f"The image {name} has neither channel R nor channel Y.")
    green, blue = planes.get("G", first), planes.get("B", first)
    return np.stack([first, green, blue, planes.get("A", np.ones_like(first))], axis=2)
