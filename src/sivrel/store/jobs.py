"""Jobs: waiting, running and finished renders; and the worker's state."""

import sqlite3
from dataclasses import dataclass

from ..core.edits.edits import Edits
from ..core.edits.edits import to_json as edits_to_json
from ..core.measure.cost import guess_seconds
from ..core.render.frame import Frame
from ..core.render.recipe import Recipe
from . import machines, proofs
from .database import transaction


@dataclass(frozen=True)
class Job:
    """A render. held: paused by the user; gives_way: runs only when no other job waits; guess: predicted seconds
    when it was queued, on guess_threads; pixel_seconds: seconds of its pixels, without preparation; processor_seconds: of all processors."""

    id: int
    proof_id: int
    state: str
    cancel: bool
    tiles_done: int
    tiles_total: int
    seconds: float
    message: str
    held: bool
    gives_way: bool
    guess: float | None
    pixel_seconds: float
    guess_threads: int | None
    processor_seconds: float


@dataclass(frozen=True)
class Worker:
    """phase: absent, compiling, idle, reading, making, rendering; done and total count kernels while compiling; held: the queue is paused;
    warming: what is compiled behind its other work, in words, empty when everything is."""

    phase: str
    done: int
    total: int
    message: str
    held: bool
    warming: str


def _job(row: sqlite3.Row | None) -> Job | None:
    if row is None:
        return None
    return Job(
        row["id"], row["proof_id"], row["state"], bool(row["cancel"]), row["tiles_done"], row["tiles_total"],
        row["seconds"], row["message"], bool(row["held"]), bool(row["gives_way"]), row["guess"], row["pixel_seconds"],
        row["guess_threads"], row["processor_seconds"],
    )  # fmt: skip


def add(db: sqlite3.Connection, proof_id: int, tiles: int, gives_way: bool = False, guess: float | None = None) -> None:
    """Queue a proof for rendering, at the end."""
    db.execute(
        """INSERT INTO jobs (proof_id, state, tiles_total, gives_way, guess, guess_threads, place)
           VALUES (?, 'waiting', ?, ?, ?, ?, coalesce((SELECT max(place) FROM jobs), 0) + 1)""",
        (proof_id, tiles, gives_way, guess, machines.threads(db)),
    )


def add_proof(
    db: sqlite3.Connection, shot_id: int, parent_id: int | None, recipe: Recipe, camera: str, frame: Frame, *, edits: Edits, note: str = "",
    guess: float | None = None, gives_way: bool = False,
) -> int:  # fmt: skip
    """Store a proof and queue it for rendering; returns its number. `guess`: predicted seconds, by default from the
    last renders of its shot."""
    guess = guess or guess_seconds(recipe, frame, camera, proofs.timed(db, shot_id), edits_to_json(edits))
    number = proofs.add(db, shot_id, parent_id, recipe, camera, frame, note=note, edits=edits)
    add(db, number, len(frame.tiles()), gives_way, guess)
    return number


def of_proof(db: sqlite3.Connection, proof_id: int) -> Job | None:
    return _job(db.execute("SELECT * FROM jobs WHERE proof_id = ?", (proof_id,)).fetchone())


_NEXT = "FROM jobs WHERE state = 'waiting' AND NOT held AND NOT (SELECT held FROM worker) ORDER BY gives_way, place LIMIT 1"


def take(db: sqlite3.Connection) -> Job | None:
    """The first job of the queue, now rendering; those that give way come last. None while the queue is paused."""
    if db.execute(f"SELECT 1 {_NEXT}").fetchone() is None:
        return None
    with transaction(db):
        row = db.execute(f"SELECT * {_NEXT}").fetchone()
        if row is not None:
            db.execute("UPDATE jobs SET state = 'rendering' WHERE id = ?", (row["id"],))
    return _job(row)


def progress(
    db: sqlite3.Connection, job_id: int, tiles_done: int, seconds: float, pixel_seconds: float, processor_seconds: float = 0.0
) -> None:  # fmt: skip
    """Store a job's progress. A job that makes progress does not kill the worker, so its attempts are reset."""
    db.execute(
        """UPDATE jobs SET attempts = CASE WHEN ? > tiles_done THEN -1 ELSE attempts END, tiles_done = ?, seconds = ?, pixel_seconds = ?,
             processor_seconds = ? WHERE id = ?""",
        (tiles_done, tiles_done, seconds, pixel_seconds, processor_seconds, job_id),
    )


def stands_back(db: sqlite3.Connection, job_id: int) -> bool:
    """Whether a running job must pause: it or the queue is held, or it gives way and another waits."""
    row = db.execute(
        """SELECT held OR (SELECT held FROM worker) OR (gives_way AND EXISTS
             (SELECT 1 FROM jobs AS other WHERE other.state = 'waiting' AND NOT other.held AND NOT other.gives_way))
           FROM jobs WHERE id = ?""",
        (job_id,),
    ).fetchone()
    return bool(row[0])


def stand_back(db: sqlite3.Connection, job_id: int) -> None:
    """Return a running job to its place in the queue."""
    db.execute("UPDATE jobs SET state = 'waiting' WHERE id = ? AND state = 'rendering'", (job_id,))


def end(db: sqlite3.Connection, job_id: int, state: str, message: str = "") -> None:
    db.execute("UPDATE jobs SET state = ?, message = ? WHERE id = ?", (state, message, job_id))


def requeue(db: sqlite3.Connection) -> int:
    """Requeue jobs that a killed worker left running; returns their number."""
    return db.execute("UPDATE jobs SET state = 'waiting' WHERE state = 'rendering'").rowcount


def count_attempt(db: sqlite3.Connection, most: int, problem: str) -> None:
    """The worker died during the running job: requeue it, or mark it failed with `problem` after `most` times without a new tile."""
    with transaction(db):
        db.execute("UPDATE jobs SET attempts = attempts + 1 WHERE state = 'rendering'")
        db.execute("UPDATE jobs SET state = 'failed', message = ?, attempts = 0 WHERE state = 'rendering' AND attempts >= ?", (problem, most))
        requeue(db)


def cancel(db: sqlite3.Connection, proof_id: int) -> None:
    """Cancel a proof's job: at once if it waits, within a few samples if it runs."""
    db.execute("UPDATE jobs SET state = 'cancelled' WHERE proof_id = ? AND state = 'waiting'", (proof_id,))
    db.execute("UPDATE jobs SET cancel = 1 WHERE proof_id = ? AND state = 'rendering'", (proof_id,))


def resume(db: sqlite3.Connection, proof_id: int) -> None:
    """Resume a cancelled or failed job from its tiles."""
    db.execute(
        "UPDATE jobs SET state = 'waiting', cancel = 0, message = '' WHERE proof_id = ? AND state IN ('cancelled', 'failed')",
        (proof_id,),
    )


def is_cancelled(db: sqlite3.Connection, job_id: int) -> bool:
    return bool(db.execute("SELECT cancel FROM jobs WHERE id = ?", (job_id,)).fetchone()[0])


def hold(db: sqlite3.Connection, proof_id: int, on: bool) -> None:
    """Pause or resume a job."""
    db.execute("UPDATE jobs SET held = ? WHERE proof_id = ?", (on, proof_id))


def hold_all(db: sqlite3.Connection, on: bool) -> None:
    """Pause or resume the queue."""
    db.execute("UPDATE worker SET held = ?", (on,))


def give_way(db: sqlite3.Connection, proof_id: int, on: bool) -> None:
    db.execute("UPDATE jobs SET gives_way = ? WHERE proof_id = ?", (on, proof_id))


def move(db: sqlite3.Connection, proof_id: int, by: int) -> None:
    """Move a waiting job by a number of places up (negative) or down the queue."""
    with transaction(db):
        waiting = [row["proof_id"] for row in db.execute("SELECT proof_id FROM jobs WHERE state = 'waiting' ORDER BY gives_way, place")]
        if proof_id not in waiting:
            return
        at = waiting.index(proof_id)
        to = max(0, min(len(waiting) - 1, at + by))
        waiting.insert(to, waiting.pop(at))
        places = sorted(row["place"] for row in db.execute("SELECT place FROM jobs WHERE state = 'waiting'"))
        for number, place in zip(waiting, places, strict=True):
            db.execute("UPDATE jobs SET place = ? WHERE proof_id = ?", (place, number))


def queue(db: sqlite3.Connection) -> list[tuple[Job, int]]:
    """Running and waiting jobs in order of execution, each with its shot."""
    rows = db.execute(
        """SELECT jobs.*, proofs.shot_id FROM jobs JOIN proofs ON proofs.id = proof_id WHERE state IN ('rendering', 'waiting')
           ORDER BY state = 'waiting', jobs.held, gives_way, place"""
    )
    return [(job, row["shot_id"]) for row in rows if (job := _job(row))]


def to_resume(db: sqlite3.Connection) -> set[str]:
    """Numbers, as text, of the jobs that were cancelled or failed and can be resumed from their tiles."""
    return {str(row["id"]) for row in db.execute("SELECT id FROM jobs WHERE state IN ('cancelled', 'failed')")}


def guesses(db: sqlite3.Connection, most: int = 40) -> list[tuple[float, float]]:
    """(guess, seconds) of the last finished renders with a prediction."""
    rows = db.execute("SELECT guess, seconds FROM jobs WHERE state = 'done' AND guess IS NOT NULL ORDER BY id DESC LIMIT ?", (most,))
    return [(row["guess"], row["seconds"]) for row in rows]


def counts(db: sqlite3.Connection) -> tuple[int, int, int]:
    """Numbers of running, waiting and finished jobs."""
    rows = dict(db.execute("SELECT state, count(*) FROM jobs GROUP BY state"))
    rendering, waiting = rows.pop("rendering", 0), rows.pop("waiting", 0)
    return rendering, waiting, sum(rows.values())


def set_worker(db: sqlite3.Connection, phase: str, done: int = 0, total: int = 0, message: str = "") -> None:
    db.execute("UPDATE worker SET phase = ?, done = ?, total = ?, message = ?", (phase, done, total, message))


def worker(db: sqlite3.Connection) -> Worker:
    row = db.execute("SELECT * FROM worker").fetchone()
    return Worker(row["phase"], row["done"], row["total"], row["message"], bool(row["held"]), row["warming"])


def set_warming(db: sqlite3.Connection, words: str) -> None:
    db.execute("UPDATE worker SET warming = ?", (words,))
