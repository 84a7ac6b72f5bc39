"""Recovers jobs and requests after a worker, or the whole program, ended unexpectedly."""

import fcntl
import logging
import os
import shutil
import sqlite3
import time
from pathlib import Path

from ..store import jobs, moments, requests, shots, tunings

MOST_ATTEMPTS = 2
"""Number of times that a worker may die during a job or request before that fails."""
PATIENCE = 5.0
"""Seconds in which a worker without a server ends."""
log = logging.getLogger(__name__)
UNASKED = ("retest", "judge")
"""Kinds of requests that the worker makes itself: no page waits for them."""


def worker_died(db: sqlite3.Connection, how: str) -> None:
    """Requeue the work of a dead worker; fail what killed a worker before, so that the rest gets its turn."""
    doing = _doing(jobs.worker(db))
    jobs.count_attempt(
        db, MOST_ATTEMPTS,
        f"The renderer ended twice ({how}) while it was {doing}. Change the recipe or the scene, or resume it; see the log.",
    )  # fmt: skip
    problem = f"The renderer ended twice ({how}) during this; see the log in the data folder."
    for question in requests.count_attempt(db, MOST_ATTEMPTS, problem):
        tunings.end_of_question(db, question, problem)
    moments.end_all(db, f"The renderer ended ({how}) during this picture; change something else.")
    shots.forget_opened(db)


def _doing(worker: jobs.Worker) -> str:
    named = {"reading": f"reading {worker.message}", "making": f"making the {worker.message}", "rendering": "rendering tiles"}
    return named.get(worker.phase, "at work")


def worker_cannot_start(db: sqlite3.Connection, how: str) -> None:
    """Workers end as soon as they start: fail everything that waits for an answer."""
    _end_questions(db, f"The renderer can't be started ({how}); see the log in the data folder.", ())


def program_started(db: sqlite3.Connection, data: Path) -> None:
    """Clean up a folder after a program that may have been killed: end requests of its pages, and delete
    half-written files. Does nothing while another program uses the folder."""
    end = time.monotonic() + PATIENCE
    while not _is_alone(data):  # the worker of a killed server ends shortly
        if time.monotonic() > end:
            log.warning("Another Sivrel uses %s: this one serves its pages, and renders when that one ends.", data)
            return
        time.sleep(0.05)
    _end_questions(db, "Sivrel was restarted meanwhile; try again.", UNASKED)
    swept = sweep(db, data)
    if swept:
        log.info("%d leftovers of a killed program were deleted.", swept)


def _end_questions(db: sqlite3.Connection, problem: str, but: tuple[str, ...]) -> None:
    for question in requests.end_all(db, problem, but):
        tunings.end_of_question(db, question, problem)
    moments.end_all(db, problem)


def sweep(db: sqlite3.Connection, data: Path) -> int:
    """Delete leftovers of a killed program in its folder; returns the number of files and folders."""
    gone = 0
    for path in _leftovers(db, data):
        try:
            if path.is_dir() and not path.is_symlink():
                shutil.rmtree(path)
            else:
                path.unlink()
            gone += 1
        except OSError:
            continue  # it can be deleted next time
    return gone


def _leftovers(db: sqlite3.Connection, data: Path) -> list[Path]:
    found = [data / "moments"] if (data / "moments").is_dir() else []
    for folder in ("pictures", "caches", "trials", "thumbnails", "filtered", "uploads"):
        found += [path for pattern in (".*", "*.new") for path in (data / folder).glob(pattern)]
    waiting = {str(job.id) for job, _ in jobs.queue(db)} | jobs.to_resume(db)
    found += [path for path in (data / "jobs").glob("*") if path.name not in waiting]
    return found


def _is_alone(data: Path) -> bool:
    """Whether no worker uses the folder."""
    try:
        handle = os.open(data / "worker.lock", os.O_RDWR | os.O_CREAT, 0o600)
    except OSError:
        return False
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        return True
    except OSError:
        return False
    finally:
        os.close(handle)
