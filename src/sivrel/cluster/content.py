"""Scenes as they travel: a skeleton of small things, and large arrays by the hash of their bytes, so that each travels once."""

import hashlib
import io
import pickle
import weakref
from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np

LEAST = 1 << 14
"""Bytes from which an array travels by itself."""


class Content(NamedTuple):
    """skeleton: the pickled value without its large arrays, and its hash; blobs: these arrays by the hash of their bytes, as memory."""

    skeleton: bytes
    digest: str
    blobs: dict[str, memoryview]


def digest_of(data: bytes | memoryview) -> str:
    return hashlib.blake2b(data, digest_size=16).hexdigest()


def bytes_of(array: np.ndarray) -> memoryview:
    """The bytes of a contiguous array."""
    return array.reshape(-1).view(np.uint8).data


class Taker:
    """Takes values apart, and remembers the hashes of arrays for as long as they live: of a scene that is rendered again, nothing is hashed twice."""

    def __init__(self) -> None:
        self.known: dict[int, tuple[weakref.ref[np.ndarray], str]] = {}

    def take_apart(self, value: Any) -> Content:
        """The content of a value: of tuples, dataclasses and arrays of Sivrel."""
        blobs: dict[str, memoryview] = {}

        class Pickler(pickle.Pickler):
            def persistent_id(own, part: Any) -> Any:  # noqa: N805
                if not isinstance(part, np.ndarray) or part.nbytes < LEAST or part.dtype.hasobject:
                    return None
                array = np.ascontiguousarray(part)
                digest = self._digest(part, array)
                blobs[digest] = bytes_of(array)
                return digest, part.dtype.str, part.shape

        out = io.BytesIO()
        Pickler(out, protocol=5).dump(value)
        skeleton = out.getvalue()
        return Content(skeleton, digest_of(skeleton), blobs)

    def _digest(self, part: np.ndarray, array: np.ndarray) -> str:
        known = self.known.get(id(part))
        if known is not None and known[0]() is part:
            return known[1]
        digest = digest_of(bytes_of(array))
        number = id(part)
        self.known[number] = weakref.ref(part, lambda _: self.known.pop(number, None)), digest
        return digest


def arrays_in(skeleton: bytes) -> set[str]:
    """The hashes of the arrays that a skeleton names."""
    found = set[str]()

    def note(digest: str, kind: str, shape: tuple[int, ...]) -> np.ndarray:
        found.add(digest)
        return np.zeros(0)

    put_together(skeleton, note)
    return found


def put_together(skeleton: bytes, array: Callable[[str, str, tuple[int, ...]], np.ndarray]) -> Any:
    """The value of a skeleton. `array(digest, dtype, shape)` finds its arrays. Skeletons are pickles: only those of one's own scheduler are read."""

    class Unpickler(pickle.Unpickler):
        def persistent_load(self, name: Any) -> Any:
            digest, kind, shape = name
            return array(digest, kind, shape)

    return Unpickler(io.BytesIO(skeleton)).load()
