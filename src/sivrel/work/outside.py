"""Imports pictures that were rendered elsewhere: a shot without a scene, and a proof for each picture."""

import math
import os
import sqlite3
import tempfile
from pathlib import Path
from typing import Any

from ..core.edits.edits import Edits, with_edits
from ..core.errors import InputError
from ..core.pictures.exr import read_exr
from ..core.pictures.outside import SUFFIXES
from ..core.render.frame import Frame
from ..core.render.recipe import Recipe
from ..store import files, proofs, shots
from ..store.database import transaction
from .facts import CAMERA
from .finishing import make_thumbnail
from .intake import free_slug
from .looking_in import inspect_picture_sandboxed

ELSEWHERE = "elsewhere"
MOST_PICTURES = 32
LONGEST_RENDER = 1e8
"""Longest render time that may be given for a picture, in seconds: three years."""


def is_picture(name: str) -> bool:
    return Path(name).suffix.lower() in SUFFIXES


def add_pictures(
    db: sqlite3.Connection, data: Path, paths: list[Path], *, shot: shots.Shot | None = None, seconds: float | None = None, notes: str = ""
) -> tuple[shots.Shot, list[int]]:
    """Import pictures into an existing shot of pictures, or a new one; returns it and the numbers of their proofs, each a child of
    the one before it if they have the same size. `seconds`: render time of each, if known. Each is unpacked by a process with limits.
    Raises InputError, and imports none, if one can't be read."""
    if not 1 <= len(paths) <= MOST_PICTURES:
        raise InputError(f"Choose 1 to {MOST_PICTURES} pictures at a time: EXR, with their passes if there are any, or PNG.")
    if seconds is not None and not (math.isfinite(seconds) and 0.0 <= seconds <= LONGEST_RENDER):
        raise InputError("The render time can't be read; give a number of seconds, or leave it out.")
    with tempfile.TemporaryDirectory(dir=files.folder_for(data, "uploads"), prefix=".new-") as unpacked:
        facts = [_unpacked(data, path, Path(unpacked) / f"{k}.exr") for k, path in enumerate(paths)]
        with transaction(db):
            if shot is None:
                cameras = [{"name": CAMERA, "exposure": facts[0]["exposure"]}]
                about = "Rendered elsewhere: judged by its pictures."
                shot = shots.add(db, free_slug(db, paths[0]), paths[0].stem, about, paths[0].parent, cameras, 0, [], outside=True)
            return shot, _add_proofs(db, shot, list(zip(paths, facts, strict=True)), seconds, notes)


def _unpacked(data: Path, path: Path, out: Path) -> dict[str, Any]:
    """Store a picture under its hash, with a thumbnail; returns its facts."""
    facts = inspect_picture_sandboxed(path, out)
    facts["digest"] = files.keep(files.pictures(data), ".exr", lambda place: os.replace(out, place))
    if not files.thumbnail_path(data, facts["digest"]).is_file():
        make_thumbnail(data, facts["digest"], read_exr(files.picture_path(data, facts["digest"])), facts["exposure"])
    return facts


def _add_proofs(
    db: sqlite3.Connection, shot: shots.Shot, pictures: list[tuple[Path, dict[str, Any]]], seconds: float | None, notes: str
) -> list[int]:
    before = [p for p in proofs.of_shot(db, shot.id) if p.picture]
    last, numbers = before[-1] if before else None, []
    for path, facts in pictures:
        frame = Frame(facts["size"][0], facts["size"][1], region=facts["region"] and tuple(facts["region"]), seed=facts["seed"])
        edits = with_edits(Edits(), {f"camera.{CAMERA}.exposure": facts["exposure"]})
        alike = last is not None and (last.frame.width, last.frame.height) == (frame.width, frame.height)
        number = proofs.add(db, shot.id, last.id if last is not None and alike else None, Recipe(), CAMERA, frame, note=notes, edits=edits)
        found = {"passes": facts["passes"]}
        proofs.finish(db, number, facts["digest"], seconds, facts["noise"], facts["light"], 0, ELSEWHERE, found=found)
        proofs.say_name(db, number, path.stem, notes)
        numbers.append(number)
        last = proofs.get(db, number)
    return numbers
