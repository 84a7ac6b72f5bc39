"""Proofs: every test render with its recipe, its measurements, and the proof that it came from."""

import hashlib
import json
import sqlite3
from dataclasses import dataclass
from typing import Any

from ..core.render.frame import Frame
from ..core.render.recipe import Recipe, from_json, to_json
from ..core.scene.edits import Edits
from ..core.scene.edits import from_json as edits_from_json
from ..core.scene.edits import to_json as edits_to_json
from .shots import now


@dataclass(frozen=True)
class Proof:
    """A proof with the state of its job.

    seconds: render time; noise: see core.measure.noise; light: mean luminance; dropped: samples left out as not finite
    made_on: the machine, where it is not this one; picture: hash of its EXR, None until it is done
    edits: laid over the shot's scene; lights: see core.measure.lights; passes: names of those in its picture
    maps: its depth maps, see core.render.prepare.MapNote; meters: see core.measure.meters
    """

    id: int
    shot_id: int
    parent_id: int | None
    recipe: Recipe
    camera: str
    frame: Frame
    note: str
    created_at: str
    picture: str | None
    seconds: float | None
    noise: float | None
    light: float | None
    dropped: int
    made_on: str
    state: str
    message: str
    edits: Edits
    lights: list[dict[str, Any]]
    passes: list[str]
    maps: list[dict[str, Any]]
    meters: dict[str, Any]


_SELECT = """SELECT proofs.*, recipes.body AS body, coalesce(jobs.state, 'done') AS state,
               coalesce(jobs.message, '') AS message
             FROM proofs JOIN recipes ON recipes.id = proofs.recipe_id LEFT JOIN jobs ON jobs.proof_id = proofs.id"""


def _proof(row: sqlite3.Row) -> Proof:
    region = tuple(int(n) for n in row["region"].split(",")) if row["region"] else None
    frame = Frame(row["width"], row["height"], region, row["seed"])  # type: ignore[arg-type]
    return Proof(
        row["id"], row["shot_id"], row["parent_id"], from_json(row["body"]), row["camera"], frame, row["note"],
        row["created_at"], row["picture"], row["seconds"], row["noise"], row["light"], row["dropped"] or 0,
        row["made_on"], row["state"], row["message"], edits_from_json(row["edits"]), json.loads(row["lights"]),
        json.loads(row["passes"]), json.loads(row["maps"]), json.loads(row["meters"]),
    )  # fmt: skip


def add(
    db: sqlite3.Connection, shot_id: int, parent_id: int | None, recipe: Recipe, camera: str, frame: Frame, note: str = "",
    edits: Edits | None = None,
) -> int:  # fmt: skip
    """Keep a proof that has no picture yet; returns its number."""
    body = to_json(recipe)
    digest = hashlib.sha256(body.encode()).hexdigest()
    db.execute("INSERT OR IGNORE INTO recipes (digest, body) VALUES (?, ?)", (digest, body))
    region = ",".join(map(str, frame.region)) if frame.region else None
    cursor = db.execute(
        """INSERT INTO proofs (shot_id, parent_id, recipe_id, camera, width, height, region, seed, note, created_at, edits)
           VALUES (?, ?, (SELECT id FROM recipes WHERE digest = ?), ?, ?, ?, ?, ?, ?, ?, ?)""",
        (shot_id, parent_id, digest, camera, frame.width, frame.height, region, frame.seed, note, now(), edits_to_json(edits or Edits())),
    )
    assert cursor.lastrowid is not None
    return cursor.lastrowid


FOUND: dict[str, list | dict] = {"lights": [], "passes": [], "maps": [], "meters": {}}
"""What else is found in a proof, and what stands for nothing found; see `work.finishing.found_in`."""


def finish(
    db: sqlite3.Connection, proof_id: int, picture: str, seconds: float, noise: float | None, light: float, dropped: int,
    made_on: str = "", found: dict[str, Any] | None = None,
) -> None:  # fmt: skip
    told = [json.dumps((found or {}).get(name, nothing)) for name, nothing in FOUND.items()]
    db.execute(
        f"""UPDATE proofs SET picture = ?, seconds = ?, noise = ?, light = ?, dropped = ?, made_on = ?,
            {", ".join(f"{name} = ?" for name in FOUND)} WHERE id = ?""",
        (picture, seconds, noise, light, dropped, made_on, *told, proof_id),
    )


def get(db: sqlite3.Connection, proof_id: int) -> Proof | None:
    row = db.execute(f"{_SELECT} WHERE proofs.id = ?", (proof_id,)).fetchone()
    return _proof(row) if row else None


def of_shot(db: sqlite3.Connection, shot_id: int) -> list[Proof]:
    """All proofs of a shot, oldest first."""
    return [_proof(row) for row in db.execute(f"{_SELECT} WHERE shot_id = ? ORDER BY proofs.id", (shot_id,))]


def shots_of(db: sqlite3.Connection) -> dict[int, int]:
    """The shot of every proof, by their numbers."""
    return {row["id"]: row["shot_id"] for row in db.execute("SELECT id, shot_id FROM proofs")}


def has_picture(db: sqlite3.Connection, digest: str) -> bool:
    return db.execute("SELECT 1 FROM proofs WHERE picture = ?", (digest,)).fetchone() is not None
