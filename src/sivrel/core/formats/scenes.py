"""The one door for scene files: what can be read, by suffix."""

from pathlib import Path

from ..errors import InputError
from ..scene.model import Scene
from ..scene.sanitize import sanitize
from . import gltf, obj, usd
from .framing import framing_camera

READERS = {
    **dict.fromkeys(usd.SUFFIXES, usd.read_usd),
    **dict.fromkeys(gltf.SUFFIXES, gltf.read_gltf),
    **dict.fromkeys(obj.SUFFIXES, obj.read_obj),
}


def two_frames(path: Path, *, confine_to: Path | None = None, first: float | None = None) -> tuple[Scene, Scene]:
    """An animated scene, which is a USD file, at its first frame, or at `first`, and at the one after. Raises InputError."""
    begin = usd.first_frame(path, confine_to) if first is None else first
    return read_scene(path, confine_to=confine_to, frame=begin), read_scene(path, confine_to=confine_to, frame=begin + 1.0)


def read_scene(path: Path, *, confine_to: Path | None = None, frame: float | None = None) -> Scene:
    """Read a scene file. With `confine_to`, nothing outside that folder is opened; glTF and OBJ never reach out of their own. Raises InputError."""
    reader = READERS.get(path.suffix.lower())
    if reader is None:
        raise InputError(f"{path.name} is not a scene file that can be read; give one of: {', '.join(READERS)}.")
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
