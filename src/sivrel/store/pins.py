"""Pins: points and boxes of a shot's picture that are watched through all its proofs, and their readings."""

import json
import sqlite3
from dataclasses import dataclass
from typing import Any

from .shots import now


@dataclass(frozen=True)
class Pin:
    """box: left, top, right, bottom as shares of the frame; a point has no size. view: the camera it was set in, and that camera's
    position (Proof.view): other views do not show it."""

    id: int
    shot_id: int
    name: str
    box: tuple[float, float, float, float]
    view: str


def _pin(row: sqlite3.Row) -> Pin:
    return Pin(row["id"], row["shot_id"], row["name"], tuple(json.loads(row["box"])), row["view"])


def add(db: sqlite3.Connection, shot_id: int, name: str, box: tuple[float, float, float, float], view: str) -> int:
    cursor = db.execute(
        "INSERT INTO pins (shot_id, name, box, view, created_at) VALUES (?, ?, ?, ?, ?)", (shot_id, name, json.dumps(box), view, now())
    )
    assert cursor.lastrowid is not None
    return cursor.lastrowid


def get(db: sqlite3.Connection, pin_id: int) -> Pin | None:
    row = db.execute("SELECT * FROM pins WHERE id = ?", (pin_id,)).fetchone()
    return _pin(row) if row else None


def of_shot(db: sqlite3.Connection, shot_id: int) -> list[Pin]:
    return [_pin(row) for row in db.execute("SELECT * FROM pins WHERE shot_id = ? ORDER BY id", (shot_id,))]


def rename(db: sqlite3.Connection, pin_id: int, name: str) -> None:
    db.execute("UPDATE pins SET name = ? WHERE id = ?", (name, pin_id))


def remove(db: sqlite3.Connection, pin_id: int) -> None:
    db.execute("DELETE FROM pins WHERE id = ?", (pin_id,))


def readings(db: sqlite3.Connection, shot_id: int, proofs: list[int]) -> dict[tuple[int, int], dict[str, Any] | None]:
    """Readings of some proofs, by (pin, proof); None if the proof does not contain the pin."""
    rows = db.execute(
        """SELECT readings.* FROM readings JOIN pins ON pins.id = pin_id
           WHERE shot_id = ? AND proof_id IN (SELECT value FROM json_each(?))""",
        (shot_id, json.dumps(proofs)),
    )
    return {(row["pin_id"], row["proof_id"]): json.loads(row["body"]) if row["body"] else None for row in rows}


def unread(db: sqlite3.Connection, shot_id: int) -> dict[int, int]:
    """For each pin of a shot, the number of finished proofs without a reading."""
    rows = db.execute(
        """SELECT pins.id, (SELECT count(*) FROM proofs WHERE proofs.shot_id = pins.shot_id AND picture IS NOT NULL AND deleted_at IS NULL
             AND sequence_id IS NULL
             AND NOT EXISTS (SELECT 1 FROM readings WHERE pin_id = pins.id AND proof_id = proofs.id)) AS unread
           FROM pins WHERE shot_id = ?""",
        (shot_id,),
    )
    return {row["id"]: row["unread"] for row in rows}


def keep_reading(db: sqlite3.Connection, pin_id: int, proof_id: int, reading: dict[str, Any] | None) -> None:
    body = json.dumps(reading) if reading is not None else None
    db.execute("INSERT OR REPLACE INTO readings (pin_id, proof_id, body) VALUES (?, ?, ?)", (pin_id, proof_id, body))
