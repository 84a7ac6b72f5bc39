"""Requests about sequences: their flicker, measured as frames come, and what is filtered through time."""

import sqlite3
from typing import Any

import numpy as np

from ..core.errors import InputError
from ..core.pictures.exr import Picture, read_exr
from ..core.sequence.judge import Judge, Judged
from ..store import files, proofs, requests, sequences, shots
from ..store.sequences import Sequence
from .request import Request

KIND = "judge"


def judge_later(db: sqlite3.Connection, sequence: Sequence) -> None:
    """Ask for the flicker of a sequence's new frames, unless that is asked already."""
    if not requests.waits(db, KIND, sequence.shot_id, {"sequence": sequence.id}):
        requests.ask(db, KIND, sequence.shot_id, {"sequence": sequence.id})


def judge_sequence(request: Request) -> dict[str, Any]:
    """Measure the flicker of a sequence's finished frames that is not known yet; with `filtered`, of the frames filtered through time, which are
    kept."""
    db, data = request.db, request.worker.data
    sequence, filtered = sequences.get(db, request.body["sequence"]), bool(request.body.get("filtered"))
    if sequence is None:
        raise InputError("This sequence no longer exists; choose another.")
    shot = shots.get(db, sequence.shot_id)
    frames = sequences.frames_of(db, sequence.id)
    known = sequences.flickers(db, sequence.id, filtered)
    if filtered and not all(proof.picture for proof in frames):
        raise InputError("Frames are filtered with their neighbours: wait until all of them are rendered.")
    of_time = {proof.frame.time: proof for proof in frames}
    judge = Judge(sequence.rate, filtered=filtered)
    wanted = [proof for proof in frames if proof.picture and needed(proof, frames, known, data if filtered else None)]
    for k, proof in enumerate(wanted):
        request.report({"what": f"frame {proof.frame.time:g}", "share": k / len(wanted)})
        for one in judge.add(_picture(request, shot, proof)):
            _keep(request, of_time[one.time], judge, one)
        if request.cancel.is_set():
            break
    for one in judge.finish():
        _keep(request, of_time[one.time], judge, one)
    return {"sequence": sequence.id}


def needed(proof: proofs.Proof, frames: list[proofs.Proof], known: dict[int, sequences.Told], data: Any = None) -> bool:
    """Whether a frame must be read to judge what is not judged yet: itself, or one that it is a neighbour of. data: whether its filtered picture must
    be there, too."""
    if data is not None:
        return True
    times = {one.frame.time: one for one in frames if one.picture}
    middle = [times.get(time) for time in ((proof.frame.time or 0.0) + step for step in (-1.0, 0.0, 1.0))]
    return any(
        one is not None and one.id not in known and all((one.frame.time or 0.0) + step in times for step in (-1.0, 1.0)) for one in middle
    )  # fmt: skip


def _picture(request: Request, shot: shots.Shot, proof: proofs.Proof) -> Picture:
    assert proof.picture is not None
    picture = read_exr(files.picture_path(request.worker.data, proof.picture))
    picture.exposure = shot.exposure(proof.camera, proof.edits)
    return picture


def _keep(request: Request, proof: proofs.Proof, judge: Judge, one: Judged) -> None:
    """Store the flicker of a frame with its map, and its filtered picture."""
    data, name = request.worker.data, ""
    if judge.filtered and proof.picture:
        _write(files.in_time_path(data, proof.picture), image=one.image.astype(np.float16), error=one.error)
    if one.flicker is None:
        return
    name = f"{proof.picture}{'-in-time' if judge.filtered else ''}"
    _write_array(files.flicker_path(data, name), one.flicker.seen.astype(np.float16))
    sequences.keep_flicker(request.db, proof.id, judge.filtered, one.flicker.as_dict(), name)


def _write(path: Any, **arrays: np.ndarray | None) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    beside = path.with_name(f".new-{path.name}")
    np.savez_compressed(beside, **{name: array for name, array in arrays.items() if array is not None})  # type: ignore[arg-type]
    beside.replace(path)


def _write_array(path: Any, array: np.ndarray) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    beside = path.with_name(f".new-{path.name}")
    np.save(beside, array)
    beside.replace(path)
