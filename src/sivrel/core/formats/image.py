"""Images in: PNG, JPEG and the like through Pillow, deep PNG through PyAV, EXR through OpenEXR, HDR; always linear in the end."""

import io
import tempfile
from pathlib import Path

import numpy as np

from ..errors import InputError
from ..scene.texels import LINEAR, RAW, SRGB, Texels, linear_of, texels_of
from . import hdr, texture_files
from .hdr import MOST_PIXELS

FORMATS = ("PNG", "JPEG", "TIFF", "BMP", "TGA")
"""Formats that Pillow may read; it has some forty more, which scenes do not need."""
EXR_MAGIC, PNG_MAGIC = b"\x76\x2f\x31\x01", b"\x89PNG\r\n\x1a\n"


def read_image(data: bytes, name: str, encoding: str = "auto", most: int = MOST_PIXELS) -> np.ndarray:
    """Texels float32 [height, width, 4] of the image file `data`.

    encoding: "sRGB" decodes, "raw" keeps the numbers, "auto" decodes 8-bit colour images (UsdUVTexture, sourceColorSpace); others are names of
    colour spaces, see `colour_spaces`. most: limit on its pixels. Raises InputError, naming the file `name`.
    """
    return linear_of(*_decoded(data, name, encoding, most))


def read_texels(data: bytes, name: str, encoding: str = "auto") -> Texels:
    """The same image as it is stored for textures, with smaller and smaller copies; a large one is decoded once, see `texture_files`."""
    key = texture_files.key_of(data, encoding)
    known = texture_files.stored(key)
    if known is not None:
        return known
    made = texels_of(*_decoded(data, name, encoding, MOST_PIXELS), key)
    return texture_files.store(made) if made.shape[0] * made.shape[1] >= texture_files.LARGE else made


def _decoded(data: bytes, name: str, encoding: str, most: int) -> tuple[np.ndarray, str]:
    """(codes or numbers [height, width, channels], their coding) of an image file."""
    if data[:4] == EXR_MAGIC:
        coded, coding = _read_exr(data, name), LINEAR
    elif data[:2] == hdr.MAGIC:
        coded, coding = hdr.read_hdr(data, name)[..., :3], LINEAR
    else:
        coded = _read_coded(data, name, most)
        coding = LINEAR if coded.dtype == np.float32 else SRGB if coded.dtype == np.uint8 and coded.shape[2] > 2 else RAW
    if encoding in ("auto", SRGB, RAW):
        return coded, coding if encoding == "auto" or coding == LINEAR else encoding
    from .colour_spaces import to_linear

    linear = linear_of(coded, coding if coding == LINEAR else RAW)
    linear[..., :3] = to_linear(linear[..., :3], encoding)
    return linear, LINEAR


def _read_coded(data: bytes, name: str, most: int) -> np.ndarray:
    """uint8, uint16 or float32 [height, width, channels] of a picture in one of the FORMATS."""
    from PIL import Image

    try:
        with Image.open(io.BytesIO(data), formats=FORMATS) as image:
            if image.width * image.height > most:
                raise InputError(f"The image {name} is {image.width} x {image.height} pixels; scale it down to {most >> 20} million pixels or fewer.")
            if image.mode == "F":
                return np.asarray(image, np.float32)[..., None]
            if data[:8] == PNG_MAGIC and data[24] == 16:  # bits of a channel, of which Pillow keeps 8
                return _read_deep(data, image.width * image.height)
            if image.mode.startswith("I"):
                return np.clip(np.asarray(image), 0, 65535).astype(np.uint16)[..., None]
            kept = image if image.mode in ("L", "LA", "RGB", "RGBA") else image.convert("L" if image.mode == "1" else "RGBA")
            coded = np.asarray(kept)
            return coded[..., None] if coded.ndim == 2 else coded
    except InputError:
        raise
    except Image.DecompressionBombError:
        raise InputError(f"The image {name} has more than {most >> 20} million pixels; scale it down.") from None
    except MemoryError:
        raise
    except Exception:
        raise InputError(f"The image {name} can't be read; give a PNG, a JPEG, an EXR or an HDR file.") from None


def _read_deep(data: bytes, pixels: int) -> np.ndarray:
    """uint16 [height, width, channels] of a PNG with 16 bits a channel."""
    import av

    with av.open(io.BytesIO(data), "r", format="png_pipe") as opened:
        (frame,) = opened.decode(video=0)
    kinds = {"gray16be": 1, "ya16be": 2, "rgb48be": 3, "rgba64be": 4}
    channels = kinds[frame.format.name]
    plane = np.frombuffer(bytes(frame.planes[0]), ">u2").reshape(frame.height, -1)[:, : frame.width * channels]
    assert frame.width * frame.height == pixels
    return np.ascontiguousarray(plane.reshape(frame.height, frame.width, channels).astype(np.uint16))


def _read_exr(data: bytes, name: str) -> np.ndarray:
    from .exr_file import open_exr  # imported here, since the library loads slowly

    with tempfile.TemporaryDirectory() as folder:  # the library reads from paths alone
        path = Path(folder) / "texture.exr"
        path.write_bytes(data)
        _, planes = open_exr(path, f"The image {name}")
    first = planes.get("R", planes.get("Y"))
    if first is None:
        raise InputError(f"The image {name} has neither channel R nor channel Y.")
    named = [first] if "G" not in planes and "B" not in planes else [first, planes.get("G", first), planes.get("B", first)]
    return np.stack([*named, planes["A"]] if "A" in planes else named, axis=2).astype(np.float32)
