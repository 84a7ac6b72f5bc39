"""Cameras saved from the plate, in addition to those of the shot's file."""

import sqlite3

from ..core.edits.edits import Edits, from_json, to_json
from ..core.errors import InputError
from .shots import now


def keep(db: sqlite3.Connection, shot_id: int, name: str, edits: Edits) -> None:
    """Save a view under a name; `edits` define that camera. Raises InputError if the name is taken."""
    try:
        db.execute("INSERT INTO cameras (shot_id, name, edits, created_at) VALUES (?, ?, ?, ?)", (shot_id, name, to_json(edits), now()))
    except sqlite3.IntegrityError:
        raise InputError(f"There is already a camera “{name}”; give the new one another name.") from None


def of_shot(db: sqlite3.Connection, shot_id: int) -> dict[str, Edits]:
    """The edits that define each saved camera, by name."""
    rows = db.execute("SELECT name, edits FROM cameras WHERE shot_id = ? ORDER BY id", (shot_id,))
    kept = {}
    for row in rows:
        try:
            kept[row["name"]] = from_json(row["edits"])
        except InputError:  # of another version: the others remain usable
            continue
    return kept
