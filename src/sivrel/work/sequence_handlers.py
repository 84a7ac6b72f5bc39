"""Requests about sequences: their flicker, measured as frames come, and what is filtered through time."""

import io
import sqlite3
import threading
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from ..core.edits.edits import Edits, with_edits
from ..core.errors import Cancelled, InputError
from ..core.finish.finishing import finish_from, finished
from ..core.finish.view import to_bytes
from ..core.pictures.exr import Picture, read_exr
from ..core.pictures.video import write_video
from ..core.render.frame import Frame
from ..core.render.recipe import Recipe
from ..core.sequence.cause import around, find_cause
from ..core.sequence.frames import parse_frames
from ..core.sequence.judge import Judge, Judged
from ..core.sequence.predict import predict, prediction_in_words
from ..core.sequence.render import Sequence as Frames
from ..core.sequence.trials import Box, MotionTrials, boxes_of
from ..core.whole_file import whole_file
from ..store import files, proofs, recipes, requests, sequences, shots
from ..store.sequences import Sequence
from .request import Request

KIND = "judge"
JUDGING = threading.Lock()
"""Held while a sequence is judged: a second request finds what the first has measured, and measures the rest."""
FRAMES_OF_A_PREDICTION = 3
"""Frames of which parts are rendered to predict flicker."""


def judge_later(db: sqlite3.Connection, sequence: Sequence) -> None:
    """Ask for the flicker of a sequence's new frames, unless that is asked already."""
    if not requests.waits(db, KIND, sequence.shot_id, {"sequence": sequence.id}):
        requests.ask(db, KIND, sequence.shot_id, {"sequence": sequence.id})


def judge_sequence(request: Request) -> dict[str, Any]:
    """Measure the flicker of a sequence's finished frames that is not known yet; with `filtered`, of the frames filtered through time, which are
    kept."""
    with JUDGING:
        return _judge_sequence(request)


def _judge_sequence(request: Request) -> dict[str, Any]:
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


def needed(proof: proofs.Proof, frames: list[proofs.Proof], known: dict[int, sequences.FrameFlicker], data: Any = None) -> bool:
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


def _write(path: Path, **arrays: np.ndarray | None) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    with whole_file(path) as beside, open(beside, "wb") as file:
        np.savez_compressed(file, **{name: array for name, array in arrays.items() if array is not None})  # type: ignore[arg-type]


def _write_array(path: Path, array: np.ndarray) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    with whole_file(path) as beside, open(beside, "wb") as file:
        np.save(file, array)


def _frames(
    request: Request, shot: shots.Shot, recipe: Recipe, edits: Edits, camera: str, frame: Frame, frames: tuple[float, ...], first: str
) -> Frames:  # fmt: skip
    """Frames of a shot, to try things on. first: what the page shows until there is more."""
    worker = request.worker
    moving = worker.moving(request.db, shot, frames)
    if moving is None:
        raise InputError("This shot stands still: its file has no range of frames.")
    beside = worker.scene_of(request.db, shot)[1]
    task = request.task(lambda what, share, found: {"what": what, "share": share})
    task.report(first, 0.01)
    return Frames(moving, recipe, edits, camera, frame, name=shot.slug, caches=worker.caches, files=beside, task=task)


def _trials(frames: Frames, shot: shots.Shot, time: float, boxes: list[Box], count: int) -> MotionTrials:
    assert shot.frames is not None
    exposure = shot.exposure(frames.camera or shot.cameras[0]["name"], frames.edits)
    return MotionTrials(
        frames, time, boxes, rate=shot.frames.rate, exposure=exposure, first=shot.frames.first, last=shot.frames.last, count=count
    )  # fmt: skip


def cause_of_flicker(request: Request) -> dict[str, Any]:
    """Find the cause of a sequence's flicker by trials at its worst place, and store it."""
    sequence = sequences.get(request.db, request.body["sequence"])
    if sequence is None:
        raise InputError("This sequence no longer exists; choose another.")
    try:
        cause = _cause(request, sequence)
    except (InputError, Cancelled, OSError):
        sequences.set_cause(request.db, sequence.id, sequence.cause, None)
        raise
    sequences.set_cause(request.db, sequence.id, cause, None)
    return {"sequence": sequence.id, "cause": cause}


def _cause(request: Request, sequence: Sequence) -> dict[str, Any]:
    shot = shots.get(request.db, sequence.shot_id)
    known, frames = sequences.flickers(request.db, sequence.id, False), sequences.frames_of(request.db, sequence.id)
    judged = [(known[proof.id].body, proof) for proof in frames if proof.id in known]
    if not judged:
        raise InputError("No flicker is measured yet: that takes three finished frames that follow one another.")
    body, proof = max(judged, key=lambda one: one[0]["level"])
    width, height = sequence.frame.width, sequence.frame.height
    worst = tuple(body["places"][0]["box"]) if body["places"] else (0, 0, width, height)
    made = _frames(request, shot, sequence.recipe, sequence.edits, sequence.camera, sequence.frame, sequence.frames, "preparing the frames")
    trials = _trials(made, shot, proof.frame.time or 0.0, [around(worst, width, height)], 5)
    seconds = [one.seconds for one in frames if one.seconds]
    return find_cause(trials, sum(seconds) / len(seconds) if seconds else 0.0).as_dict()


def predict_flicker(request: Request) -> dict[str, Any]:
    """Predict the flicker of frames that are not rendered, from small parts of a few of them."""
    body = request.body
    recipe = recipes.stored(request.db, body["recipe"])
    frames, (width, height) = parse_frames(body["frames"]), body["size"]
    shot, edits = request.shot, with_edits(Edits(), body["edits"])
    made = _frames(request, shot, recipe, edits, body["camera"], Frame(width, height), frames, "rendering small parts of three frames")
    prediction = predict(_trials(made, shot, frames[len(frames) // 2], boxes_of(width, height), FRAMES_OF_A_PREDICTION))
    assert shot.frames is not None
    return {"predicted": prediction.as_dict(), "says": prediction_in_words(prediction, shot.frames.rate)}


def export_sequence(request: Request) -> dict[str, Any]:
    """Write a sequence as a film, or its pictures in one file; the answer names it."""
    sequence, filtered, kind = sequences.get(request.db, request.body["sequence"]), bool(request.body.get("filtered")), request.body["as"]
    if sequence is None:
        raise InputError("This sequence no longer exists; choose another.")
    frames = [proof for proof in sequences.frames_of(request.db, sequence.id) if proof.picture]
    if not frames:
        raise InputError("No frame is rendered yet; wait for the first ones.")
    shot = shots.get(request.db, sequence.shot_id)
    name = f"{'in-time' if filtered else 'raw'}.{kind}"
    path = files.export_path(request.worker.data, sequence.id, name)
    assert path is not None
    path.parent.mkdir(parents=True, exist_ok=True)
    if kind == "webm":
        write_video(path, (pixels for _, pixels in _shown(request, shot, frames, filtered)), sequence.rate)
    else:
        _write_pictures(request, path, shot, frames, filtered, kind)
    return {"name": name, "sequence": sequence.id}


def _shown(request: Request, shot: shots.Shot, frames: list[proofs.Proof], filtered: bool) -> Iterator[tuple[proofs.Proof, np.ndarray]]:
    """Each frame as the screen shows it, finished as its shot is, uint8."""
    for k, proof in enumerate(frames):
        request.report({"what": f"frame {proof.frame.time:g}", "share": k / len(frames)})
        if request.cancel.is_set():
            raise Cancelled
        assert proof.picture is not None
        in_time = files.in_time_path(request.worker.data, proof.picture)
        if filtered and not in_time.is_file():
            raise InputError("These frames are not filtered through time yet; do that first.")
        linear = np.load(in_time)["image"].astype(np.float32) if filtered else _picture(request, shot, proof).beauty
        yield proof, to_bytes(finished(linear, finish_from({**shot.finish, "exposure": shot.exposure(proof.camera, proof.edits)})))


def _write_pictures(request: Request, path: Path, shot: shots.Shot, frames: list[proofs.Proof], filtered: bool, kind: str) -> None:
    """All frames in one file, each named by its number."""
    with whole_file(path) as beside, zipfile.ZipFile(beside, "w", zipfile.ZIP_STORED) as archive:
        if kind == "png":
            for proof, pixels in _shown(request, shot, frames, filtered):
                body = io.BytesIO()
                Image.fromarray(pixels).save(body, format="PNG")
                archive.writestr(f"{shot.slug}.{int(proof.frame.time or 0):04d}.png", body.getvalue())
        else:
            for proof in frames:
                assert proof.picture is not None
                archive.write(files.picture_path(request.worker.data, proof.picture), f"{shot.slug}.{int(proof.frame.time or 0):04d}.exr")
