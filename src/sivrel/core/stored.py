"""Formats of stored data: recipes, edits, findings and tunings carry a format version, and are upgraded when
they are read.

To change a format: append a step to its tuple here, which converts data of the previous version. Nothing in the store is
rewritten; an older program refuses the newer data in a sentence. Data of version 1 may leave the version out.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from .errors import InputError

Data = dict[str, Any]
Step = Callable[[Data], Data]


@dataclass(frozen=True)
class Format:
    """name: in words; steps: the first one upgrades version 1 to 2, and so on."""

    name: str
    steps: tuple[Step, ...] = ()

    @property
    def version(self) -> int:
        return 1 + len(self.steps)

    def stamp(self, data: Data) -> Data:
        """Data of this version, as it is stored."""
        return {**data, "version": self.version} if self.version > 1 else data

    def upgrade(self, data: Any) -> Data:
        """Stored data upgraded to this version, without the version number. Raises InputError for newer data, and for anything but a JSON object."""
        if not isinstance(data, dict):
            raise InputError(f"A stored {self.name} is damaged: it is not a JSON object.")
        version = data.get("version", 1)
        if type(version) is not int or version < 1:
            raise InputError(f"A stored {self.name} has the version {str(version)[:40]}; versions are whole numbers from 1 on.")
        if version > self.version:
            raise InputError(
                f"The {self.name} is of version {version}, and this program reads versions up to {self.version}; it was written by a newer Sivrel, "
                "update this one to read it."
            )
        current = {key: value for key, value in data.items() if key != "version"}
        for step in self.steps[version - 1 :]:
            current = step(current)
        return current


def renamed(old: str, new: str) -> Step:
    """A step that moves the value at the key `old`, `group.name`, to `new`; data without it stay as they are."""

    def step(data: Data) -> Data:
        (group, name), (new_group, new_name) = old.split("."), new.split(".")
        if not isinstance(data.get(group), dict) or name not in data[group]:
            return data
        moved = {**data, group: {key: value for key, value in data[group].items() if key != name}}
        return {**moved, new_group: {**moved.get(new_group, {}), new_name: data[group][name]}}

    return step


def retired(key: str) -> Step:
    """A step that drops the key `group.name`."""

    def step(data: Data) -> Data:
        group, name = key.split(".")
        if not isinstance(data.get(group), dict):
            return data
        return {**data, group: {k: value for k, value in data[group].items() if k != name}}

    return step


def added(key: str, value: Any, **where: Any) -> Step:
    """A step that adds the key `group.name` with a value, to data that have the group, with these values in it: what older programs did, where the
    default is new."""

    def step(data: Data) -> Data:
        group, name = key.split(".")
        if not isinstance(data.get(group), dict) or any(data[group].get(other) != wanted for other, wanted in where.items()):
            return data
        return {**data, group: {name: value, **data[group]}}

    return step


RECIPE = Format("recipe", (added("gi.gloss", "traced"), added("surfaces.subdivide", 0.0), added("caustics.gloss", 1.0, on="yes")))
EDITS, FINDING, TUNING = Format("edits"), Format("finding"), Format("tuning")
