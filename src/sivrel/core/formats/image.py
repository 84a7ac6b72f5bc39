"""Images in: PNG, JPEG and the like through Pillow, EXR through OpenEXR, HDR; always linear, always four channels."""

import io
import tempfile
from pathlib import Path

import numpy as np

from ..errors import InputError
from . import hdr

MOST_PIXELS = 1 << 26
EXR_MAGIC = b"\x76\x2f\x31\x01"


def srgb_to_linear(encoded: np.ndarray) -> np.ndarray:
    """Linear values of sRGB-encoded ones in [0, 1] (IEC 61966-2-1)."""
    return np.where(encoded <= 0.04045, encoded / 12.92, ((encoded + 0.055) / 1.055) ** 2.4)


def read_image(data: bytes, name: str, encoding: str = "auto") -> np.ndarray:
    """Texels float32 [height, width, 4] of the image file `data`.

    encoding: "sRGB" decodes, "raw" keeps the numbers, "auto" decodes 8-bit colour images (UsdUVTexture,
    sourceColorSpace). Raises InputError naming the file as `name`.
    """
    if data[:4] == EXR_MAGIC:
        return _read_exr(data, name)
    if data[:2] == hdr.MAGIC:
        return hdr.read_hdr(data, name)
    from PIL import Image

    try:
        with Image.open(io.BytesIO(data)) as image:
            if image.width * image.height > MOST_PIXELS:
                raise InputError(f"The image {name} has more than {MOST_PIXELS >> 20} million pixels; scale it down.")
            deep = image.mode.startswith("I") or image.mode == "F"
            grey = image.mode in ("L", "LA", "1") or deep
            if deep:
                plane = np.asarray(image, np.float32) / (65535.0 if image.mode != "F" else 1.0)
                pixels = np.repeat(plane[..., None], 4, axis=2)
                pixels[..., 3] = 1.0
            else:
                pixels = np.asarray(image.convert("RGBA"), np.float32) / 255.0
    except InputError:
        raise
    except Image.DecompressionBombError:
        raise InputError(f"The image {name} has more than {MOST_PIXELS >> 20} million pixels; scale it down.") from None
    except Exception:
        raise InputError(f"The image {name} can't be read; give a PNG, a JPEG, an EXR or an HDR file.") from None
    if encoding == "sRGB" or (encoding == "auto" and not grey):
        pixels[..., :3] = srgb_to_linear(pixels[..., :3])
    return pixels.astype(np.float32)


def _read_exr(data: bytes, name: str) -> np.ndarray:
    import OpenEXR

    with tempfile.TemporaryDirectory() as folder:  # the library reads from paths alone
        path = Path(folder) / "texture.exr"
        path.write_bytes(data)
        try:
            window = OpenEXR.File(str(path), header_only=True).header()["dataWindow"]
            wide, high = (int(b) - int(a) + 1 for a, b in zip(window[0], window[1], strict=True))
            if not 0 < wide * high <= MOST_PIXELS:
                raise InputError(f"The image {name} has more than {MOST_PIXELS >> 20} million pixels; scale it down.")
            channels = OpenEXR.File(str(path), separate_channels=True).channels()
            planes = {key: channel.pixels.astype(np.float32) for key, channel in channels.items()}
        except InputError:
            raise
        except Exception:
            raise InputError(f"The image {name} is a damaged EXR file.") from None
    first = planes.get("R", planes.get("Y"))
    if first is None:
        raise InputError(f"The image {name} has neither channel R nor channel Y.")
    green, blue = planes.get("G", first), planes.get("B", first)
    return np.stack([first, green, blue, planes.get("A", np.ones_like(first))], axis=2)
