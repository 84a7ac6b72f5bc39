"""Cameras that were kept from the plate, beside those of the shot's file."""

import sqlite3

from ..core.edits.edits import Edits, from_json, to_json
from ..core.errors import InputError
from .shots import now


def keep(db: sqlite3.Connection, shot_id: int, name: str, edits: Edits) -> None:
    """Keep a view under a name; `edits` make that camera. Raises InputError for a name that is taken."""
    try:
        db.execute("INSERT INTO cameras (shot_id, name, edits, created_at) VALUES (?, ?, ?, ?)", (shot_id, name, to_json(edits), now()))
    except sqlite3.IntegrityError:
        raise InputError(f"There is a camera “{name}” already; give the new one another name.") from None


def of_shot(db: sqlite3.Connection, shot_id: int) -> dict[str, Edits]:
    """The edits that make each kept camera, by its name."""
    rows = db.execute("SELECT name, edits FROM cameras WHERE shot_id = ? ORDER BY id", (shot_id,))
    kept = {}
    for row in rows:
        try:
            kept[row["name"]] = from_json(row["edits"])
        except InputError:  # of another version: the others still serve
            continue
    return kept
