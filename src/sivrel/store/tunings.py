"""Ladders, budgets, matches and advice: requests, results, and the proofs made from them."""

import json
import sqlite3
from dataclasses import dataclass
from typing import Any

from ..core.errors import InputError
from ..core.stored import TUNING
from .database import read_json
from .shots import now


@dataclass(frozen=True)
class Tuning:
    """kind: ladder, budget, match or advice; asked: the page's request; result: of core.tune so far, None at first; problem: why
    it ended; question: number of its request, None when done."""

    id: int
    proof_id: int
    kind: str
    asked: dict[str, Any]
    result: dict[str, Any] | None
    problem: str
    question: int | None
    made_at: str


@dataclass(frozen=True)
class Applied:
    """A proof made from a tuning: what was applied, in words, and the predicted seconds and noise."""

    proof_id: int
    tuning_id: int
    words: str
    predicted: dict[str, float]


def add(db: sqlite3.Connection, proof_id: int, kind: str, asked: dict[str, Any]) -> int:
    cursor = db.execute("INSERT INTO tunings (proof_id, kind, asked, made_at) VALUES (?, ?, ?, ?)", (proof_id, kind, json.dumps(asked), now()))
    assert cursor.lastrowid is not None
    return cursor.lastrowid


def set_question(db: sqlite3.Connection, number: int, question: int | None) -> None:
    db.execute("UPDATE tunings SET question = ? WHERE id = ?", (question, number))


def keep(db: sqlite3.Connection, number: int, result: dict[str, Any]) -> None:
    """Store the result so far."""
    db.execute("UPDATE tunings SET result = ? WHERE id = ?", (json.dumps(TUNING.stamp(result)), number))


def end(db: sqlite3.Connection, number: int, problem: str = "") -> None:
    db.execute("UPDATE tunings SET question = NULL, problem = ? WHERE id = ?", (problem, number))


def end_of_question(db: sqlite3.Connection, question: int, problem: str) -> None:
    """End the tuning of a request that will not be answered."""
    db.execute("UPDATE tunings SET question = NULL, problem = ? WHERE question = ?", (problem, question))


def _tuning(row: sqlite3.Row) -> Tuning:
    asked, result, problem = read_json(row["asked"], {}), None, row["problem"]
    try:
        result = TUNING.upgrade(read_json(row["result"], {})) or None
    except InputError as error:
        problem = str(error)
    return Tuning(row["id"], row["proof_id"], row["kind"], asked, result, problem, row["question"], row["made_at"])


def get(db: sqlite3.Connection, number: int) -> Tuning | None:
    row = db.execute("SELECT * FROM tunings WHERE id = ?", (number,)).fetchone()
    return _tuning(row) if row else None


def of_proof(db: sqlite3.Connection, proof_id: int, kind: str) -> list[Tuning]:
    """Those of a proof, newest first."""
    return [_tuning(row) for row in db.execute("SELECT * FROM tunings WHERE proof_id = ? AND kind = ? ORDER BY id DESC", (proof_id, kind))]


def of_shot(db: sqlite3.Connection, shot_id: int, kind: str) -> list[Tuning]:
    """Those of all proofs of a shot, newest first."""
    rows = db.execute(
        "SELECT tunings.* FROM tunings JOIN proofs ON proofs.id = proof_id WHERE shot_id = ? AND kind = ? ORDER BY tunings.id DESC", (shot_id, kind)
    )
    return [_tuning(row) for row in rows]


def apply(db: sqlite3.Connection, proof_id: int, tuning_id: int, words: str, predicted: dict[str, float]) -> None:
    db.execute("INSERT INTO applied (proof_id, tuning_id, words, predicted) VALUES (?, ?, ?, ?)", (proof_id, tuning_id, words, json.dumps(predicted)))


def applied_of(db: sqlite3.Connection, tuning_id: int) -> list[Applied]:
    """Proofs that were made of a tuning, oldest first."""
    rows = db.execute("SELECT * FROM applied WHERE tuning_id = ? ORDER BY proof_id", (tuning_id,))
    return [Applied(row["proof_id"], row["tuning_id"], row["words"], read_json(row["predicted"], {})) for row in rows]
