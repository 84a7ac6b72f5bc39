"""What becomes of what was under way when a worker, or the whole program, ended without a word."""

import fcntl
import logging
import os
import shutil
import sqlite3
import time
from pathlib import Path

from ..store import jobs, moments, requests, shots, tunings

MOST_ATTEMPTS = 2
"""Times that a worker may die over one thing before it has failed."""
PATIENCE = 5.0
"""Seconds that a worker without a server may take to end."""
log = logging.getLogger(__name__)
UNASKED = ("retest",)
"""Kinds of questions that the worker puts to itself: no page waits for them."""


def worker_died(db: sqlite3.Connection, how: str) -> None:
    """Give what the dead worker was at to the next one; what it has died of before has failed, so that what is behind it gets its turn."""
    doing = _doing(jobs.worker(db))
    jobs.count_attempt(
        db, MOST_ATTEMPTS,
        f"The renderer ended twice ({how}) while it was {doing}. Change the recipe or the scene, or let it go on; the log tells more.",
    )  # fmt: skip
    problem = f"The renderer ended twice ({how}) over this; the log in the data folder tells more."
    for question in requests.count_attempt(db, MOST_ATTEMPTS, problem):
        tunings.end_of_question(db, question, problem)
    moments.end_all(db, f"The renderer ended ({how}) over this picture; change something else.")
    shots.forget_opened(db)


def _doing(worker: jobs.Worker) -> str:
    named = {"reading": f"reading {worker.message}", "making": f"making the {worker.message}", "rendering": "rendering tiles"}
    return named.get(worker.phase, "at work")


def worker_cannot_start(db: sqlite3.Connection, how: str) -> None:
    """Workers end as soon as they are started: nobody must wait for an answer."""
    _end_questions(db, f"The renderer can't be started ({how}); the log in the data folder tells more.", ())


def program_started(db: sqlite3.Connection, data: Path) -> None:
    """Put a folder in order that a program may have left without a word: no page of before has its question answered any more, and what was
    half written goes. Nothing is done where another program is at work on the folder."""
    end = time.monotonic() + PATIENCE
    while not _is_alone(data):  # the worker of a server that was killed ends within a moment
        if time.monotonic() > end:
            log.warning("Another Sivrel works on %s: this one serves its pages, and renders when that one ends.", data)
            return
        time.sleep(0.05)
    _end_questions(db, "Sivrel was started anew meanwhile; ask again.", UNASKED)
    swept = sweep(db, data)
    if swept:
        log.info("%d leftovers of a program that was killed were swept away.", swept)


def _end_questions(db: sqlite3.Connection, problem: str, but: tuple[str, ...]) -> None:
    for question in requests.end_all(db, problem, but):
        tunings.end_of_question(db, question, problem)
    moments.end_all(db, problem)


def sweep(db: sqlite3.Connection, data: Path) -> int:
    """Delete what a program that was killed has left behind in its folder; returns how many files and folders went."""
    gone = 0
    for path in _leftovers(db, data):
        try:
            if path.is_dir() and not path.is_symlink():
                shutil.rmtree(path)
            else:
                path.unlink()
            gone += 1
        except OSError:
            continue  # it can be swept next time
    return gone


def _leftovers(db: sqlite3.Connection, data: Path) -> list[Path]:
    found = [data / "moments"] if (data / "moments").is_dir() else []
    for folder in ("pictures", "caches", "trials", "thumbnails", "filtered", "uploads"):
        found += [path for pattern in (".*", "*.new") for path in (data / folder).glob(pattern)]
    waiting = {str(job.id) for job, _ in jobs.queue(db)} | jobs.to_resume(db)
    found += [path for path in (data / "jobs").glob("*") if path.name not in waiting]
    return found


def _is_alone(data: Path) -> bool:
    """Whether no worker holds the folder."""
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
