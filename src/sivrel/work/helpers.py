"""The worker's connection to a scheduler: kept up, and shown on the page of machines."""

import logging
import os
import threading
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..core.errors import InputError
from ..core.spread import Elsewhere
from ..store import database, machines
from .room import when_there_is_room

if TYPE_CHECKING:
    from ..cluster.cluster import Cluster

LOOK, AGAIN = 1.0, 5.0
"""Seconds between looks at the helpers, and between attempts to reach a scheduler."""
KINDS = {"TileWork": "renders tiles", "GatherWork": "gathers light for a cache", "PhotonWork": "shoots photons"}
log = logging.getLogger(__name__)


class Helpers:
    """Keeps a connection to the scheduler that SIVREL_SCHEDULER names, if any, in a thread of its own."""

    def __init__(self, data: Path, ending: threading.Event) -> None:
        self.data, self.ending = data, ending
        self.address = os.environ.get("SIVREL_SCHEDULER", "")
        self.strict = os.environ.get("SIVREL_SAME_PROCESSOR", "") not in ("", "0")
        self.cluster: Cluster | None = None
        self.shown: Any = None

    @property
    def elsewhere(self) -> Elsewhere | None:
        """The helpers, if the scheduler can be reached."""
        return self.cluster

    def start(self) -> None:
        threading.Thread(target=self._run, daemon=True).start()

    def _run(self) -> None:
        db = database.connect(self.data)
        self._show(db, "" if not self.address else "The scheduler is not reached yet.")
        while self.address and not self.ending.is_set():
            try:
                self._keep_up(db)
            except Exception:  # renders go on here
                log.exception("The helpers can't be used.")
                self._show(db, "The helpers can't be used; see the log in the data folder.")
            self.cluster = None
            self.ending.wait(AGAIN)
        db.close()

    def _keep_up(self, db: Any) -> None:
        """Connect, and look after the helpers until the scheduler has gone."""
        try:
            from ..cluster.cluster import Cluster

            with Cluster(self.address, log.info, self.strict) as cluster:
                self.cluster = cluster
                while not self.ending.is_set():
                    cluster.look()
                    if not cluster.answers():
                        break
                    self._show(db, "")
                    time.sleep(LOOK)
                self.cluster = None
            self._show(db, f"The scheduler {self.address} has gone; everything is rendered here until it is back.")
        except InputError as error:
            self._show(db, str(error))

    def _show(self, db: Any, says: str) -> None:
        from ..cluster.members import speeds

        members = list(self.cluster.members.values()) if self.cluster is not None else []
        speed = speeds(members)
        rows = [
            machines.Helper(
                one.address, one.name or one.address, one.threads, one.here, one.problem if one.introduced else "is being asked what it is",
                KINDS.get(one.does, one.does) if one.out else "", one.parts, one.lost, speed.get(one.address, 1.0), one.memory, one.most_memory,
                one.load,
            )
            for one in members
        ]  # fmt: skip
        if (says, rows) != self.shown:
            self.shown = says, rows
            when_there_is_room(lambda: machines.set_elsewhere(db, self.address, says, rows), lambda: not self.ending.is_set())
