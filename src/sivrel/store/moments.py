"""Live previews: pictures that a page requests while a control is dragged. Only the latest request of a page counts, and none is stored for good."""

import json
import sqlite3
from dataclasses import dataclass
from typing import Any

from .database import transaction
from .shots import now

MOST_CLIENTS = 64


@dataclass(frozen=True)
class Moment:
    """client: the page; number: increases with each request; body: recipe and edits as JSON, camera, size, region, seed."""

    client: str
    shot_id: int
    number: int
    body: dict[str, Any]


def ask(db: sqlite3.Connection, client: str, shot_id: int, body: dict[str, Any]) -> int:
    """Request a picture, replacing the page's earlier request; returns its number."""
    with transaction(db):
        cursor = db.execute(
            "INSERT OR REPLACE INTO moments (client, shot_id, body, asked_at) VALUES (?, ?, ?, ?)", (client, shot_id, json.dumps(body), now())
        )
        db.execute("DELETE FROM moments WHERE client NOT IN (SELECT client FROM moments ORDER BY number DESC LIMIT ?)", (MOST_CLIENTS,))
    assert cursor.lastrowid is not None
    return cursor.lastrowid


def take(db: sqlite3.Connection) -> Moment | None:
    """The newest request that is not being rendered."""
    row = db.execute("SELECT * FROM moments WHERE taken = 0 ORDER BY number DESC LIMIT 1").fetchone()
    if row is None or not db.execute("UPDATE moments SET taken = 1 WHERE number = ? AND taken = 0", (row["number"],)).rowcount:
        return None
    return Moment(row["client"], row["shot_id"], row["number"], json.loads(row["body"]))


def is_latest(db: sqlite3.Connection, number: int) -> bool:
    """Whether a request is still the latest of all."""
    return db.execute("SELECT max(number) AS last FROM moments").fetchone()["last"] == number


def say(db: sqlite3.Connection, number: int, message: str) -> None:
    db.execute("UPDATE moments SET message = ? WHERE number = ?", (message, number))


def message(db: sqlite3.Connection, client: str) -> tuple[int, str] | None:
    """(number, the worker's message) of a page's last request."""
    row = db.execute("SELECT number, message FROM moments WHERE client = ?", (client,)).fetchone()
    return (row["number"], row["message"]) if row else None


def end_all(db: sqlite3.Connection, problem: str) -> None:
    """The worker died while rendering requests: they are not tried again, since the page sends a new one with every change."""
    db.execute("UPDATE moments SET message = ? WHERE taken = 1 AND message <> ''", (problem,))


def forget(db: sqlite3.Connection, client: str) -> None:
    db.execute("DELETE FROM moments WHERE client = ?", (client,))
