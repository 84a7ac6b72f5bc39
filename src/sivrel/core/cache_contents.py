"""Validates the contents of cache files from outside before they are stored or used.

Kernels use a cache's indices without bounds checks, and pages show its notes: both must match what the way declares.
"""

import math
from typing import Any

import numpy as np

from .caches import Cache, CacheFolder, from_bytes
from .errors import InputError
from .gi.way import Table
from .gi.ways import OF_KIND
from .shadows.depth_map import KIND_OF_MAP

FARTHEST, BRIGHTEST = 1e9, 1e20
"""The largest coordinate in metres, and the largest quantity of light."""
MOST_COUNT, LONGEST_TEXT, DEEPEST = 1 << 40, 4096, 6
MAP_HOLDS = {"depths": None, "row": Table(0)}


def check_contents(cache: Cache, name: str) -> None:
    """Raise InputError, naming the file `name`, if a cache does not match its kind's declaration."""
    way = OF_KIND.get(cache.kind)
    if way is None and cache.kind != KIND_OF_MAP:
        raise InputError(f"{name} holds a {cache.kind[:60]}, which can't be imported; make it again here.")
    holds = way.holds if way is not None else MAP_HOLDS
    if not _notes_are_sound(cache.notes, ("seconds", "count", *way.tells) if way is not None else ("seconds",)):
        raise _damaged(name, "notes")
    if set(cache.arrays) != set(holds):
        raise _damaged(name, "arrays")
    for key, table in holds.items():
        if table is not None and not _form_is_right(cache.arrays[key], table):
            raise _damaged(name, key)
    for key, table in holds.items():
        if table is not None and not _values_are_sound(cache.arrays[key], table, cache.arrays):
            raise _damaged(name, key)
    if way is None and not _depths_are_sound(cache.arrays["depths"]):
        raise _damaged(name, "depths")
    if way is not None and way.sound is not None and not way.sound(cache.arrays):
        raise _damaged(name, "arrays")


def _damaged(name: str, what: str) -> InputError:
    return InputError(f"{name} is damaged: its {what} are not valid for such a cache; export it again.")


def _form_is_right(array: np.ndarray, table: Table) -> bool:
    kinds, row = "iu" if table.whole else "f", (table.columns,) if table.columns else ()
    return array.dtype.kind in kinds and array.dtype.itemsize <= 8 and array.ndim > 0 and array.shape[1:] == row


def _values_are_sound(array: np.ndarray, table: Table, arrays: dict[str, np.ndarray]) -> bool:
    if table.rows is not None and len(array) != table.rows(arrays):
        return False
    if not array.size:
        return True
    if table.whole:
        return table.high is None or (int(array.min()) >= table.low and int(array.max()) <= table.high(arrays))
    values = np.abs(array.reshape(len(array), -1))
    return bool((values[:, : table.places] <= FARTHEST).all() and (values[:, table.places :] <= BRIGHTEST).all())


def _depths_are_sound(depths: np.ndarray) -> bool:
    """Depths of one or six square faces, infinite where there is no surface."""
    square = depths.dtype == np.float32 and depths.ndim == 3 and depths.shape[0] in (1, 6) and depths.shape[1] == depths.shape[2]
    return bool(square and not np.isnan(depths).any())


def _notes_are_sound(notes: dict[str, Any], needed: tuple[str, ...]) -> bool:
    parts, cameras = notes.get("parts", {}), notes.get("cameras", [])
    return (
        all(_is_number(notes.get(key)) for key in needed)
        and isinstance(notes.get("count", 0), int) and 0 <= notes.get("count", 0) <= MOST_COUNT
        and isinstance(notes.get("unit", ""), str) and isinstance(notes.get("way", ""), str)
        and isinstance(parts, dict) and all(isinstance(text, str) for text in parts.values())
        and all(key.split(" ")[0] in ("object", "surface", "light") for key in parts)
        and isinstance(cameras, list) and all(isinstance(text, str) for text in cameras)
        and _is_modest(notes, DEEPEST)
    )  # fmt: skip


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value) and abs(value) <= BRIGHTEST


def _is_modest(value: Any, depth: int) -> bool:
    """Whether a note consists of short texts and finite numbers, without deep nesting."""
    if isinstance(value, str):
        return len(value) <= LONGEST_TEXT
    if isinstance(value, dict | list):
        members = value.values() if isinstance(value, dict) else value
        return depth > 0 and all(_is_modest(member, depth - 1) for member in members)
    return value is None or isinstance(value, bool) or _is_number(value)


def import_cache(folder: CacheFolder, data: bytes, name: str) -> None:
    """Store a cache from a file's bytes. Raises InputError for a damaged or foreign one."""
    cache = from_bytes(data, name)
    check_contents(cache, name)
    folder.keep_marked(cache)
