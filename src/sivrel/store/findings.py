"""Findings: the results of diagnoses, dismissals with reasons, and retests of remedies."""

import json
import sqlite3
from dataclasses import dataclass
from typing import Any

from ..core.errors import InputError
from ..core.json_text import parse_json
from ..core.stored import FINDING
from .database import read_json, transaction
from .shots import now


@dataclass(frozen=True)
class StoredFinding:
    """A finding of a proof. body: as returned by core.diagnose; place: 0 for the worst, None if a later diagnosis did not find it again; problem:
    one sentence if it can't be read, in which case its body is empty."""

    id: int
    proof_id: int
    key: str
    body: dict[str, Any]
    place: int | None
    problem: str = ""


@dataclass(frozen=True)
class Retest:
    """A remedy that was proven. remedy: as offered, with its prediction; result: as returned by core.diagnose.retest, None until the proof
    is done."""

    id: int
    finding_id: int
    proof_id: int
    remedy: dict[str, Any]
    result: dict[str, Any] | None


def keep(db: sqlite3.Connection, proof_id: int, diagnosis: dict[str, Any]) -> None:
    """Store a diagnosis, worst finding first. A known finding keeps its number, and so its retests."""
    found = diagnosis["findings"]
    with transaction(db):
        about = {key: value for key, value in diagnosis.items() if key != "findings"}
        db.execute("INSERT OR REPLACE INTO diagnoses (proof_id, body, made_at) VALUES (?, ?, ?)", (proof_id, json.dumps(about), now()))
        before: dict[str, list[int]] = {}
        for row in db.execute("SELECT id, key FROM findings WHERE proof_id = ? ORDER BY place IS NULL, place", (proof_id,)):
            before.setdefault(row["key"], []).append(row["id"])
        db.execute("UPDATE findings SET place = NULL WHERE proof_id = ?", (proof_id,))
        for place, finding in enumerate(found):
            body, known = json.dumps(FINDING.stamp(finding)), before.get(finding["key"], [])
            if known:
                db.execute("UPDATE findings SET body = ?, place = ? WHERE id = ?", (body, place, known.pop(0)))
            else:
                db.execute("INSERT INTO findings (proof_id, key, body, place) VALUES (?, ?, ?, ?)", (proof_id, finding["key"], body, place))
        db.execute("DELETE FROM findings WHERE proof_id = ? AND place IS NULL AND id NOT IN (SELECT finding_id FROM retests)", (proof_id,))


def _kept(row: sqlite3.Row) -> StoredFinding:
    body, problem = dict[str, Any](), ""
    try:
        body = FINDING.upgrade(parse_json(row["body"], "A stored finding is damaged: it is not JSON."))
    except InputError as error:
        problem = str(error)
    return StoredFinding(row["id"], row["proof_id"], row["key"], body, row["place"], problem)


def of_proof(db: sqlite3.Connection, proof_id: int) -> tuple[dict[str, Any] | None, list[StoredFinding]]:
    """A diagnosis' other results, None if there was none; and its findings, worst first."""
    about = db.execute("SELECT body FROM diagnoses WHERE proof_id = ?", (proof_id,)).fetchone()
    rows = db.execute("SELECT * FROM findings WHERE proof_id = ? AND place IS NOT NULL ORDER BY place", (proof_id,))
    return (read_json(about["body"], {}) if about else None), [_kept(row) for row in rows]


def get(db: sqlite3.Connection, finding_id: int) -> StoredFinding | None:
    row = db.execute("SELECT * FROM findings WHERE id = ?", (finding_id,)).fetchone()
    return _kept(row) if row else None


def dismiss(db: sqlite3.Connection, shot_id: int, key: str, reason: str) -> None:
    """Dismiss a finding in all proofs of the shot; an empty reason undoes that."""
    if reason:
        db.execute("INSERT OR REPLACE INTO dismissals (shot_id, key, reason, made_at) VALUES (?, ?, ?, ?)", (shot_id, key, reason[:300], now()))
    else:
        db.execute("DELETE FROM dismissals WHERE shot_id = ? AND key = ?", (shot_id, key))


def dismissed(db: sqlite3.Connection, shot_id: int) -> dict[str, str]:
    """Reasons of dismissed findings by key."""
    return {row["key"]: row["reason"] for row in db.execute("SELECT key, reason FROM dismissals WHERE shot_id = ?", (shot_id,))}


def add_retest(db: sqlite3.Connection, finding_id: int, proof_id: int, remedy: dict[str, Any]) -> None:
    db.execute(
        "INSERT INTO retests (finding_id, proof_id, remedy, made_at) VALUES (?, ?, ?, ?)", (finding_id, proof_id, json.dumps(remedy), now())
    )  # fmt: skip


def _retest(row: sqlite3.Row) -> Retest:
    return Retest(row["id"], row["finding_id"], row["proof_id"], read_json(row["remedy"], {}), read_json(row["result"], {}) or None)


def retests_of_finding(db: sqlite3.Connection, finding_id: int) -> list[Retest]:
    return [_retest(row) for row in db.execute("SELECT * FROM retests WHERE finding_id = ? ORDER BY id", (finding_id,))]


def retests_of_proof(db: sqlite3.Connection, proof_id: int) -> list[Retest]:
    return [_retest(row) for row in db.execute("SELECT * FROM retests WHERE proof_id = ? ORDER BY id", (proof_id,))]


def keep_result(db: sqlite3.Connection, retest_id: int, result: dict[str, Any]) -> None:
    db.execute("UPDATE retests SET result = ? WHERE id = ?", (json.dumps(result), retest_id))


def record(db: sqlite3.Connection) -> list[Retest]:
    """Every remedy that was proven and measured, oldest first: predictions and results."""
    return [_retest(row) for row in db.execute("SELECT * FROM retests WHERE result IS NOT NULL ORDER BY id")]


def mentions(db: sqlite3.Connection, name: str) -> bool:
    """Whether a finding has a small picture of that name."""
    return db.execute("SELECT 1 FROM findings WHERE instr(body, ?) > 0", (name,)).fetchone() is not None
