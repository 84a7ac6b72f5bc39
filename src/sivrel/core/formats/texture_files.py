"""Large textures, decoded once: all levels in one file of the user's cache, from which they are mapped into memory.

A renderer touches few texels of a large texture, in the levels that its rays ask for, and the system drops those that were used least when memory is
needed. A file holds the levels one after the other, then their description as JSON, its length and a magic number.
"""

import contextlib
import hashlib
import json
import os
import shutil
import struct
import time
from pathlib import Path

import numpy as np

from ..scene.texels import Texels
from ..user_cache import user_cache
from ..whole_file import whole_file

LARGE = 1 << 22
"""Texels from which a texture is stored: 2048 x 2048."""
MAGIC, VERSION = b"TEXELS01", 1
ALIGNED = 4096
"""Bytes at whose multiples levels start, so that the file can be mapped by pages."""
MOST_BYTES, MOST_SHARE = 32 << 30, 0.5
"""Largest size of the folder, and share of what is free on its disk with it; beyond, what was used longest ago is deleted."""


def folder() -> Path:
    """The folder of decoded textures."""
    return user_cache() / "textures"


def key_of(data: bytes, encoding: str) -> str:
    """Digest of an image's texels: of its file and of how that is read."""
    return hashlib.sha256(hashlib.sha256(data).digest() + f"{encoding} {VERSION}".encode()).hexdigest()


def stored(key: str) -> Texels | None:
    """The stored texture of that digest, or None; a damaged file is deleted."""
    path = folder() / f"{key}.texels"
    try:
        size = path.stat().st_size
        with path.open("rb") as file:
            file.seek(size - 16)
            length, magic = struct.unpack("<Q8s", file.read(16))
            if magic != MAGIC or not 0 < length < 1 << 16:
                raise ValueError
            file.seek(size - 16 - length)
            about = json.loads(file.read(length))
        kind = np.dtype(about["kind"])
        levels = [np.memmap(path, kind, "r", start, tuple(shape)) for start, shape in zip(about["starts"], about["shapes"], strict=True)]
        os.utime(path)
        return Texels([np.asarray(level) for level in levels], about["coding"], key, float(about["brightest"]), path, tuple(about["starts"]))
    except FileNotFoundError:
        return None
    except (OSError, ValueError, KeyError, TypeError, struct.error):
        with contextlib.suppress(OSError):
            path.unlink()
        return None


def store(texels: Texels) -> Texels:
    """Write a texture to the folder; returns it as stored, or as it is where the disk is full or can't be written."""
    path = folder() / f"{texels.digest}.texels"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        _make_room(path.parent, texels.nbytes)
        with whole_file(path) as new, new.open("wb") as file:
            starts = []
            for level in texels.levels:
                file.write(b"\0" * (-file.tell() % ALIGNED))
                starts.append(file.tell())
                file.write(level.data)
            about = {
                "kind": texels.levels[0].dtype.str, "starts": starts, "shapes": [level.shape for level in texels.levels], "coding": texels.coding,
                "brightest": texels.brightest,
            }  # fmt: skip
            end = json.dumps(about).encode()
            file.write(end + struct.pack("<Q8s", len(end), MAGIC))
    except OSError:
        return texels
    return stored(texels.digest) or texels


def _make_room(place: Path, wanted: int) -> None:
    """Delete the textures used longest ago until `wanted` bytes more fit. Raises OSError where they never will."""
    files = sorted(place.glob("*.texels"), key=lambda path: path.stat().st_mtime)
    sizes = {path: path.stat().st_size for path in files}
    most = min(MOST_BYTES, int(MOST_SHARE * (shutil.disk_usage(place).free + sum(sizes.values()))))
    if wanted > most:
        raise OSError("no room")
    for path in files:
        if sum(sizes.values()) + wanted <= most:
            break
        if time.time() - path.stat().st_mtime > 60.0:  # what a scene is being read with stays
            path.unlink(missing_ok=True)
            del sizes[path]
