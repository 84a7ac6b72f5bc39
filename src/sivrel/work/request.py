"""A request to the worker, as passed to its handler."""

import functools
import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from ..core.edits.edits import from_json as edits_from_json
from ..core.render.frame import Frame
from ..core.render.prepare import Prepared
from ..core.render.recipe import Recipe, from_json, with_values
from ..core.task import Cancel, Task
from ..store import database, requests, shots

if TYPE_CHECKING:
    from .worker import Worker

POLL = 0.1
"""Seconds between checks for cancelled requests."""


@dataclass
class Request:
    """number: of the request; shot_id, body: its contents; db: a connection of the handling thread; cancel: set when nobody waits any
    more."""

    worker: "Worker"
    db: sqlite3.Connection
    number: int
    shot_id: int
    body: dict[str, Any]
    cancel: Cancel = field(default_factory=Cancel)

    @functools.cached_property
    def shot(self) -> shots.Shot:
        return shots.get(self.db, self.shot_id)

    @functools.cached_property
    def recipe(self) -> Recipe:
        return from_json(self.body["recipe"])

    def prepared(self) -> Prepared:
        """The shot prepared with the recipe and edits of the body: its scene and lights. Caches of bounced light are only made for pictures."""
        plain = with_values(self.recipe, {"gi.seen": "off", "caustics.on": "no"})
        frame = Frame(time=self.body.get("time"))
        return self.worker.prepare(self.db, self.shot, plain, edits_from_json(self.body["edits"]), self.body.get("camera"), frame=frame)

    def report(self, part: dict[str, Any]) -> None:
        """Store a part of the reply, which the page shows meanwhile; checks for cancelling."""
        if not requests.tell(self.db, self.number, {**part, "done": False}):
            self.cancel.set()

    def task(self, part_of: Callable[[str, float, Any], dict[str, Any]]) -> Task:
        """A task of the core that reports parts, as `part_of(what, share, result)` puts them."""

        def hear(what: str, share: float, result: Any) -> None:
            self.report(part_of(what, share, result))

        return Task(hear, self.cancel, elsewhere=self.worker.helpers.elsewhere)

    @contextmanager
    def watched(self) -> Iterator[None]:
        """Watch for cancelling of the request."""
        over = threading.Event()

        def watch() -> None:
            db = database.connect(self.worker.data)
            while not over.wait(POLL):
                if requests.answered(db, self.number)[1]:
                    self.cancel.set()
                    break
            db.close()

        watcher = threading.Thread(target=watch, daemon=True)
        watcher.start()
        try:
            yield
        finally:
            over.set()
            watcher.join()
