"""Requests about a shot that the worker handles besides its renders, since it has the scenes in memory."""

import json
import sqlite3
from typing import Any

from .database import transaction
from .shots import now

KEPT = 200
"""Most finished requests that are kept; older ones are deleted."""


def ask(db: sqlite3.Connection, kind: str, shot_id: int, body: dict[str, Any]) -> int:
    """Add a request; returns its number."""
    with transaction(db):
        db.execute("DELETE FROM questions WHERE id <= (SELECT max(id) FROM questions) - ?", (KEPT,))
        cursor = db.execute("INSERT INTO questions (kind, shot_id, body, asked_at) VALUES (?, ?, ?, ?)", (kind, shot_id, json.dumps(body), now()))
    assert cursor.lastrowid is not None
    return cursor.lastrowid


def take(db: sqlite3.Connection) -> tuple[int, str, int, dict[str, Any]] | None:
    """The newest untaken request: (number, kind, shot, body). Older ones can wait, since their page may be gone."""
    row = db.execute("SELECT * FROM questions WHERE taken = 0 AND done = 0 ORDER BY id DESC LIMIT 1").fetchone()
    if row is None:
        return None
    taken = db.execute("UPDATE questions SET taken = 1 WHERE id = ? AND taken = 0", (row["id"],)).rowcount
    return (row["id"], row["kind"], row["shot_id"], json.loads(row["body"])) if taken else None


def answer(db: sqlite3.Connection, number: int, answer: dict[str, Any] | None, problem: str = "") -> None:
    db.execute(
        "UPDATE questions SET answer = ?, problem = ?, done = 1 WHERE id = ? AND problem = ''",
        (json.dumps(answer) if answer is not None else None, problem, number),
    )


def tell(db: sqlite3.Connection, number: int, part: dict[str, Any]) -> bool:
    """Store a part of an unfinished reply; False if the request was cancelled."""
    return bool(db.execute("UPDATE questions SET answer = ? WHERE id = ? AND problem = ''", (json.dumps(part), number)).rowcount)


def call_off(db: sqlite3.Connection, number: int) -> None:
    """Cancel a request: its handler stops at the next part."""
    _end(db, [number], "Called off.")


def _end(db: sqlite3.Connection, numbers: list[int], problem: str) -> None:
    """End requests without an answer, with a reason for the page."""
    db.executemany("UPDATE questions SET problem = ?, answer = NULL, taken = 1, done = 1 WHERE id = ?", [(problem, number) for number in numbers])


def count_attempt(db: sqlite3.Connection, most: int, problem: str) -> list[int]:
    """The worker died while handling requests: requeue them, or fail them with `problem` after `most` times. Returns the
    numbers of failed ones."""
    with transaction(db):
        db.execute("UPDATE questions SET attempts = attempts + 1, taken = 0 WHERE taken = 1 AND done = 0")
        failed = [row["id"] for row in db.execute("SELECT id FROM questions WHERE done = 0 AND attempts >= ?", (most,))]
        _end(db, failed, problem)
    return failed


def end_all(db: sqlite3.Connection, problem: str, but: tuple[str, ...]) -> list[int]:
    """End every unfinished request with `problem`; those of the kinds `but`, which no page waits for, are requeued. Returns the
    numbers of those that ended."""
    kept = ", ".join("?" * len(but))
    with transaction(db):
        db.execute(f"UPDATE questions SET taken = 0 WHERE done = 0 AND kind IN ({kept})", but)
        ended = [row["id"] for row in db.execute(f"SELECT id FROM questions WHERE done = 0 AND kind NOT IN ({kept})", but)]
        _end(db, ended, problem)
    return ended


def answered(db: sqlite3.Connection, number: int) -> tuple[dict[str, Any] | None, str]:
    """(answer or None, problem in words or an empty text)."""
    row = db.execute("SELECT answer, problem FROM questions WHERE id = ?", (number,)).fetchone()
    if row is None:
        return None, "This request is no longer known; try again."
    return (json.loads(row["answer"]) if row["answer"] else None), row["problem"]


def waits(db: sqlite3.Connection, kind: str, shot_id: int, body: dict[str, Any]) -> bool:
    """Whether such a request waits to be taken."""
    found = db.execute(
        "SELECT 1 FROM questions WHERE kind = ? AND shot_id = ? AND body = ? AND taken = 0 AND done = 0", (kind, shot_id, json.dumps(body))
    )
    return found.fetchone() is not None
