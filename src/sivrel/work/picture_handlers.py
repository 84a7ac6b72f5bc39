"""Requests about finished pictures: filtering, and reading pins."""

import threading
from typing import Any

from ..core.errors import InputError
from ..core.pictures.exr import save_exr
from ..core.pictures.mattes import mattes
from ..core.render.recipe import with_values
from ..store import files, proofs
from .filtering import keep_filtered_exr, kept_filtered
from .pins import read_pins
from .request import Request

READING_PINS = threading.Lock()


def filter_picture(request: Request) -> dict[str, Any]:
    """Filter a picture, once, with `exr` also its passes; returns the smeared share, the object with most of it, the filter's name and its error
    relative to the light."""
    if request.body.get("exr"):
        keep_filtered_exr(request.worker.data, request.body["picture"])
    kept = kept_filtered(request.worker.data, request.body["picture"])
    smeared, level = (float(kept[name]) if name in kept else None for name in ("smeared", "level"))
    return {"smeared": smeared, "object": int(kept["most"]), "by": str(kept.get("by", "")), "level": level}


def mattes_of(request: Request) -> dict[str, Any]:
    """Mattes of a proof by object or surface, made once."""
    proof, by = proofs.get(request.db, request.body["proof"]), request.body["by"]
    if proof is None or proof.picture is None:
        raise InputError("This proof has no picture any more; choose another.")
    path = files.mattes_path(request.worker.data, proof.picture, by)
    if not path.is_file():
        plain = with_values(proof.recipe, {"gi.seen": "off", "caustics.on": "no"})
        ready = request.worker.prepare(request.db, request.shot, plain, proof.edits, proof.camera, frame=proof.frame)
        task = request.task(lambda what, share, made: {"what": what, "share": share})
        path.parent.mkdir(parents=True, exist_ok=True)
        save_exr(path, mattes(ready, proof.frame, by, task=task))
    return {"made": True}


def pins_read(request: Request) -> dict[str, Any]:
    """Read the pins of a shot from all its finished proofs. One request at a time: the next finds most of them read."""
    with READING_PINS:
        shot = request.shot
        task = request.task(lambda what, share, read: {"read": read})
        return {"read": read_pins(request.worker.data, request.db, shot, proofs.finished(request.db, shot.id), task)}
