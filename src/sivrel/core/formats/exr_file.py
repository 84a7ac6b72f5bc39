"""An OpenEXR file as header and planes, limited to a size that fits in memory; the meaning of its layers is up to the caller."""

import contextlib
import functools
import io
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR

from .. import machine
from ..errors import InputError
from .hdr import MOST_PIXELS

MOST_SAMPLES = 1 << 30
"""Values in all channels together: 4 GB."""
LARGE = 1 << 24
"""Values from which a file is read and written by several threads."""


@functools.cache
def _start_threads() -> None:
    OpenEXR.set_global_thread_count(machine.threads())


def share_work(samples: int) -> None:
    """Called before a file of that many values is read or written: the library then does it on all cores. Its threads start with the first large
    file, so that a process that only sees small ones has none and may fork."""
    if samples >= LARGE:
        _start_threads()


def open_exr(path: Path, name: str, *, parts: bool = False) -> tuple[dict[str, Any], dict[str, np.ndarray]]:
    """(header, planes) of the first part of a file: float32 [rows, columns] by the name of the channel; with `parts` also those of the other parts,
    as PART.CHANNEL where a name is taken. Planes of another size than the data window are left out. Raises InputError naming it as `name`."""
    damaged = InputError(f"{name} is not an OpenEXR picture, or it is damaged.")
    try:
        with contextlib.redirect_stdout(io.StringIO()):
            headers = [part.header for part in OpenEXR.File(str(path), header_only=True).parts]
        wide, high = window_size(headers[0])
        samples = sum(_area(header) * len(header["channels"]) for header in headers)
    except Exception:
        raise damaged from None
    if not (0 < wide and 0 < high and wide * high <= MOST_PIXELS):
        raise InputError(f"{name} is {wide} x {high} pixels; give a picture of 1 to {MOST_PIXELS >> 20} million pixels.")
    if not samples <= MOST_SAMPLES:
        raise InputError(f"{name} holds {samples / 2**28:.0f} GB in its channels; save it with fewer passes, or smaller.")
    share_work(samples)
    planes: dict[str, np.ndarray] = {}
    said = io.StringIO()
    try:
        # The library prints decoding errors to standard output and continues with black: the output must stay clean, and the file is damaged.
        with contextlib.redirect_stdout(said):
            file = OpenEXR.File(str(path), separate_channels=True)
        if said.getvalue():
            raise damaged
        for part in file.parts[: None if parts else 1]:
            prefix = str(part.header.get("name") or "")
            for channel_name, channel in part.channels.items():
                if channel.pixels.shape != (high, wide):
                    continue
                plane = channel.pixels.astype(np.float32, copy=False)
                planes[channel_name if channel_name not in planes else f"{prefix}.{channel_name}"] = plane
                if parts and prefix and "." not in channel_name:
                    planes.setdefault(f"{prefix}.{channel_name}", plane)
    except MemoryError:
        raise
    except Exception:
        raise damaged from None
    return headers[0], planes


def box_of(header: dict[str, Any], window: str) -> tuple[int, int, int, int]:
    """left, top, right, bottom of a window of the header, the last two exclusive."""
    low, high = header[window]
    return int(low[0]), int(low[1]), int(high[0]) + 1, int(high[1]) + 1


def window_size(header: dict[str, Any]) -> tuple[int, int]:
    """Columns and rows of the data window."""
    left, top, right, bottom = box_of(header, "dataWindow")
    return right - left, bottom - top


def _area(header: dict[str, Any]) -> int:
    wide, high = window_size(header)
    return max(0, wide) * max(0, high)
