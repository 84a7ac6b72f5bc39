"""Jobs: renders that wait, run and end; and what the worker says of itself."""

import sqlite3
from dataclasses import dataclass

from .database import transaction


@dataclass(frozen=True)
class Job:
    id: int
    proof_id: int
    state: str
    cancel: bool
    tiles_done: int
    tiles_total: int
    seconds: float
    message: str


@dataclass(frozen=True)
class Worker:
    """phase: absent, compiling, idle, reading, rendering; done and total count kernels while compiling."""

    phase: str
    done: int
    total: int
    message: str


def _job(row: sqlite3.Row | None) -> Job | None:
    if row is None:
        return None
    return Job(
        row["id"], row["proof_id"], row["state"], bool(row["cancel"]), row["tiles_done"], row["tiles_total"],
        row["seconds"], row["message"],
    )  # fmt: skip


def add(db: sqlite3.Connection, proof_id: int, tiles: int) -> None:
    db.execute("INSERT INTO jobs (proof_id, state, tiles_total) VALUES (?, 'waiting', ?)", (proof_id, tiles))


def of_proof(db: sqlite3.Connection, proof_id: int) -> Job | None:
    return _job(db.execute("SELECT * FROM jobs WHERE proof_id = ?", (proof_id,)).fetchone())


def take(db: sqlite3.Connection) -> Job | None:
    """The job that has waited longest, now rendering."""
    if db.execute("SELECT 1 FROM jobs WHERE state = 'waiting'").fetchone() is None:
        return None
    with transaction(db):
        row = db.execute("SELECT * FROM jobs WHERE state = 'waiting' ORDER BY id LIMIT 1").fetchone()
        if row is not None:
            db.execute("UPDATE jobs SET state = 'rendering' WHERE id = ?", (row["id"],))
    return _job(row)


def progress(db: sqlite3.Connection, job_id: int, tiles_done: int, seconds: float) -> None:
    db.execute("UPDATE jobs SET tiles_done = ?, seconds = ? WHERE id = ?", (tiles_done, seconds, job_id))


def end(db: sqlite3.Connection, job_id: int, state: str, message: str = "") -> None:
    db.execute("UPDATE jobs SET state = ?, message = ? WHERE id = ?", (state, message, job_id))


def requeue(db: sqlite3.Connection) -> int:
    """Jobs that a killed worker left rendering wait again; returns their number."""
    return db.execute("UPDATE jobs SET state = 'waiting' WHERE state = 'rendering'").rowcount


def cancel(db: sqlite3.Connection, proof_id: int) -> None:
    """Cancel a proof's job: at once when it waits, within a pixel when it renders."""
    db.execute("UPDATE jobs SET state = 'cancelled' WHERE proof_id = ? AND state = 'waiting'", (proof_id,))
    db.execute("UPDATE jobs SET cancel = 1 WHERE proof_id = ? AND state = 'rendering'", (proof_id,))


def resume(db: sqlite3.Connection, proof_id: int) -> None:
    """Let a cancelled or failed job go on from the tiles that it has."""
    db.execute(
        "UPDATE jobs SET state = 'waiting', cancel = 0, message = '' WHERE proof_id = ? AND state IN ('cancelled', 'failed')",
        (proof_id,),
    )


def is_cancelled(db: sqlite3.Connection, job_id: int) -> bool:
    return bool(db.execute("SELECT cancel FROM jobs WHERE id = ?", (job_id,)).fetchone()[0])


def counts(db: sqlite3.Connection) -> tuple[int, int]:
    """Numbers of jobs that render and that wait."""
    rows = dict(db.execute("SELECT state, count(*) FROM jobs WHERE state IN ('rendering', 'waiting') GROUP BY state"))
    return rows.get("rendering", 0), rows.get("waiting", 0)


def set_worker(db: sqlite3.Connection, phase: str, done: int = 0, total: int = 0, message: str = "") -> None:
    db.execute("UPDATE worker SET phase = ?, done = ?, total = ?, message = ?", (phase, done, total, message))


def worker(db: sqlite3.Connection) -> Worker:
    row = db.execute("SELECT * FROM worker").fetchone()
    return Worker(row["phase"], row["done"], row["total"], row["message"])
