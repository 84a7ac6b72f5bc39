"""A bounded folder of arrays by the hash of their bytes. Arrays are mapped from it, so that they take memory only where they are read."""

import os
import threading
from pathlib import Path

import numpy as np

from .content import digest_of

MOST_BYTES = 20 << 30
"""Bytes of a folder, if nothing else is said."""


class Missing(Exception):
    """Arrays of a scene are not here (any more); `digests` says which."""

    def __init__(self, digests: list[str]) -> None:
        super().__init__(digests)
        self.digests = digests


class ContentFolder:
    """Thread-safe. A file counts once it has its final name, so a program that is killed leaves only whole ones."""

    def __init__(self, folder: Path, most_bytes: int = MOST_BYTES) -> None:
        self.folder, self.most_bytes = folder, most_bytes
        self.lock = threading.Lock()
        folder.mkdir(parents=True, exist_ok=True)
        for left in folder.glob(".*"):
            left.unlink(missing_ok=True)

    def missing(self, digests: list[str]) -> list[str]:
        return [digest for digest in digests if not (self.folder / digest).is_file()]

    def add(self, digest: str, part: bytes, last: bool) -> None:
        """Append a part of an array's bytes; the last one checks and keeps it. Raises OSError on a full disk, and ValueError if the bytes are not
        those of the hash."""
        beside, path = self.folder / f".{digest}", self.folder / digest
        with self.lock:
            if path.is_file():
                return
            try:
                with open(beside, "ab") as out:
                    out.write(part)
                if last:
                    if digest_of(beside.read_bytes()) != digest:
                        raise ValueError("What arrived is not what was sent.")
                    self._make_room(beside.stat().st_size)
                    beside.replace(path)
            except BaseException:
                beside.unlink(missing_ok=True)
                raise

    def array(self, digest: str, kind: str, shape: tuple[int, ...]) -> np.ndarray:
        """The array with that hash, mapped. Raises Missing."""
        path = self.folder / digest
        try:
            os.utime(path)
            # Private to this process, so that kernels take it like any other array.
            return np.asarray(np.memmap(path, np.dtype(kind), "c", shape=shape))
        except FileNotFoundError:
            raise Missing([digest]) from None

    def _make_room(self, size: int) -> None:
        """Remove what was used least recently, as far as `size` more bytes need it. Arrays that are mapped stay usable until they are let go."""
        files = sorted(((path.stat(), path) for path in self.folder.glob("[!.]*")), key=lambda each: each[0].st_mtime)
        held = sum(stat.st_size for stat, _ in files)
        for stat, path in files:
            if held + size <= self.most_bytes:
                break
            path.unlink(missing_ok=True)
            held -= stat.st_size
