"""Taking in pictures that were rendered elsewhere: a shot of its own, without a scene, and a proof for each picture."""

import sqlite3
from pathlib import Path

from ..core.errors import InputError
from ..core.finish.finishing import measured_exposure
from ..core.formats.exr import Picture
from ..core.formats.outside import SUFFIXES, read_outside
from ..core.measure.noise import LUMINANCE, noise_level
from ..core.render.recipe import Recipe
from ..core.scene.edits import Edits, with_edits
from ..store import proofs, shots
from ..store.database import transaction
from .finishing import keep_picture, make_thumbnail
from .intake import free_slug

CAMERA, ELSEWHERE = "picture", "elsewhere"
MOST_PICTURES = 32


def is_picture(name: str) -> bool:
    return Path(name).suffix.lower() in SUFFIXES


def add_pictures(
    db: sqlite3.Connection, data: Path, paths: list[Path], *, shot: shots.Shot | None = None, seconds: float | None = None, notes: str = ""
) -> tuple[shots.Shot, list[int]]:
    """Bring in pictures, to a shot of pictures that is there, or to one of their own; returns it and the numbers of their proofs, each the child of
    the one before it where they are of one size. `seconds`: what each took, where that is known. Raises InputError, and keeps none, where one
    can't be read."""
    if not 1 <= len(paths) <= MOST_PICTURES:
        raise InputError(f"Choose 1 to {MOST_PICTURES} pictures at a time: EXR, with their passes if there are any, or PNG.")
    read = [(path, read_outside(path)) for path in paths]
    numbers = []
    if shot is None:
        first = read[0][1]
        cameras = [{"name": CAMERA, "exposure": _exposure(read[0][0], first)}]
        title = paths[0].stem
        about = "Rendered elsewhere: judged by its pictures."
        shot = shots.add(db, free_slug(db, paths[0]), title, about, paths[0].parent, cameras, 0, [], outside=True)
    before = [p for p in proofs.of_shot(db, shot.id) if p.picture]
    last = before[-1] if before else None
    for path, picture in read:
        picture.camera = CAMERA
        exposure = _exposure(path, picture)
        edits = with_edits(Edits(), {f"camera.{CAMERA}.exposure": exposure})
        digest = keep_picture(data, picture)
        make_thumbnail(data, digest, picture, exposure)
        alike = last is not None and (last.frame.width, last.frame.height) == (picture.frame.width, picture.frame.height)
        with transaction(db):
            number = proofs.add(
                db, shot.id, last.id if last is not None and alike else None, Recipe(), CAMERA, picture.frame, note=notes, edits=edits
            )
            light = float((picture.beauty[..., :3] @ LUMINANCE).mean())
            found = {"passes": list(picture.passes)}
            proofs.finish(db, number, digest, seconds, noise_level(picture), light, 0, ELSEWHERE, found=found)
            proofs.say_name(db, number, path.stem, notes)
        numbers.append(number)
        last = proofs.get(db, number)
    return shot, numbers


def _exposure(path: Path, picture: Picture) -> float:
    """What a picture is first looked at with: as it is where it was made for the screen, else as it measures itself."""
    return 0.0 if path.suffix.lower() not in (".exr", ".hdr") else round(measured_exposure(picture.beauty), 2)
