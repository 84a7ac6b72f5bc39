"""Reads pins from proofs, each once."""

import sqlite3
from pathlib import Path

from ..core.measure.pins import read_pin
from ..core.pictures.exr import read_exr
from ..core.task import Task
from ..store import files, pins, proofs, shots


def read_pins(data: Path, db: sqlite3.Connection, shot: shots.Shot, numbers: list[int], task: Task | None = None) -> int:
    """Read all pins of a shot from some proofs, unless already read, newest first, against each one's parent; returns how many
    proofs were read. A proof of another view has no readings, and its picture is not opened. `task` receives how many were read."""
    wanted, known = pins.of_shot(db, shot.id), pins.readings(db, shot.id, numbers)
    read = 0
    for number in sorted(numbers, reverse=True):
        missing = [pin for pin in wanted if (pin.id, number) not in known]
        proof = proofs.get(db, number) if missing else None
        if proof is None or proof.picture is None:
            continue
        seen, picture, before = [pin for pin in missing if pin.view == proof.view], None, None
        if seen:
            parent = proofs.get(db, proof.parent_id) if proof.parent_id else None
            picture = read_exr(files.picture_path(data, proof.picture))
            before = read_exr(files.picture_path(data, parent.picture)) if parent is not None and parent.picture else None
        exposure = shot.exposure(proof.camera, proof.edits)
        for pin in missing:
            reading = read_pin(picture, pin.box, before, exposure) if picture and pin in seen else None
            pins.keep_reading(db, pin.id, number, reading.as_dict() if reading else None)
        read += 1
        if task is not None:
            task.report("reading pins", read / len(numbers), read)
    return read
