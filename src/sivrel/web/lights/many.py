"""Lights in groups, where there are many: by the file's own tree, searched, and sorted by what they bring."""

import re
from dataclasses import dataclass
from typing import Any

from ...core.pack.lights import GROUPED
from .panel import Line

MANY = 24
"""Lights above which they are listed in groups."""
MOST_LINES, MOST_GROUPS = 60, 60
"""Most lights and groups that are listed at once; a search finds the others."""
ORDERS = {"file": "as in the file", "light": "most light first", "noise": "most noise first", "time": "most time first"}
ALONE = "in no group"


@dataclass(frozen=True)
class Group:
    """Lights of one place in the file's tree. measure: what all of them bring together, if measured; open: whether its lights are listed."""

    name: str
    lines: list[Line]
    measure: dict[str, Any] | None
    open: bool

    @property
    def lights(self) -> list[list[Any]]:
        """Name and exposure in the file of each, for changes of all of them."""
        return [[line.name, line.exposure] for line in self.lines if line.group == "light"]

    @property
    def on(self) -> bool:
        return any(line.on for line in self.lines)


def found(lines: list[Line], text: str) -> list[Line]:
    """The lines in whose name, place or kind every word occurs."""
    words = re.findall(r"\S+", text.lower())
    return [line for line in lines if all(word in f"{line.name} {line.place} {line.noun}".lower() for word in words)]


def grouped(lines: list[Line], measures: dict[str, dict[str, Any]], order: str, opened: str, all_open: bool) -> list[Group]:
    """The lines by their place, each group with its measure: its own row of the ledger, or the sum of its lights'. `opened` is the name of a
    group or of a light whose group is open."""
    places: dict[str, list[Line]] = {}
    for line in lines:
        places.setdefault(line.place or ALONE, []).append(line)
    groups = []
    for name, own in places.items():
        measure = measures.get(GROUPED + name) or _sum([line.measure for line in own])
        is_open = all_open or opened == name or any(line.name == opened for line in own)
        groups.append(Group(name, sorted(own, key=lambda line: _key(line.measure, order)), measure, is_open))
    return sorted(groups, key=lambda group: _key(group.measure, order))


def _key(measure: dict[str, Any] | None, order: str) -> float:
    """Sorts by a measure of ORDERS, most first; what has none, like all by “file”, stays as it is."""
    return -float((measure or {}).get(order) or 0.0) if order in ORDERS else 0.0


def _sum(measures: list[dict[str, Any] | None]) -> dict[str, Any] | None:
    known = [one for one in measures if one]
    if len(known) < len(measures):  # some of them are measured with others
        return None
    return {key: sum(one.get(key) or 0.0 for one in known) for key in ("light", "noise", "time")}
