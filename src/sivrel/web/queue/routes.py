"""The queue: running and waiting renders, their order, and times."""

from typing import Any

from flask import Blueprint, render_template, request
from flask.typing import ResponseReturnValue

from ...core.edits.edits import to_json
from ...core.measure.cost import forecast, how_good
from ...store import jobs, machines, proofs, sequences, shots
from ..asked import frame_of, made_as_asked, proof_or_404, shot_or_404
from ..database import db
from ..numbers import whole_number
from ..words import changes, seconds

pages = Blueprint("queue", __name__, template_folder="templates")


def seconds_left(job: jobs.Job) -> float | None:
    """Seconds until a job is done: the rest of its time limit if it has one, else from its finished tiles, else from its
    prediction."""
    proof = proofs.get(db(), job.proof_id)
    limit = proof.recipe.sampling.seconds if proof is not None else 0.0
    if limit > 0.0:
        return max(0.0, limit - job.pixel_seconds)
    if job.tiles_done:
        return job.pixel_seconds * (job.tiles_total - job.tiles_done) / job.tiles_done
    return job.guess * job.guess_threads / machines.threads(db()) if job.guess is not None and job.guess_threads else job.guess


def queue_values() -> dict[str, Any]:
    lines, total = [], 0.0
    of_sequence: dict[tuple[int, str], dict[str, Any]] = {}
    for job, shot_id in jobs.queue(db()):
        proof, left = proofs.get(db(), job.proof_id), seconds_left(job)
        assert proof is not None
        if proof.sequence_id is not None:
            known = of_sequence.get((proof.sequence_id, job.state))
            if known is not None:
                known["more"] += 1
                continue
            sequence = sequences.get(db(), proof.sequence_id)
            said = f"{sequence.name or 'sequence ' + str(sequence.id)}, frame {proof.frame.time:g}" if sequence is not None else "deleted"
            of_sequence[proof.sequence_id, job.state] = {
                "job": job, "proof": proof, "shot": shots.get(db(), shot_id), "said": said, "left": left, "more": 0, "sequence": sequence
            }  # fmt: skip
            lines.append(of_sequence[proof.sequence_id, job.state])
            continue
        parent = proofs.get(db(), proof.parent_id) if proof.parent_id else None
        changed = changes(parent, proof) if parent else []
        said = proof.name or ", ".join(f"{name} {after}" for name, _, after in changed) or ("same again" if parent else "first proof")
        total += left or 0.0
        lines.append({"job": job, "proof": proof, "shot": shots.get(db(), shot_id), "said": said, "left": left})
    guessed = jobs.guesses(db())
    return {"lines": lines, "total": total, "held": jobs.worker(db()).held, "off": how_good(guessed), "guessed": len(guessed)}


@pages.get("/queue")
def part() -> ResponseReturnValue:
    return render_template("queue.html", **queue_values())


@pages.post("/shots/<slug>/forecast")
def forecast_of(slug: str) -> ResponseReturnValue:
    """The forecast for the form's render, in words; empty if nothing similar was timed."""
    shot = shot_or_404(slug)
    recipe, edits, camera = made_as_asked(shot, request.form)
    predicted = forecast(recipe, frame_of(request.form), camera, proofs.timed(db(), shot.id), to_json(edits))
    if predicted is None:
        return {"says": "", "why": "Nothing of this shot was rendered here yet: the first proof will be timed."}
    off = how_good(jobs.guesses(db()))
    renders = "one render" if predicted.alike == 1 else f"{predicted.alike} renders"
    like = "of this recipe" if predicted.apart == 0 else "of similar recipes"
    why = f"from {renders} {like}; four in five should be between {seconds(predicted.low)} and {seconds(predicted.high)}"
    why += f"; past forecasts were {off * 100:.0f} % off in the median" if off is not None else "; no forecasts to rate yet"
    return {"says": f"about {seconds(predicted.seconds)} ({seconds(predicted.low)} to {seconds(predicted.high)})", "why": why}


@pages.post("/queue/hold")
def hold_all() -> ResponseReturnValue:
    """Pause the whole queue, or resume with ?off."""
    jobs.hold_all(db(), "off" not in request.args)
    return render_template("queue.html", **queue_values())


@pages.post("/proofs/<int:proof_id>/queue")
def change(proof_id: int) -> ResponseReturnValue:
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
