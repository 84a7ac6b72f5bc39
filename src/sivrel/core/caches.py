"""Caches: data prepared before pixels and stored, each as a file with a header that lists its dependencies.

A file: one line of JSON (format, version, kind, dependencies with hashes, checksum of the rest, notes), then
NumPy's archive of its arrays. It is named by the hash of its dependencies, so a stale cache is simply not found; the
header says which dependency has changed since.
"""

import hashlib
import io
import json
import logging
import os
import threading
import weakref
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from .errors import InputError
from .json_text import parse_json
from .whole_file import whole_file

FORMAT, VERSION = "sivrel cache", 2
MOST_BYTES = 2 << 30
"""Limits of a folder of caches; the oldest are deleted above them."""
log = logging.getLogger(__name__)
MOST_HEADER = 1 << 20
MOST_UNPACKED = 4 << 30
"""Most bytes of one cache's arrays."""
ASIDE, ASIDE_NAME = "deleted.aside", "deleted.name"
"""The last deleted file, and its digest."""
HELD, HELD_ALONE = 8, 64
"""Most caches held in memory, and most if they have no files to read again."""
WAIT = 0.05
"""Seconds between checks of a thread that waits for a cache."""


@dataclass(frozen=True)
class Cache:
    """kind: of its contents; subject: what it belongs to (a light's name); depends: hashes of its dependencies by name;
    arrays by name; notes: numbers for the user, such as the seconds it took."""

    kind: str
    subject: str
    depends: dict[str, str]
    arrays: dict[str, np.ndarray]
    notes: dict[str, Any]

    @property
    def digest(self) -> str:
        return digest_of(self.kind, self.depends)


def digest_of(kind: str, depends: dict[str, str]) -> str:
    """Name of the cache of a kind with these dependencies."""
    return hashlib.sha256(json.dumps([VERSION, kind, depends], sort_keys=True).encode()).hexdigest()[:32]


def hash_of(*parts: Any) -> str:
    """Hash of arrays and plain values."""
    digest = hashlib.sha256()
    for part in parts:
        digest.update(np.ascontiguousarray(part).tobytes() if isinstance(part, np.ndarray) else repr(part).encode())
        digest.update(b"\0")
    return digest.hexdigest()[:20]


def to_bytes(cache: Cache) -> bytes:
    archive = io.BytesIO()
    np.savez_compressed(archive, **cache.arrays)  # type: ignore[arg-type]
    body = archive.getvalue()
    head = {
        "format": FORMAT, "version": VERSION, "kind": cache.kind, "subject": cache.subject, "depends": cache.depends,
        "notes": cache.notes, "checksum": hashlib.sha256(body).hexdigest(),
    }  # fmt: skip
    return json.dumps(head, sort_keys=True).encode() + b"\n" + body


def _read_header(head: bytes, name: str) -> dict[str, Any]:
    """A header, of our format and version. Raises InputError."""
    try:
        about = parse_json(head, "")
        ours, version = about["format"] == FORMAT, about["version"]
        texts = [about["kind"], about["subject"], about["checksum"], *about["depends"], *about["depends"].values()]
        ours = ours and all(isinstance(text, str) for text in texts) and _can_be_listed(about["notes"])
    except (InputError, KeyError, TypeError, AttributeError):
        ours = False
    if not ours:
        raise InputError(f"{name} is not a cache of this program.")
    if version != VERSION:
        raise InputError(f"{name} is a cache of version {version}; this program reads version {VERSION}, so make it again.")
    return about


def _can_be_listed(notes: Any) -> bool:
    """Whether notes have what the list of caches shows: seconds, count and unit."""
    if not isinstance(notes, dict):
        return False
    seconds, count, unit = notes.get("seconds", 0.0), notes.get("count", 0), notes.get("unit", "")
    return isinstance(seconds, int | float) and isinstance(count, int) and isinstance(unit, str)


def _arrays(body: bytes, name: str) -> dict[str, np.ndarray]:
    """The arrays of NumPy's archive, after checking the sizes it declares. Raises InputError."""
    damaged = InputError(f"{name} is damaged: its arrays can't be read, so make it again.")
    try:
        with zipfile.ZipFile(io.BytesIO(body)) as archive:
            claimed = sum(entry.file_size for entry in archive.infolist())
        if claimed > MOST_UNPACKED:
            raise InputError(f"{name} unpacks to {claimed / 2**30:.1f} GB; more than {MOST_UNPACKED >> 30} can't be read.")
        with np.load(io.BytesIO(body), allow_pickle=False) as arrays:
            found = {key: arrays[key] for key in arrays.files}
            if all(isinstance(array, np.ndarray) for array in found.values()):  # an entry that is not an array is returned as bytes
                return found
            raise damaged
    except (InputError, MemoryError):
        raise
    except Exception:  # any error of a broken zip file
        raise damaged from None


def header_of(path: Path) -> Cache:
    """The cache of a file without its arrays. Raises InputError for a foreign file."""
    with open(path, "rb") as file:
        about = _read_header(file.readline(MOST_HEADER), path.name)
    return Cache(about["kind"], about["subject"], about["depends"], {}, about["notes"])


def from_bytes(data: bytes, name: str) -> Cache:
    """The inverse of `to_bytes`. Raises InputError, in one sentence, for a damaged or foreign file."""
    head, _, body = data.partition(b"\n")
    about = _read_header(head, name)
    if hashlib.sha256(body).hexdigest() != about["checksum"]:
        raise InputError(f"{name} is damaged: its checksum does not match, so make it again.")
    return Cache(about["kind"], about["subject"], about["depends"], _arrays(body, name), about["notes"])


class CacheFolder:
    """Caches as files in a folder; with None, in memory for as long as this object lives. Thread-safe."""

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = folder
        self.held: dict[str, Cache] = {}
        self.worked_out: dict[str, Any] = {}
        self.in_memory = threading.Lock()
        self.being_made: weakref.WeakValueDictionary[str, Any] = weakref.WeakValueDictionary()

    @contextmanager
    def making(self, digest: str, check: Callable[[], None]) -> Iterator[None]:
        """Of several threads that need the same cache, one looks for it and makes it while the others wait; `check` is called by these now and then,
        and may raise."""
        with self.in_memory:
            lock = self.being_made.setdefault(digest, threading.Lock())
        while not lock.acquire(timeout=WAIT):
            check()
        try:
            yield
        finally:
            lock.release()

    def path(self, digest: str) -> Path | None:
        return self.folder / f"{digest}.cache" if self.folder else None

    def find(self, kind: str, depends: dict[str, str]) -> Cache | None:
        """The cache of a kind with exactly these dependencies; None if there is none or its file is damaged."""
        digest = digest_of(kind, depends)
        held = self.held.get(digest)
        if held is not None:
            return held
        path = self.path(digest)
        if path is None or not path.is_file():
            return None
        try:
            cache = from_bytes(path.read_bytes(), path.name)
        except InputError:
            return None  # it will be remade, replacing the damaged one
        if cache.depends != depends:
            return None
        self._hold(cache)
        return cache

    def alike(self, kind: str, subject: str) -> list[Cache]:
        """The caches of a kind and subject, newest first; their arrays may be left out."""
        with self.in_memory:
            held = [cache for cache in reversed(self.held.values()) if cache.kind == kind and cache.subject == subject]
        known = {cache.digest for cache in held}
        return held + [about for _, about in self.headers() if about.kind == kind and about.subject == subject and about.digest not in known]

    def headers(self) -> list[tuple[Path, Cache]]:
        """The files of the folder, newest first, each with its header as a cache without arrays. Damaged and foreign ones are left out."""
        found = []
        for path in self.folder.glob("*.cache") if self.folder else []:
            try:
                about = header_of(path)
                found.append((path.stat().st_mtime, path, about))
            except (InputError, OSError):
                continue
        return [(path, about) for _, path, about in sorted(found, key=lambda row: row[0], reverse=True)]

    def marked(self, digest: str, mark: str) -> bool:
        """Whether a cache is `kept` or `locked`."""
        return self.folder is not None and (self.folder / f"{digest}.{mark}").exists()

    def mark(self, digest: str, mark: str, on: bool) -> None:
        """Mark a cache as `kept`, so that it is never deleted automatically, or as `locked`, so that its shot uses it whatever changes."""
        if self.folder is not None:
            path = self.folder / f"{digest}.{mark}"
            path.touch() if on else path.unlink(missing_ok=True)

    def locked(self, kind: str, subject: str) -> Cache | None:
        """The cache of a kind and subject that is locked; None when there is none, or its file is damaged."""
        for mark in self.folder.glob("*.locked") if self.folder else []:
            try:
                path = mark.with_suffix(".cache")
                about = header_of(path)
                if about.kind == kind and about.subject == subject:
                    return self.find(kind, about.depends)
            except (InputError, OSError):
                continue
        return None

    def delete(self, digest: str) -> None:
        """Delete a cache; its file is kept aside until the next deletion, see `take_back`. Raises InputError if it is locked."""
        if self.marked(digest, "locked"):
            raise InputError(f"The cache {digest} is locked; unlock it first.")
        self.held.pop(digest, None)
        path = self.path(digest)
        if path is not None and path.is_file():
            os.replace(path, path.with_name(ASIDE))
            path.with_name(ASIDE_NAME).write_text(digest)
            path.with_suffix(".kept").unlink(missing_ok=True)

    def take_back(self) -> None:
        """Restore the last deleted cache. Raises InputError if there is none."""
        try:
            assert self.folder is not None
            os.replace(self.folder / ASIDE, self.folder / f"{(self.folder / ASIDE_NAME).read_text()}.cache")
        except OSError:
            raise InputError("There is no deleted cache to restore.") from None

    def keep_marked(self, cache: Cache) -> None:
        """Store an imported cache, and never delete it automatically."""
        self._write(cache)
        self._hold(cache)
        self.mark(cache.digest, "kept", True)

    def adopt(self, file: Path, digest: str) -> None:
        """Store a valid cache file of that digest by moving it here."""
        path = self.path(digest)
        assert path is not None
        path.parent.mkdir(parents=True, exist_ok=True)
        os.replace(file, path)
        self.held.pop(digest, None)
        self.mark(digest, "kept", True)

    def remember(self, key: str, work_out: Callable[[], Any]) -> Any:
        """The result of `work_out` for a key, remembered for a while, in memory only."""
        try:
            return self.worked_out[key]
        except KeyError:
            found = work_out()
        _put(self.worked_out, key, found, 2 * HELD, self.in_memory)
        return found

    def keep(self, cache: Cache) -> None:
        """Store a cache. If its file can't be written, for example on a full disk, it is used from memory and remade next time."""
        self._hold(cache)
        try:
            self._write(cache)
        except OSError:
            log.warning("The cache %s could not be stored.", cache.digest, exc_info=True)

    def _write(self, cache: Cache) -> None:
        """Write a cache to a temporary name, then rename it."""
        path = self.path(cache.digest)
        if path is None:
            return
        path.parent.mkdir(parents=True, exist_ok=True)
        with whole_file(path) as beside:
            beside.write_bytes(to_bytes(cache))
        self._thin(path)

    def _thin(self, newest: Path) -> None:
        """Delete the oldest files until the folder is within its limits; the newest always stays."""
        files = sorted(((f.stat().st_mtime, f.stat().st_size, f) for f in newest.parent.glob("*.cache")), reverse=True)
        total = 0
        for _, size, file in files:
            total += size
            saved = file == newest or file.with_suffix(".kept").exists() or file.with_suffix(".locked").exists()
            if total > MOST_BYTES and not saved:
                file.unlink(missing_ok=True)

    def _hold(self, cache: Cache) -> None:
        _put(self.held, cache.digest, cache, HELD if self.folder else HELD_ALONE, self.in_memory)


def _put(into: dict[str, Any], key: str, value: Any, most: int, lock: threading.Lock) -> None:
    """Add a value to a dictionary that keeps the last `most`."""
    with lock:
        while len(into) >= most:
            into.pop(next(iter(into)))
        into[key] = value
