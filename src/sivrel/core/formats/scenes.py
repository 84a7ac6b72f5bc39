"""The entry point for scene files: readers by suffix.

A format is a reader `(path, confine_to=, frame=) -> Scene`. Other packages add one with an entry point of the group `sivrel.scene_formats`, whose
name is the suffix, like `.abc = "package.module:read"`. Readers are imported on first use.
"""

import functools
import importlib
import logging
from collections.abc import Callable
from importlib.metadata import EntryPoint, entry_points
from pathlib import Path

from ..errors import InputError
from ..scene.model import Scene
from ..scene.sanitize import sanitize
from .framing import framing_camera

Reader = Callable[..., Scene]
GROUP = "sivrel.scene_formats"
OURS = {
    **dict.fromkeys((".usda", ".usdc", ".usdz", ".usd"), "usd:read_usd"),
    **dict.fromkeys((".gltf", ".glb"), "gltf:read_gltf"),
    ".obj": "obj:read_obj",
}
"""Module and function of this package by suffix."""
log = logging.getLogger(__name__)


@functools.cache
def _others() -> dict[str, EntryPoint]:
    """Formats of other packages by suffix; none replaces one of ours."""
    return {point.name.lower(): point for point in entry_points(group=GROUP) if point.name.startswith(".") and point.name.lower() not in OURS}


def suffixes() -> tuple[str, ...]:
    """Suffixes of all scene files that can be read."""
    return (*OURS, *_others())


def reader_of(suffix: str) -> Reader | None:
    """The reader for a suffix; None if it is not a scene file. Raises InputError if the reader's package can't be loaded."""
    suffix = suffix.lower()
    if suffix in OURS:
        module, _, name = OURS[suffix].partition(":")
        return getattr(importlib.import_module(f".{module}", __package__), name)
    point = _others().get(suffix)
    if point is None:
        return None
    try:
        return point.load()
    except Exception as error:
        log.exception("The reader of %s files can't be loaded.", suffix)
        raise InputError(f"The package that reads {suffix} files can't be loaded ({error}); repair or remove it.") from None


def load_usd() -> None:
    """Load the USD library; a program of several threads must do so before it starts any.

    While the library is being loaded it gives up Python's global lock and then waits for it, and the system's loader is locked meanwhile. A thread
    that loads any other library at that moment keeps the global lock and waits for the loader: neither ever goes on.
    """
    for module in ("usd", "usd_edits"):
        importlib.import_module(f".{module}", __package__)


def two_frames(path: Path, *, confine_to: Path | None = None, first: float | None = None) -> tuple[Scene, Scene]:
    """An animated scene (a USD file) at its first frame, or at `first`, and at the next one. Raises InputError."""
    if first is None:
        from .usd import first_frame

        first = first_frame(path, confine_to)
    return read_scene(path, confine_to=confine_to, frame=first), read_scene(path, confine_to=confine_to, frame=first + 1.0)


def read_scene(path: Path, *, confine_to: Path | None = None, frame: float | None = None) -> Scene:
    """Read a scene file. With `confine_to`, nothing outside that folder is opened; glTF and OBJ never leave their own. Raises InputError."""
    reader = reader_of(path.suffix)
    if reader is None:
        raise InputError(f"{path.name} is not a scene file that can be read; give one of: {', '.join(suffixes())}.")
    try:
        scene = reader(path, confine_to=confine_to, frame=frame)
    except (InputError, MemoryError, OSError):
        raise
    except Exception as error:  # any error that a damaged file causes in a reader
        raise InputError(f"{path.name} can't be read; it is damaged, or not of that type.") from error
    sanitize(scene)
    if not scene.cameras:
        scene.cameras.append(framing_camera(*scene.bounds()))
    return scene
