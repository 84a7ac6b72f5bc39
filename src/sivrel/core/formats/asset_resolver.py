"""A scene file and the files it refers to: never outside its folder, never larger than a limit."""

import re
from pathlib import Path
from urllib.parse import unquote

from ..errors import InputError

MOST_BYTES = 2 << 30
"""Of one file."""


class AssetResolver:
    """Opens the files that a scene refers to, within the folder that contains it (or `confine_to`, a folder around it)."""

    def __init__(self, path: Path, confine_to: Path | None = None) -> None:
        self.path, self.root = path, (confine_to or path.parent).resolve()

    def main(self) -> bytes:
        """Contents of the scene file itself. Raises InputError."""
        if not self.path.is_file():
            raise InputError(f"There is no scene file {self.path}; check the name.")
        return self._bytes(self.path, self.path.name)

    def has(self, name: str) -> bool:
        try:
            return self._place(name).is_file()
        except InputError:
            return False

    def read(self, name: str) -> bytes:
        """Contents of a file that the scene refers to, with / or \\ between folders, possibly as part of an address. Raises InputError."""
        return self._bytes(self._place(name), name)

    def _place(self, name: str) -> Path:
        if re.match(r"[a-zA-Z][a-zA-Z0-9+.-]+:", name):
            raise InputError(f"The file {name[:80]} is a network address; nothing is downloaded, so give the file with the scene.")
        for candidate in dict.fromkeys((name, unquote(name))):
            parts = candidate.replace("\\", "/")
            # By its path; or beside the scene, where uploads are stored and where paths of another machine do not exist.
            for place in (self.path.parent / parts, self.path.parent / Path(parts).name):
                try:
                    if "\0" not in candidate and place.resolve().is_relative_to(self.root) and place.is_file():
                        return place
                except (OSError, ValueError):
                    continue  # no file can have that name
        raise InputError(f"The file {name[:120]} was not given with the scene.")

    def _bytes(self, place: Path, name: str) -> bytes:
        size = place.stat().st_size
        if size > MOST_BYTES:
            raise InputError(f"The file {name} has {size / 2**30:.1f} GB; more than {MOST_BYTES >> 30} can't be read.")
        return place.read_bytes()
