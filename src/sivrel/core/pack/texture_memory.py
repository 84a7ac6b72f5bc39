"""How much of the mapped textures is in memory, and the limit on it: what was used least is dropped first, and read again when it is needed."""

import contextlib
import mmap
import os
import re
import time
from pathlib import Path
from typing import NamedTuple

import numpy as np

from ..scene.arrays import Pictures

MOST = 1 << 30
"""Bytes of mapped textures in memory, unless $SIVREL_TEXTURE_MEMORY sets other megabytes."""
EVERY = 0.5
"""Seconds between two looks."""
LEFT = 0.75
"""Share of the limit that is kept when it was passed."""


class Part(NamedTuple):
    """One mapped texture: its place in the memory; bytes in memory, and of these how many were read since the last look that dropped some."""

    start: int
    size: int
    resident: int
    used: int


def limit() -> int:
    """The limit in bytes."""
    with contextlib.suppress(ValueError):
        return max(1, int(os.environ.get("SIVREL_TEXTURE_MEMORY", ""))) << 20
    return MOST


def mapped_parts(memory: np.ndarray) -> list[Part]:
    """The mapped textures in the memory of `Pictures`; none where the system does not say (proc(5), smaps)."""
    if memory.base is None:  # all of it was copied
        return []
    first = memory.ctypes.data
    parts: list[Part] = []
    inside = None
    try:
        with Path("/proc/self/smaps").open() as lines:
            for line in lines:
                head = re.match(r"([0-9a-f]+)-([0-9a-f]+) \S+ \S+ \S+ (\d+)", line)
                if head:
                    start, end = int(head[1], 16), int(head[2], 16)
                    inside = (start - first, end - start) if int(head[3]) and first <= start < first + memory.nbytes else None
                    resident = 0
                elif inside and line.startswith("Rss:"):
                    resident = int(line.split()[1]) << 10
                elif inside and line.startswith("Referenced:"):
                    parts.append(Part(*inside, resident, int(line.split()[1]) << 10))
    except OSError:
        return []
    return parts


def drop_above(memory: np.ndarray, most: int) -> int:
    """Drop the mapped textures that were used least, if more than `most` bytes of them are in memory; returns how many were."""
    parts = mapped_parts(memory)
    resident = sum(part.resident for part in parts)
    if resident > most:
        whole, left = _whole(memory), resident
        for part in sorted(parts, key=lambda part: part.used):
            if left <= LEFT * most:
                break
            whole.madvise(mmap.MADV_DONTNEED, part.start, part.size)
            left -= part.resident
        with contextlib.suppress(OSError):
            Path("/proc/self/clear_refs").write_text("3")  # what is read from now on counts as used
    return resident


def texture_meter(pictures: Pictures) -> dict[str, int] | None:
    """Large textures, which are mapped from files: how many, bytes in all their levels, and bytes of these in memory; None without any."""
    parts = mapped_parts(pictures.bytes)
    return {"count": len(parts), "bytes": sum(p.size for p in parts), "resident": sum(p.resident for p in parts)} if parts else None


def _whole(memory: np.ndarray) -> mmap.mmap:
    base = memory.base
    while not isinstance(base, mmap.mmap):
        base = base.obj if isinstance(base, memoryview) else base.base  # type: ignore[union-attr]
    return base


class TextureLimit:
    """Keeps the mapped textures of a render below the limit."""

    def __init__(self, memory: np.ndarray) -> None:
        self._memory, self._next = memory, 0.0

    def look(self) -> None:
        """Called now and then, by one thread at a time."""
        if time.monotonic() >= self._next:
            self._next = time.monotonic() + EVERY
            drop_above(self._memory, limit())
