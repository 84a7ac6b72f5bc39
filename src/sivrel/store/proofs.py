"""Proofs: every test render with its recipe, its measurements, and its parent proof."""

import functools
import json
import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from ..core.edits.edits import Edits
from ..core.edits.edits import from_json as edits_from_json
from ..core.edits.edits import to_json as edits_to_json
from ..core.errors import InputError
from ..core.measure.cost import Timed
from ..core.render.frame import Frame
from ..core.render.recipe import Recipe
from . import machines, recipes
from .database import read_json, transaction
from .shots import now


@dataclass(frozen=True, eq=False)
class Proof:
    """A proof with the state of its job. (Compared by identity: see _read.)

    seconds: render time; noise: see core.measure.noise; light: mean luminance; dropped: samples left out because they were not finite
    made_on: the machine, if not this one; picture: hash of its EXR, None until it is done
    edits: of the shot's scene; lights: see core.measure.lights; passes: names of those in its picture
    maps: its depth maps, see core.render.prepare.MapNote; meters: see core.measure.meters
    focus: left, top, right, bottom of the largest change against its parent, as shares of its picture
    sequence_id: the sequence that it is a frame of, None for a proof of the lineage
    problem: one sentence if its recipe or edits can't be read; they are defaults then, and it can't be rendered
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
    name: str
    starred: bool
    focus: tuple[float, float, float, float] | None
    sequence_id: int | None = None
    problem: str = ""

    @property
    def view(self) -> str:
        """Its camera and that camera's edits, which decide what is where in the picture."""
        moved = self.edits.cameras.get(self.camera)
        return f"{self.camera} {moved.model_dump_json(exclude_none=True, exclude={'exposure'}) if moved else ''}".strip()


_SELECT = """SELECT proofs.*, recipes.body AS body, coalesce(jobs.state, 'done') AS state,
               coalesce(jobs.message, '') AS message
             FROM proofs JOIN recipes ON recipes.id = proofs.recipe_id LEFT JOIN jobs ON jobs.proof_id = proofs.id"""

_OF_LINEAGE = "deleted_at IS NULL AND sequence_id IS NULL"

MOST_READ = 8192
_edits = functools.lru_cache(MOST_READ)(edits_from_json)
"""Edits are parsed once and shared between proofs; they are immutable."""


def _frame(row: Any) -> Frame:
    region = tuple(int(n) for n in row["region"].split(",")) if row["region"] else None
    return Frame(row["width"], row["height"], region, row["seed"], row["time"])  # type: ignore[arg-type]


@functools.lru_cache(MOST_READ)
def _read(names: tuple[str, ...], values: tuple[Any, ...]) -> Proof:
    """The proof of a row, cached so that a page of five hundred need not parse them again."""
    row, problem = dict(zip(names, values, strict=True)), ""
    recipe, edits, frame = Recipe(), Edits(), Frame()
    try:
        recipe, edits, frame = recipes.read(row["body"]), _edits(row["edits"]), _frame(row)
    except (InputError, ValueError) as error:
        problem = f"How this proof was made can't be read: {error}"
    lights, passes, maps, meters = (read_json(row[name], nothing) for name, nothing in FOUND.items())
    focus = read_json(row["focus"], [])
    return Proof(
        row["id"], row["shot_id"], row["parent_id"], recipe, row["camera"], frame, row["note"],
        row["created_at"], row["picture"], row["seconds"], row["noise"], row["light"], row["dropped"] or 0,
        row["made_on"], row["state"], problem or row["message"], edits, lights, passes, maps, meters,
        row["name"], bool(row["starred"]), tuple(focus) if len(focus) == 4 else None, row["sequence_id"], problem,
    )  # fmt: skip


def _proofs(found: sqlite3.Cursor) -> list[Proof]:
    names = tuple(column[0] for column in found.description)
    return [_read(names, tuple(row)) for row in found]


def add(
    db: sqlite3.Connection, shot_id: int, parent_id: int | None, recipe: Recipe, camera: str, frame: Frame, note: str = "",
    edits: Edits | None = None, sequence: int | None = None,
) -> int:  # fmt: skip
    """Store a proof without a picture, a frame of a `sequence` if that is given; returns its number."""
    region = ",".join(map(str, frame.region)) if frame.region else None
    cursor = db.execute(
        """INSERT INTO proofs (shot_id, parent_id, recipe_id, camera, width, height, region, seed, note, created_at, edits, time, sequence_id)
           VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)""",
        (
            shot_id, parent_id, recipes.keep(db, recipe), camera, frame.width, frame.height, region, frame.seed, note, now(),
            edits_to_json(edits or Edits()), frame.time, sequence,
        ),
    )  # fmt: skip
    assert cursor.lastrowid is not None
    return cursor.lastrowid


FOUND: dict[str, list[Any] | dict[str, Any]] = {"lights": [], "passes": [], "maps": [], "meters": {}}
"""Other measurements of a proof, with their empty values; see `core.rendered.Render.measured`."""


def finish(
    db: sqlite3.Connection, proof_id: int, picture: str, seconds: float | None, noise: float | None, light: float, dropped: int,
    made_on: str = "", found: dict[str, Any] | None = None,
) -> None:  # fmt: skip
    columns = [json.dumps((found or {}).get(name, nothing)) for name, nothing in FOUND.items()]
    db.execute(
        f"""UPDATE proofs SET picture = ?, seconds = ?, noise = ?, light = ?, dropped = ?, made_on = ?,
            {", ".join(f"{name} = ?" for name in FOUND)} WHERE id = ?""",
        (picture, seconds, noise, light, dropped, made_on, *columns, proof_id),
    )


def get(db: sqlite3.Connection, proof_id: int) -> Proof | None:
    return next(iter(_proofs(db.execute(f"{_SELECT} WHERE proofs.id = ?", (proof_id,)))), None)


def of_shot(db: sqlite3.Connection, shot_id: int) -> list[Proof]:
    """All proofs of a shot's lineage that are not deleted, oldest first."""
    return _proofs(db.execute(f"{_SELECT} WHERE shot_id = ? AND {_OF_LINEAGE} ORDER BY proofs.id", (shot_id,)))


def of_sequence(db: sqlite3.Connection, sequence: int) -> list[Proof]:
    """The frames of a sequence, in order."""
    return _proofs(db.execute(f"{_SELECT} WHERE sequence_id = ? ORDER BY time", (sequence,)))


def links(db: sqlite3.Connection, shot_id: int) -> tuple[tuple[int, int | None], ...]:
    """(number, parent) of all proofs of a shot that are not deleted, oldest first."""
    rows = db.execute(f"SELECT id, parent_id FROM proofs WHERE shot_id = ? AND {_OF_LINEAGE} ORDER BY id", (shot_id,))
    return tuple((row["id"], row["parent_id"]) for row in rows)


def some(db: sqlite3.Connection, numbers: Iterable[int]) -> dict[int, Proof]:
    """The proofs of these numbers, by their numbers."""
    wanted = json.dumps(sorted(set(numbers)))
    return {proof.id: proof for proof in _proofs(db.execute(f"{_SELECT} WHERE proofs.id IN (SELECT value FROM json_each(?))", (wanted,)))}


def newest(db: sqlite3.Connection, shot_id: int) -> Proof | None:
    """The newest proof of a shot that has a picture, or the newest at all."""
    order = "ORDER BY proofs.picture IS NULL, proofs.id DESC LIMIT 1"
    return next(iter(_proofs(db.execute(f"{_SELECT} WHERE shot_id = ? AND {_OF_LINEAGE} {order}", (shot_id,)))), None)


def newest_whole(db: sqlite3.Connection, shot_id: int, camera: str) -> Proof | None:
    """The newest finished proof of a whole picture of a camera."""
    found = db.execute(
        f"""{_SELECT} WHERE shot_id = ? AND camera = ? AND region IS NULL AND picture IS NOT NULL AND {_OF_LINEAGE}
            ORDER BY proofs.id DESC LIMIT 1""",
        (shot_id, camera),
    )
    return next(iter(_proofs(found)), None)


def pictures_by_shot(db: sqlite3.Connection) -> dict[int, list[str]]:
    """Digests of the pictures of every shot, those of frames and of deleted proofs included."""
    found: dict[int, list[str]] = {}
    for row in db.execute("SELECT DISTINCT shot_id, picture FROM proofs WHERE picture IS NOT NULL"):
        found.setdefault(row["shot_id"], []).append(row["picture"])
    return found


def say_name(db: sqlite3.Connection, proof_id: int, name: str, note: str) -> None:
    db.execute("UPDATE proofs SET name = ?, note = ? WHERE id = ?", (name.strip()[:80], note.strip()[:2000], proof_id))


def star(db: sqlite3.Connection, proof_id: int, on: bool) -> None:
    db.execute("UPDATE proofs SET starred = ? WHERE id = ?", (on, proof_id))


def set_focus(db: sqlite3.Connection, proof_id: int, box: tuple[float, float, float, float]) -> None:
    db.execute("UPDATE proofs SET focus = ? WHERE id = ?", (json.dumps(box), proof_id))


def delete(db: sqlite3.Connection, numbers: list[int]) -> str:
    """Move proofs to the bin; returns the time, with which `restore` brings them back."""
    moment = now()
    db.executemany("UPDATE proofs SET deleted_at = ? WHERE id = ? AND deleted_at IS NULL", [(moment, number) for number in numbers])
    return moment


def restore(db: sqlite3.Connection, shot_id: int, moment: str = "") -> int:
    """Restore the proofs deleted at a time, or last; returns how many."""
    moment = moment or (db.execute("SELECT max(deleted_at) AS last FROM proofs WHERE shot_id = ?", (shot_id,)).fetchone()["last"] or "")
    return db.execute("UPDATE proofs SET deleted_at = NULL WHERE shot_id = ? AND deleted_at = ?", (shot_id, moment)).rowcount


def deleted(db: sqlite3.Connection, shot_id: int) -> int:
    """Number of a shot's deleted proofs."""
    return int(db.execute("SELECT count(*) FROM proofs WHERE shot_id = ? AND deleted_at IS NOT NULL", (shot_id,)).fetchone()[0])


def empty(db: sqlite3.Connection, shot_id: int) -> list[str]:
    """Delete proofs in the bin for good, and return pictures that no proof uses any more. Their children move up to the nearest remaining
    ancestor."""
    with transaction(db):
        rows = db.execute("SELECT id, parent_id, picture FROM proofs WHERE shot_id = ? AND deleted_at IS NOT NULL ORDER BY id DESC", (shot_id,))
        gone = rows.fetchall()
        for row in gone:
            db.execute("UPDATE proofs SET parent_id = ? WHERE parent_id = ?", (row["parent_id"], row["id"]))
            db.execute("DELETE FROM proofs WHERE id = ?", (row["id"],))
    return [digest for digest in {row["picture"] for row in gone if row["picture"]} if not has_picture(db, digest)]


def timed(db: sqlite3.Connection, shot_id: int, most: int = 40) -> list[Timed]:
    """The last renders of a shot timed here, oldest first, with seconds as if on the threads that there are now."""
    rows = db.execute(
        """SELECT body, camera, width, height, region, seed, time, pixel_seconds, jobs.seconds AS whole, edits,
             json_extract(meters, '$.samples') AS samples, json_extract(meters, '$.spent.threads') AS threads
           FROM proofs JOIN recipes ON recipes.id = recipe_id JOIN jobs ON jobs.proof_id = proofs.id
           WHERE shot_id = ? AND jobs.state = 'done' AND pixel_seconds > 0 AND (meters IS NULL OR json_valid(meters))
           ORDER BY proofs.id DESC LIMIT ?""",
        (shot_id, most),
    ).fetchall()
    now_on, here = machines.threads(db), machines.threads_here(db)
    readable = [(row, recipe) for row in reversed(rows) if (recipe := recipes.readable(row["body"])) is not None]
    return [
        Timed(
            recipe, _frame(row), row["camera"], row["pixel_seconds"] * (row["threads"] or here) / now_on,
            max(0.0, row["whole"] - row["pixel_seconds"]), float(row["samples"]) if isinstance(row["samples"], int | float) else None, row["edits"],
        )
        for row, recipe in readable
    ]  # fmt: skip


def finished(db: sqlite3.Connection, shot_id: int) -> list[int]:
    """Numbers of the proofs of a shot that have a picture, oldest first."""
    rows = db.execute(f"SELECT id FROM proofs WHERE shot_id = ? AND picture IS NOT NULL AND {_OF_LINEAGE} ORDER BY id", (shot_id,))
    return [row["id"] for row in rows]


def shots_of(db: sqlite3.Connection) -> dict[int, int]:
    """The shot of every proof, by their numbers."""
    return {row["id"]: row["shot_id"] for row in db.execute("SELECT id, shot_id FROM proofs")}


def has_picture(db: sqlite3.Connection, digest: str) -> bool:
    """Whether a proof or a named recipe has a picture of that hash."""
    found = db.execute("SELECT 1 FROM proofs WHERE picture = ? UNION SELECT 1 FROM named_recipes WHERE picture = ?", (digest, digest))
    return found.fetchone() is not None
