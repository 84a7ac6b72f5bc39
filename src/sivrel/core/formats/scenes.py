"""The one door for scene files: what can be read, by suffix.

A format is a reader `(path, confine_to=, frame=) -> Scene`. Other packages add one by an entry point of the group `sivrel.scene_formats`, whose name
is the suffix, like `.abc = "package.module:read"`. Readers are imported when a file of theirs is read.
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
    """Formats of other packages by suffix; none takes the place of one of ours."""
    return {point.name.lower(): point for point in entry_points(group=GROUP) if point.name.startswith(".") and point.name.lower() not in OURS}


def suffixes() -> tuple[str, ...]:
    """Suffixes of all scene files that can be read."""
    return (*OURS, *_others())


def reader_of(suffix: str) -> Reader | None:
    """What reads scene files with a suffix; None for what is no scene file. Raises InputError where the package that should can't be loaded."""
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
        raise InputError(f"The package that reads {suffix} files can't be loaded ({error}); mend or remove it.") from None


def two_frames(path: Path, *, confine_to: Path | None = None, first: float | None = None) -> tuple[Scene, Scene]:
    """An animated scene, which is a USD file, at its first frame, or at `first`, and at the one after. Raises InputError."""
    if first is None:
        from .usd import first_frame

        first = first_frame(path, confine_to)
    return read_scene(path, confine_to=confine_to, frame=first), read_scene(path, confine_to=confine_to, frame=first + 1.0)


def read_scene(path: Path, *, confine_to: Path | None = None, frame: float | None = None) -> Scene:
    """Read a scene file. With `confine_to`, nothing outside that folder is opened; glTF and OBJ never reach out of their own. Raises InputError."""
    reader = reader_of(path.suffix)
    if reader is None:
        raise InputError(f"{path.name} is not a scene file that can be read; give one of: {', '.join(suffixes())}.")
    try:
        scene = reader(path, confine_to=confine_to, frame=frame)
    except (InputError, MemoryError, OSError):
        raise
    except Exception as error:  # whatever a damaged file makes of a reader
        raise InputError(f"{path.name} can't be read; it is damaged, or not what its name says.") from error
    sanitize(scene)
    if not scene.cameras:
        scene.cameras.append(framing_camera(*scene.bounds()))
    return scene
