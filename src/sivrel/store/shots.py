"""Shots: the scenes to work on."""

import json
import sqlite3
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from ..core.edits.edits import Edits
from ..core.scene.model import FrameRange
from .database import read_json


def now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds")


@dataclass(frozen=True)
class Shot:
    """A scene file with its facts. cameras: [{"name", "exposure"}]; confined: an upload; lights: the file's
    facts of each, and of each glowing mesh (see work.intake); finish: its finishing settings, see core.finish; outside: pictures that
    were rendered elsewhere, without a scene; path is a folder then; frames: of a moving shot, None for one that stands still."""

    id: int
    slug: str
    title: str
    about: str
    path: Path
    confined: bool
    cameras: list[dict[str, Any]]
    triangles: int
    notes: list[str]
    lights: list[dict[str, Any]]
    finish: dict[str, Any]
    outside: bool = False
    frames: FrameRange | None = None

    @property
    def confine_to(self) -> Path | None:
        """The folder that confines the scene; None for files opened by path on this machine."""
        return self.path.parent if self.confined else None

    def camera(self, name: str | None) -> dict[str, Any]:
        return next((c for c in self.cameras if c["name"] == name), self.cameras[0])

    def exposure(self, camera: str, edits: Edits) -> float:
        """A camera's exposure: the file's, or an edit's."""
        edit = edits.cameras.get(camera)
        return float(edit.exposure if edit is not None and edit.exposure is not None else self.camera(camera)["exposure"])


def _shot(row: sqlite3.Row) -> Shot:
    return Shot(
        row["id"], row["slug"], row["title"], row["about"], Path(row["path"]), bool(row["confined"]),
        read_json(row["cameras"], []) or [{"name": "camera", "exposure": 0.0}], row["triangles"], read_json(row["notes"], []),
        read_json(row["lights"], []), read_json(row["finish"], {}),
        bool(row["outside"]), _frames(read_json(row["frames"], [])),
    )  # fmt: skip


def _frames(kept: list[Any]) -> FrameRange | None:
    return FrameRange(*map(float, kept)) if len(kept) == 3 and all(isinstance(n, int | float) for n in kept) else None


def add(
    db: sqlite3.Connection, slug: str, title: str, about: str, path: Path, cameras: list[dict[str, Any]], triangles: int,
    notes: list[str], lights: list[dict[str, Any]] | None = None, confined: bool = False, outside: bool = False,
    frames: list[float] | None = None,
) -> Shot:  # fmt: skip
    """Store a shot; one with the same slug is updated and keeps its proofs."""
    db.execute(
        """INSERT INTO shots (slug, title, about, path, confined, cameras, triangles, notes, lights, created_at, outside, frames)
           VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
           ON CONFLICT (slug) DO UPDATE SET title = excluded.title, about = excluded.about, path = excluded.path,
             cameras = excluded.cameras, triangles = excluded.triangles, notes = excluded.notes, lights = excluded.lights,
             frames = excluded.frames""",
        (
            slug, title, about, str(path), confined, json.dumps(cameras), triangles, json.dumps(notes), json.dumps(lights or []), now(), outside,
            json.dumps(frames or []),
        ),
    )  # fmt: skip
    shot = find(db, slug)
    assert shot is not None
    return shot


def find(db: sqlite3.Connection, slug: str) -> Shot | None:
    row = db.execute("SELECT * FROM shots WHERE slug = ?", (slug,)).fetchone()
    return _shot(row) if row else None


def get(db: sqlite3.Connection, shot_id: int) -> Shot:
    return _shot(db.execute("SELECT * FROM shots WHERE id = ?", (shot_id,)).fetchone())


def listed(db: sqlite3.Connection) -> list[tuple[Shot, int, str | None]]:
    """Every shot with the number of its proofs and its cover, or else its newest finished picture; those worked on last come first."""
    rows = db.execute(
        """SELECT shots.*,
             (SELECT count(*) FROM proofs WHERE shot_id = shots.id AND deleted_at IS NULL AND sequence_id IS NULL) AS proofs,
             coalesce(
               (SELECT picture FROM proofs WHERE id = cover_id AND deleted_at IS NULL),
               (SELECT picture FROM proofs WHERE shot_id = shots.id AND picture IS NOT NULL AND region IS NULL AND deleted_at IS NULL
                ORDER BY sequence_id IS NOT NULL, width * height DESC, id DESC LIMIT 1)) AS picture
           FROM shots ORDER BY used_at DESC NULLS LAST, id"""
    )
    return [(_shot(row), row["proofs"], row["picture"]) for row in rows]


def set_frames(db: sqlite3.Connection, shot: Shot, frames: FrameRange) -> None:
    """Store the frames of a shot that was opened before they were known."""
    db.execute("UPDATE shots SET frames = ? WHERE id = ?", (json.dumps([frames.first, frames.last, frames.rate]), shot.id))


def set_finish(db: sqlite3.Connection, shot: Shot, finish: dict[str, Any]) -> None:
    db.execute("UPDATE shots SET finish = ? WHERE id = ?", (json.dumps(finish), shot.id))


def opened(db: sqlite3.Connection, shot: Shot) -> None:
    """Mark a shot as open, so that the worker loads it ahead."""
    db.execute("UPDATE shots SET opened_at = ?, used_at = ? WHERE id = ?", (now(), now(), shot.id))


def set_cover(db: sqlite3.Connection, shot_id: int, proof_id: int) -> None:
    """The proof whose picture stands for a shot."""
    db.execute("UPDATE shots SET cover_id = ? WHERE id = ?", (proof_id, shot_id))


def forget_opened(db: sqlite3.Connection) -> None:
    """Load no shot ahead until one is opened again."""
    db.execute("UPDATE shots SET opened_at = NULL")


def last_opened(db: sqlite3.Connection) -> Shot | None:
    row = db.execute("SELECT * FROM shots WHERE opened_at IS NOT NULL AND outside = 0 ORDER BY opened_at DESC LIMIT 1").fetchone()
    return _shot(row) if row else None
