"""A sequence for its page: its frames, times, flicker, and what was found of it."""

from typing import Any

import numpy as np

from ...core.sequence.judge import over_all
from ...core.sequence.promise import level_in, promise_in_words
from ...core.sequence.words import flicker_in_words
from ...store import files, jobs, proofs, sequences, shots
from ...store.sequences import FrameFlicker, Sequence
from ..database import data, db
from ..words import recipe_changes, seconds


def changes_of(sequence: Sequence, others: list[Sequence]) -> list[tuple[str, str, str]]:
    """What a sequence changed against the one it was made from, or against the first of its shot."""
    before = next((one for one in others if one.id == sequence.parent_id), None) or next((one for one in others if one.id < sequence.id), None)
    if before is None:
        return []
    found = recipe_changes(before.recipe, sequence.recipe)
    for name, old, new in (
        ("frames", before.in_words, sequence.in_words), ("camera", before.camera, sequence.camera),
        ("size", f"{before.frame.width}×{before.frame.height}", f"{sequence.frame.width}×{sequence.frame.height}"),
    ):  # fmt: skip
        if old != new:
            found.append((name, old, new))
    if before.edits != sequence.edits:
        found.append(("lights and objects", "", "edited"))
    return found


def whole_flicker(frames: list[proofs.Proof], known: dict[int, FrameFlicker]) -> dict[str, Any] | None:
    """The flicker of a sequence from that of its frames, as core.sequence.judge.over_all gives it."""
    return over_all([(proof.frame.time or 0.0, known[proof.id].body) for proof in frames if proof.id in known])


def _frame(proof: proofs.Proof, raw: dict[int, FrameFlicker], filtered: dict[int, FrameFlicker]) -> dict[str, Any]:
    job = jobs.of_proof(db(), proof.id) if proof.picture is None else None
    return {
        "proof": proof.id, "time": proof.frame.time, "picture": proof.picture, "state": proof.state, "message": proof.message,
        "seconds": proof.seconds, "noise": proof.noise, "share": job.tiles_done / max(1, job.tiles_total) if job else None,
        "flicker": raw[proof.id].body if proof.id in raw else None, "in_time": filtered[proof.id].body if proof.id in filtered else None,
    }  # fmt: skip


def state_of(sequence: Sequence) -> dict[str, Any]:
    """Everything that the page shows of a sequence and that changes while it is rendered."""
    shot = shots.get(db(), sequence.shot_id)
    frames = sequences.frames_of(db(), sequence.id)
    raw, filtered = (sequences.flickers(db(), sequence.id, on) for on in (False, True))
    states = {proof.state for proof in frames}
    done = [proof for proof in frames if proof.picture]
    measured = [proof.seconds for proof in done if proof.seconds]
    left = sum(measured) / len(measured) * (len(frames) - len(done)) if measured else None
    whole, in_time = whole_flicker(frames, raw), whole_flicker(frames, filtered)
    return {
        "id": sequence.id, "name": sequence.name, "rate": sequence.rate, "width": sequence.frame.width, "height": sequence.frame.height,
        "exposure": shot.exposure(sequence.camera, sequence.edits), "frames": [_frame(proof, raw, filtered) for proof in frames],
        "done": len(done), "spent": sum(measured), "left": left, "flicker": whole, "in_time": in_time,
        "says": flicker_in_words(whole, sequence.rate), "says_in_time": flicker_in_words(in_time, sequence.rate),
        "stopped": bool(states & {"cancelled", "failed"}), "problem": next((proof.message for proof in frames if proof.state == "failed"), ""),
        "cause": sequence.cause, "question": sequence.question, "promise": _promise(sequence, frames, raw, measured),
        "progress": progress_in_words(len(done), len(frames), measured, left, "rendering" in states),
    }  # fmt: skip


def _promise(sequence: Sequence, frames: list[proofs.Proof], known: dict[int, FrameFlicker], measured: list[float]) -> dict[str, Any] | None:
    """What became of what the sequence's remedy promised; None if it was not rendered as one."""
    if sequence.promised is None:
        return None
    proof = next((one for one in frames if one.frame.time == sequence.promised["time"] and one.id in known), None)
    level = None
    if proof is not None:
        path = files.flicker_path(data(), known[proof.id].map)
        level = level_in(np.load(path), sequence.promised["box"]) if path.is_file() else None
    return promise_in_words(sequence.promised, level, sum(measured) / len(measured) if measured else None)


def progress_in_words(done: int, count: int, measured: list[float], left: float | None, rendering: bool) -> str:
    if done == count:
        return f"{count} frames in {seconds(sum(measured))}" if measured else f"{count} frames"
    words = f"{done} of {count} frames"
    if left is not None and rendering:
        words += f", about {seconds(left)} left"
    return words
