"""Files that are being opened: each is inspected in the background, tells how far it is, can be cancelled, and asks before a large one is opened."""

import secrets
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from ..core.errors import Cancelled, InputError
from .looking_in import Hear

FORGOTTEN = 600.0
"""Seconds after which an opening that nobody asks about is cancelled."""
MUCH_MEMORY, LONG = 2 << 30, 20.0
"""Bytes and seconds from which a scene is asked about first."""


@dataclass
class Opening:
    """One file. what, share: how far its inspection is; facts: its result; problem: why it can't be opened."""

    name: str
    discard: Callable[[], None]
    what: str = "looking at the file"
    share: float = 0.0
    facts: dict[str, Any] | None = None
    problem: str = ""
    asked: float = field(default_factory=time.monotonic)
    stopped: threading.Event = field(default_factory=threading.Event)

    def hear(self, share: float, what: str) -> None:
        """Receive progress; raises Cancelled after `stop`."""
        if self.stopped.is_set():
            raise Cancelled(f"{self.name} was not opened.")
        if what:
            self.share, self.what = share, what

    def stop(self) -> None:
        self.stopped.set()

    @property
    def question(self) -> str:
        """What is asked before a large scene is opened; empty for others."""
        announced = in_words(self.name, (self.facts or {}).get("load", {}))
        return f"{announced} Open it?" if announced else ""


def in_words(name: str, load: dict[str, float]) -> str:
    """Sentences on what a large scene asks of the machine; empty for others. load: see facts.load_of."""
    if load.get("bytes", 0) < MUCH_MEMORY and load.get("seconds", 0.0) < LONG:
        return ""
    placed = f" in {load['placements']:,} placements, of which {_many(load['stored'])} are stored" if load["placements"] else ""
    return (
        f"{name} has {_many(load['triangles'])} triangles{placed}. Until it can be rendered it takes about {load['seconds']:.0f} s and "
        f"{load['bytes'] / 2**30:.1f} GB."
    )


def _many(number: float) -> str:
    return f"{number / 1e6:.3g} million" if number >= 1e6 else f"{number:,.0f}"


class Openings:
    """All files that are being opened, by a random key."""

    def __init__(self) -> None:
        self._of: dict[str, Opening] = {}
        self._lock = threading.Lock()

    def start(self, name: str, inspect: Callable[[Hear], dict[str, Any]], discard: Callable[[], None]) -> str:
        """Begin to inspect a file; `discard` deletes what was uploaded if it is not opened. Returns its key."""
        self._forget()
        opening, key = Opening(name, discard), secrets.token_urlsafe(16)
        with self._lock:
            self._of[key] = opening
        threading.Thread(target=_run, args=(opening, inspect), name="opening", daemon=True).start()
        return key

    def get(self, key: str) -> Opening | None:
        opening = self._of.get(key)
        if opening is not None:
            opening.asked = time.monotonic()
        return opening

    def take(self, key: str) -> Opening | None:
        """An opening whose inspection is done, which is forgotten here."""
        with self._lock:
            opening = self._of.get(key)
            return self._of.pop(key) if opening is not None and opening.facts is not None else None

    def cancel(self, key: str) -> None:
        with self._lock:
            opening = self._of.pop(key, None)
        if opening is not None:
            opening.stop()
            if opening.facts is not None:
                opening.discard()

    def _forget(self) -> None:
        for key, opening in list(self._of.items()):
            if time.monotonic() - opening.asked > FORGOTTEN:
                self.cancel(key)


def _run(opening: Opening, inspect: Callable[[Hear], dict[str, Any]]) -> None:
    try:
        facts = inspect(opening.hear)
        if opening.stopped.is_set():
            raise Cancelled("")
        opening.facts = facts
    except (InputError, Cancelled) as error:
        opening.problem = str(error)
        opening.discard()
    except Exception:
        opening.problem = f"{opening.name} could not be inspected; see the terminal where Sivrel runs."
        opening.discard()
        raise
