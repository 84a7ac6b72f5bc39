"""Sequences: frames of a moving shot that are rendered as one thing, each frame a proof; and how they flicker."""

import json
import sqlite3
from dataclasses import dataclass
from typing import Any

from ..core.edits.edits import Edits
from ..core.edits.edits import from_json as edits_from_json
from ..core.edits.edits import to_json as edits_to_json
from ..core.errors import InputError
from ..core.render.frame import Frame
from ..core.render.recipe import Recipe
from ..core.sequence.frames import frames_in_words, parse_frames
from . import jobs, proofs, recipes
from .database import read_json, transaction
from .shots import now


@dataclass(frozen=True)
class Sequence:
    """frame: size and seed of each picture; frames: time codes; rate: of them a second; parent_id: the sequence that it was made from; cause: of its
    flicker, as core.sequence.cause found it, None if it was not looked for; question: number of the request that looks for it now
    promised: by the remedy that it was rendered with, see core.sequence.promise
    problem: one sentence if its recipe or edits can't be read."""

    id: int
    shot_id: int
    parent_id: int | None
    recipe: Recipe
    edits: Edits
    camera: str
    frame: Frame
    frames: tuple[float, ...]
    rate: float
    name: str
    cause: dict[str, Any] | None
    question: int | None
    created_at: str
    promised: dict[str, Any] | None = None
    problem: str = ""

    @property
    def in_words(self) -> str:
        return frames_in_words(self.frames)


@dataclass(frozen=True)
class FrameFlicker:
    """The flicker of a frame, as core.measure.flicker.Flicker.as_dict gives it, and the name of its map."""

    body: dict[str, Any]
    map: str


_SELECT = "SELECT sequences.*, recipes.body AS body FROM sequences JOIN recipes ON recipes.id = recipe_id"


def _sequence(row: sqlite3.Row) -> Sequence:
    recipe, edits, frames, problem = Recipe(), Edits(), tuple[float, ...](), ""
    try:
        recipe, edits, frames = recipes.read(row["body"]), edits_from_json(row["edits"]), parse_frames(row["frames"])
    except InputError as error:
        problem = f"How this sequence was made can't be read: {error}"
    return Sequence(
        row["id"], row["shot_id"], row["parent_id"], recipe, edits, row["camera"], Frame(row["width"], row["height"], None, row["seed"]), frames,
        row["rate"], row["name"], read_json(row["cause"], {}) or None, row["question"], row["created_at"],
        read_json(row["promised"], {}) or None, problem,
    )  # fmt: skip


def add(
    db: sqlite3.Connection, shot_id: int, recipe: Recipe, edits: Edits, camera: str, frame: Frame, frames: tuple[float, ...], rate: float,
    *, parent: int | None = None, name: str = "",
) -> int:  # fmt: skip
    """Store a sequence with a proof for each frame, and queue these behind all other renders; returns its number."""
    with transaction(db):
        return insert(db, shot_id, recipe, edits, camera, frame, frames, rate, parent=parent, name=name)


def insert(
    db: sqlite3.Connection, shot_id: int, recipe: Recipe, edits: Edits, camera: str, frame: Frame, frames: tuple[float, ...], rate: float,
    *, parent: int | None = None, name: str = "", queued: bool = True,
) -> int:  # fmt: skip
    """The same within a transaction; not queued if its frames are there already."""
    cursor = db.execute(
        """INSERT INTO sequences (shot_id, parent_id, recipe_id, edits, camera, width, height, seed, frames, rate, name, created_at)
           VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)""",
        (
            shot_id, parent, recipes.keep(db, recipe), edits_to_json(edits), camera, frame.width, frame.height, frame.seed, frames_in_words(frames),
            rate, " ".join(name.split())[:80], now(),
        ),
    )  # fmt: skip
    number = cursor.lastrowid
    assert number is not None
    for time in frames:
        one = Frame(frame.width, frame.height, None, frame.seed, time)
        proof = proofs.add(db, shot_id, None, recipe, camera, one, edits=edits, sequence=number)
        if queued:
            jobs.add(db, proof, len(one.tiles()), gives_way=True)
    return number


def promise(db: sqlite3.Connection, number: int, promised: dict[str, Any]) -> None:
    """Keep what a remedy promises, until it is measured."""
    db.execute("UPDATE sequences SET promised = ? WHERE id = ?", (json.dumps(promised), number))


def get(db: sqlite3.Connection, number: int) -> Sequence | None:
    row = db.execute(f"{_SELECT} WHERE sequences.id = ? AND deleted_at IS NULL", (number,)).fetchone()
    return _sequence(row) if row else None


def of_shot(db: sqlite3.Connection, shot_id: int) -> list[Sequence]:
    """The sequences of a shot, oldest first."""
    return [_sequence(row) for row in db.execute(f"{_SELECT} WHERE shot_id = ? AND deleted_at IS NULL ORDER BY sequences.id", (shot_id,))]


def frames_of(db: sqlite3.Connection, number: int) -> list[proofs.Proof]:
    """The proofs of a sequence in the order of its frames."""
    return proofs.of_sequence(db, number)


def rename(db: sqlite3.Connection, number: int, name: str) -> None:
    db.execute("UPDATE sequences SET name = ? WHERE id = ?", (" ".join(name.split())[:80], number))


def set_cause(db: sqlite3.Connection, number: int, cause: dict[str, Any] | None, question: int | None) -> None:
    """Store what the trials found, or that they run as a request."""
    db.execute("UPDATE sequences SET cause = ?, question = ? WHERE id = ?", (json.dumps(cause) if cause else None, question, number))


def cancel(db: sqlite3.Connection, number: int) -> None:
    """Stop a sequence; what is finished stays, and `resume` goes on from there."""
    with transaction(db):
        of = "proof_id IN (SELECT id FROM proofs WHERE sequence_id = ?)"
        db.execute(f"UPDATE jobs SET state = 'cancelled' WHERE state = 'waiting' AND {of}", (number,))
        db.execute(f"UPDATE jobs SET cancel = 1 WHERE state = 'rendering' AND {of}", (number,))


def resume(db: sqlite3.Connection, number: int) -> None:
    """Queue the frames that were cancelled or failed again; they go on from their tiles."""
    db.execute(
        """UPDATE jobs SET state = 'waiting', cancel = 0, message = ''
           WHERE state IN ('cancelled', 'failed') AND proof_id IN (SELECT id FROM proofs WHERE sequence_id = ?)""",
        (number,),
    )


def delete(db: sqlite3.Connection, number: int) -> None:
    """Move a sequence to the bin; its renders stop."""
    cancel(db, number)
    db.execute("UPDATE sequences SET deleted_at = ? WHERE id = ?", (now(), number))


def restore(db: sqlite3.Connection, number: int) -> None:
    db.execute("UPDATE sequences SET deleted_at = NULL WHERE id = ?", (number,))


def deleted(db: sqlite3.Connection, shot_id: int) -> int:
    """Number of a shot's deleted sequences."""
    return int(db.execute("SELECT count(*) FROM sequences WHERE shot_id = ? AND deleted_at IS NOT NULL", (shot_id,)).fetchone()[0])


def empty(db: sqlite3.Connection, shot_id: int) -> list[str]:
    """Delete the sequences in a shot's bin for good; returns the pictures that nothing uses any more."""
    with transaction(db):
        gone = "SELECT id FROM sequences WHERE shot_id = ? AND deleted_at IS NOT NULL"
        pictures = {row["picture"] for row in db.execute(f"SELECT picture FROM proofs WHERE sequence_id IN ({gone})", (shot_id,)) if row["picture"]}
        db.execute("DELETE FROM sequences WHERE shot_id = ? AND deleted_at IS NOT NULL", (shot_id,))
    return [digest for digest in pictures if not proofs.has_picture(db, digest)]


def keep_flicker(db: sqlite3.Connection, proof_id: int, filtered: bool, body: dict[str, Any], map: str) -> None:
    db.execute(
        "INSERT OR REPLACE INTO flickers (proof_id, filtered, body, map) VALUES (?, ?, ?, ?)", (proof_id, filtered, json.dumps(body), map)
    )  # fmt: skip


def flickers(db: sqlite3.Connection, number: int, filtered: bool) -> dict[int, FrameFlicker]:
    """The flicker of a sequence's frames, as they are or filtered through time, by proof."""
    rows = db.execute(
        "SELECT flickers.* FROM flickers JOIN proofs ON proofs.id = proof_id WHERE sequence_id = ? AND filtered = ?", (number, filtered)
    )
    return {row["proof_id"]: FrameFlicker(read_json(row["body"], {}), row["map"]) for row in rows}
