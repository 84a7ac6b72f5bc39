"""Questions about a shot that the worker answers beside its renders, since it holds the scenes."""

import json
import sqlite3
from typing import Any

from .database import transaction
from .shots import now

KEPT = 200
"""Answered questions that are kept; older ones go."""


def ask(db: sqlite3.Connection, kind: str, shot_id: int, body: dict[str, Any]) -> int:
    """Put a question; returns its number."""
    with transaction(db):
        db.execute("DELETE FROM questions WHERE id <= (SELECT max(id) FROM questions) - ?", (KEPT,))
        cursor = db.execute("INSERT INTO questions (kind, shot_id, body, asked_at) VALUES (?, ?, ?, ?)", (kind, shot_id, json.dumps(body), now()))
    assert cursor.lastrowid is not None
    return cursor.lastrowid


def take(db: sqlite3.Connection) -> tuple[int, str, int, dict[str, Any]] | None:
    """The newest question that nobody has taken: (number, kind, shot, body). Older ones can wait, their asker may be gone."""
    row = db.execute("SELECT * FROM questions WHERE taken = 0 ORDER BY id DESC LIMIT 1").fetchone()
    if row is None:
        return None
    taken = db.execute("UPDATE questions SET taken = 1 WHERE id = ? AND taken = 0", (row["id"],)).rowcount
    return (row["id"], row["kind"], row["shot_id"], json.loads(row["body"])) if taken else None


def answer(db: sqlite3.Connection, number: int, answer: dict[str, Any] | None, problem: str = "") -> None:
    db.execute(
        "UPDATE questions SET answer = ?, problem = ? WHERE id = ? AND problem = ''",
        (json.dumps(answer) if answer is not None else None, problem, number),
    )


def tell(db: sqlite3.Connection, number: int, part: dict[str, Any]) -> bool:
    """Say a part of an answer that is on its way; False when the question was called off."""
    return bool(db.execute("UPDATE questions SET answer = ? WHERE id = ? AND problem = ''", (json.dumps(part), number)).rowcount)


def call_off(db: sqlite3.Connection, number: int) -> None:
    """Let a question go: who works at its answer stops at the next part."""
    db.execute("UPDATE questions SET problem = ?, answer = NULL, taken = 1 WHERE id = ?", ("Called off.", number))


def answered(db: sqlite3.Connection, number: int) -> tuple[dict[str, Any] | None, str]:
    """(answer or None while there is none, problem in words or an empty text)."""
    row = db.execute("SELECT answer, problem FROM questions WHERE id = ?", (number,)).fetchone()
    if row is None:
        return None, "The question was dropped; ask again."
    return (json.loads(row["answer"]) if row["answer"] else None), row["problem"]
