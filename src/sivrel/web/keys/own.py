"""Own key bindings, from the file keys.json of the data folder: {"name of a command": "key" or ["key", ...]}."""

import json
import re
from collections.abc import Iterable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from .command import NAMED, Command, Group
from .pages import PAGES

FILE = "keys.json"
_KEY = re.compile(rf"[a-z0-9]( [a-z0-9])?|{'|'.join(name for name in NAMED if name != 'Ctrl')}")
CHANGEABLE = frozenset(command.name for groups in PAGES.values() for group in groups for command in group.commands if not command.by_page)


@dataclass(frozen=True)
class Keys:
    """The commands of a page in groups, with the bindings that apply, and what is wrong with the file of own ones."""

    groups: tuple[Group, ...]
    problems: tuple[str, ...] = ()

    @property
    def commands(self) -> list[Command]:
        return [command for group in self.groups for command in group.commands]

    @property
    def by_name(self) -> dict[str, Command]:
        return {command.name: command for command in self.commands}

    def listed(self) -> list[dict[str, Any]]:
        """For the page's script: what the keys do, and what the palette shows and finds."""
        return [
            {"name": one.name, "keys": list(one.keys), "shown": one.shown, "says": one.says, "words": f"{one.label} {one.words}", "held": one.held}
            for one in self.commands
        ]  # fmt: skip


def keys_of(page: str, data: Path | None = None, outside: bool = False) -> Keys:
    """The keys of a page, with the own bindings of a data folder; without what needs a scene for pictures from `outside`."""
    own, problems = read_own(data / FILE) if data is not None else ({}, ())
    groups = [
        Group(group.title, tuple(replace(one, keys=own.get(one.name, one.keys)) for one in group.commands if not (outside and one.of_scene)))
        for group in PAGES[page]
    ]
    clashes = clashes_in(one for group in groups for one in group.commands)
    if clashes:  # the file is set aside for this page: half of it could leave a command without a key
        return replace(keys_of(page, None, outside), problems=(*problems, *clashes))
    return Keys(tuple(groups), problems)


def read_own(path: Path) -> tuple[dict[str, tuple[str, ...]], tuple[str, ...]]:
    """The bindings of a file by command, and what is wrong with it, as sentences. What is wrong is left out, the rest applies."""
    try:
        values = json.loads(path.read_text("utf-8"))
    except FileNotFoundError:
        return {}, ()
    except (OSError, ValueError) as error:
        return {}, (f"{FILE} cannot be read ({error}); correct it, or delete it to use the keys as shipped.",)
    if not isinstance(values, dict):
        return {}, (f'{FILE} must hold an object like {{"wipe": "w"}}.',)
    own, problems = {}, []
    for name, value in values.items():
        keys = tuple(value) if isinstance(value, list) else (value,)
        if name not in CHANGEABLE:
            problems.append(f"{FILE}: there is no command {name!r} that can be changed; `sivrel keys` lists them.")
        elif not keys or not all(isinstance(key, str) and _KEY.fullmatch(key) for key in keys):
            problems.append(f"{FILE}: {name!r} needs a letter, a digit, two of them with a space between, or one of {', '.join(NAMED[:-1])}.")
        else:
            own[name] = keys
    return own, tuple(problems)


def clashes_in(commands: Iterable[Command]) -> tuple[str, ...]:
    """Keys of one page that two commands claim, or that begin a pair of keys and are a command as well; as sentences."""
    claimed: dict[str, str] = {}
    sentences = []
    for command in commands:
        for key in command.keys:
            if key in claimed:
                sentences.append(f"{FILE}: {key!r} would be both {claimed[key]!r} and {command.name!r}; give one of them another key.")
            claimed[key] = command.name
    for key, name in claimed.items():
        first = key.split(" ")[0]
        if first != key and first in claimed:
            sentences.append(f"{FILE}: {first!r} is {claimed[first]!r} and begins {key!r} ({name!r}); give one of them another key.")
    return tuple(sentences)
