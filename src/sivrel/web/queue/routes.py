"""The queue: what renders, what waits, in which order, and how long it will take."""

from typing import Any

from flask import Blueprint, render_template, request

from ...core.measure.cost import how_good
from ...store import jobs, proofs, shots
from ..asked import proof_or_404
from ..database import db
from ..numbers import whole_number
from ..words import changes

pages = Blueprint("queue", __name__, template_folder="templates")


def seconds_left(job: jobs.Job) -> float | None:
    """Seconds until a job is done: from its tiles once some are there, else from what it was guessed to take."""
    if job.tiles_done:
        return job.pixel_seconds * (job.tiles_total - job.tiles_done) / job.tiles_done
    return job.guess


def queue_values() -> dict[str, Any]:
    lines, total = [], 0.0
    for job, shot_id in jobs.queue(db()):
        proof, left = proofs.get(db(), job.proof_id), seconds_left(job)
        assert proof is not None
        parent = proofs.get(db(), proof.parent_id) if proof.parent_id else None
        told = changes(parent, proof) if parent else []
        said = proof.name or ", ".join(f"{name} {after}" for name, _, after in told) or ("same again" if parent else "first proof")
        total += left or 0.0
        lines.append({"job": job, "proof": proof, "shot": shots.get(db(), shot_id), "said": said, "left": left})
    guessed = jobs.guesses(db())
    return {"lines": lines, "total": total, "held": jobs.worker(db()).held, "off": how_good(guessed), "guessed": len(guessed)}


@pages.get("/queue")
def part():
    return render_template("queue.html", **queue_values())


@pages.post("/queue/hold")
def hold_all():
    """Let the whole queue stand, or go on with ?off."""
    jobs.hold_all(db(), "off" not in request.args)
    return render_template("queue.html", **queue_values())


@pages.post("/proofs/<int:proof_id>/queue")
def change(proof_id: int):
    """Change a job's place: ?move=-1 or 1, ?hold=1 or 0, ?gives_way=1 or 0, ?cancel."""
    proof, asked = proof_or_404(proof_id), request.args
    if "move" in asked:
        jobs.move(db(), proof.id, asked.get("move", 0, type=whole_number))
    if "hold" in asked:
        jobs.hold(db(), proof.id, asked["hold"] == "1")
    if "gives_way" in asked:
        jobs.give_way(db(), proof.id, asked["gives_way"] == "1")
    if "cancel" in asked:
        jobs.cancel(db(), proof.id)
    return render_template("queue.html", **queue_values())
