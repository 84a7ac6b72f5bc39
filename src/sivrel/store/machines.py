"""This machine's limits, and the helpers of a scheduler as the worker saw them last."""

import sqlite3
from collections.abc import Iterable
from dataclasses import astuple, dataclass, fields

from ..core import machine
from ..core.machine import Limits
from .database import transaction


@dataclass(frozen=True)
class Helper:
    """problem: why it is not used, or empty; does: what it does now, in words, or empty; parts: how many it has done; lost: tasks that did not come
    back; speed: against the mean of all; memory, most_memory: bytes; load: processors in use, as a share of its threads."""

    address: str
    name: str
    threads: int
    here: bool
    problem: str
    does: str
    parts: int
    lost: int
    speed: float
    memory: int
    most_memory: int
    load: float


@dataclass(frozen=True)
class Elsewhere:
    """scheduler: its address, empty if everything runs here; says: what is wrong with it, or empty; threads: of all helpers that are used."""

    scheduler: str
    says: str
    threads: int


def set_limits(db: sqlite3.Connection, wanted: Limits | None) -> None:
    """Set the limits of this machine; None for those that the program was started with."""
    db.execute("UPDATE machine SET threads = ?, memory = ?, nice = ?", astuple(wanted) if wanted is not None else (None, None, None))


def are_set(db: sqlite3.Connection) -> bool:
    return db.execute("SELECT threads FROM machine").fetchone()[0] is not None


def limits(db: sqlite3.Connection) -> Limits:
    """The limits that are set, or else those that the program was started with."""
    row = db.execute("SELECT threads, memory, nice FROM machine").fetchone()
    return machine.of_environment() if row["threads"] is None else Limits(row["threads"], row["memory"], row["nice"])


def set_elsewhere(db: sqlite3.Connection, scheduler: str, says: str, helpers: Iterable[Helper] = ()) -> None:
    """Store what is known of the scheduler and its helpers."""
    helpers = list(helpers)
    with transaction(db):
        threads = sum(one.threads for one in helpers if not one.problem)
        db.execute("UPDATE machine SET scheduler = ?, says = ?, helped_threads = ?", (scheduler, says, threads))
        db.execute("DELETE FROM helpers")
        places = ", ".join("?" * len(fields(Helper)))
        db.executemany(f"INSERT INTO helpers VALUES ({places})", [astuple(one) for one in helpers])


def elsewhere(db: sqlite3.Connection) -> Elsewhere:
    row = db.execute("SELECT scheduler, says, helped_threads FROM machine").fetchone()
    return Elsewhere(row["scheduler"], row["says"], row["helped_threads"])


def helpers(db: sqlite3.Connection) -> list[Helper]:
    """The helpers, those that are used first."""
    rows = db.execute("SELECT * FROM helpers ORDER BY problem != '', name, address")
    return [Helper(**{**dict(row), "here": bool(row["here"])}) for row in rows]


def threads_here(db: sqlite3.Connection) -> int:
    """Threads on which a render runs on this machine."""
    return limits(db).threads or machine.threads()


def threads(db: sqlite3.Connection) -> int:
    """Threads on which a render runs now: those of the helpers, or of this machine."""
    return elsewhere(db).threads or threads_here(db)
