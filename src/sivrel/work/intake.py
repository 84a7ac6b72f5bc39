"""Imports shots: demo shots with their proofs, and files that a user uploads."""

import functools
import json
import re
import secrets
import shutil
import sqlite3
from pathlib import Path
from typing import Any

import numpy as np

from ..core.edits.edits import Edits
from ..core.errors import InputError
from ..core.formats.scenes import read_scene, suffixes
from ..core.pictures.exr import read_exr
from ..demo.shots import SHOTS, DemoShot
from ..store import files, proofs, sequences, shots
from ..store.database import transaction
from .facts import facts_of
from .finishing import make_thumbnail
from .looking_in import inspect_sandboxed

SCENES = suffixes()
"""Suffixes of the scene files that can be opened."""


def add_demo_shots(db: sqlite3.Connection, data: Path) -> None:
    """Import the demo shots, with their proofs if the shot has none yet."""
    for demo in SHOTS:
        if not demo.path.is_file():
            continue
        known = shots.find(db, demo.name)
        facts = None if known and known.path == demo.path and known.lights else facts_of(read_scene(demo.path))
        with transaction(db):  # a shot comes with all of its proofs, or not at all
            shot = known if facts is None else shots.add(db, demo.name, demo.title, demo.about, demo.path, **facts)
            assert shot is not None
            if not proofs.of_shot(db, shot.id):
                _add_shipped_proofs(db, data, demo, shot.id)
            if not sequences.of_shot(db, shot.id):
                for listing in sorted(demo.sequences.glob("*/sequence.json")):
                    _add_shipped_sequence(db, data, listing, shot.id)


def _add_shipped_proofs(db: sqlite3.Connection, data: Path, demo: DemoShot, shot_id: int) -> None:
    listing = demo.proofs / "proofs.json"
    if not listing.is_file():
        return
    numbers: dict[str, int] = {}
    for entry in json.loads(listing.read_text()):
        picture = read_exr(demo.proofs / entry["file"])
        assert picture.recipe is not None and picture.camera is not None
        parent = numbers.get(entry["parent"]) if entry["parent"] else None
        number = proofs.add(db, shot_id, parent, picture.recipe, picture.camera, picture.frame, entry["note"], picture.edits)
        digest = files.keep(files.pictures(data), ".exr", functools.partial(shutil.copyfile, demo.proofs / entry["file"]))
        make_thumbnail(data, digest, picture, entry["exposure"])
        proofs.finish(
            db, number, digest, entry["seconds"], entry["noise"], entry["light"], entry["dropped"], entry["made_on"],
            found={**entry.get("found", {}), "passes": list(picture.passes)},
        )  # fmt: skip
        numbers[entry["file"]] = number


def _add_shipped_sequence(db: sqlite3.Connection, data: Path, listing: Path, shot_id: int) -> None:
    """Import a sequence that ships with a demo shot: its frames, and their flicker."""
    about = json.loads(listing.read_text())
    rows = {row["frame"]: row for row in about["frames"]}
    first = read_exr(listing.parent / about["frames"][0]["file"])
    assert first.recipe is not None and first.camera is not None
    number = sequences.insert(
        db, shot_id, first.recipe, first.edits or Edits(), first.camera, first.frame, tuple(rows), about["rate"], name=about["title"], queued=False
    )  # fmt: skip
    frames = sequences.frames_of(db, number)
    for k, proof in enumerate(frames):
        row = rows[proof.frame.time]
        path = listing.parent / row["file"]
        digest = files.keep(files.pictures(data), ".exr", functools.partial(shutil.copyfile, path))
        if k == len(frames) // 2:  # the one that its card shows
            make_thumbnail(data, digest, read_exr(path), first.exposure)
        proofs.finish(db, proof.id, digest, row["seconds"], row["noise"], row["light"], row["dropped"], about["made_on"])
        for filtered, body, suffix in ((False, row["flicker"], ""), (True, row["in_time"], "-in-time")):
            kept = path.with_name(f"{path.stem}{suffix}.npz")
            if body:
                target = files.flicker_path(data, f"{digest}{suffix}")
                target.parent.mkdir(parents=True, exist_ok=True)
                np.save(target, np.load(kept)["seen"])
                sequences.keep_flicker(db, proof.id, filtered, body, f"{digest}{suffix}")
            if filtered:
                target = files.in_time_path(data, digest)
                target.parent.mkdir(parents=True, exist_ok=True)
                np.savez(target, image=np.load(kept)["image"])


def slug_of(name: str) -> str:
    """A slug: lower-case letters, digits and dashes."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:60] or "shot"


def new_upload(data: Path) -> Path:
    """A folder for the files of an upload, which is deleted at the next start unless the upload is imported."""
    folder = data / "uploads" / f".new-{secrets.token_hex(8)}"
    folder.mkdir(parents=True, mode=0o700)
    return folder


def _kept(facts: dict[str, Any]) -> dict[str, Any]:
    """What an inspection found that is stored with the shot: all but its load."""
    return {name: value for name, value in facts.items() if name != "load"}


def add_uploaded_shot(db: sqlite3.Connection, folder: Path, main: str, facts: dict[str, Any] | None = None) -> shots.Shot:
    """Import the scene file `main` of a new upload's folder, which gets its final name. facts: of its inspection, if it was inspected. Raises
    InputError."""
    facts = _kept(facts or inspect_sandboxed(folder / main, folder))
    kept = folder.with_name(folder.name.removeprefix(".new-"))
    folder.replace(kept)
    path = kept / main
    with transaction(db):  # another browser may import a file of the same name
        return shots.add(db, free_slug(db, path), path.stem, "", path, **facts, confined=True)


def scene_file(path: Path) -> Path:
    """A path on this machine, if it is that of a file. Raises InputError."""
    if not path.is_absolute() or not is_file(path):
        raise InputError(f"There is no file {path}; give the full path of a scene file on the machine that runs this program.")
    return path


def add_shot_at(db: sqlite3.Connection, path: Path, facts: dict[str, Any] | None = None) -> shots.Shot:
    """Open a scene file in its place on this machine. facts: of its inspection, if it was inspected. Raises InputError."""
    path = scene_file(path)
    facts = _kept(facts or inspect_sandboxed(path, None))
    with transaction(db):
        known = next((shot for shot, _, _ in shots.listed(db) if shot.path == path), None)
        slug = known.slug if known else free_slug(db, path)
        return shots.add(db, slug, path.stem, "", path, **facts, confined=False)


def is_file(path: Path) -> bool:
    """Whether there is a file of that name; False for an impossible name."""
    try:
        return path.is_file()
    except (OSError, ValueError):
        return False


def free_slug(db: sqlite3.Connection, path: Path) -> str:
    """A slug from a file's name that no shot has yet."""
    slug, taken = slug_of(path.stem), 1
    while shots.find(db, slug):
        taken += 1
        slug = f"{slug_of(path.stem)}-{taken}"
    return slug


def check_upload_names(names: list[str]) -> str:
    """The one scene file among uploaded names. Raises InputError."""
    scenes = [n for n in names if Path(n).suffix.lower() in SCENES]
    if not scenes:
        raise InputError(f"None of the files is a scene; choose one of {', '.join(SCENES)}, and its textures with it.")
    return scenes[0]
