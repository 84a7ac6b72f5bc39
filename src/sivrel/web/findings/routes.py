"""Findings: flaws of a proof, causes, remedies and retests; as a panel beside the recipe, and as a printable report."""

import csv
import io
import re
from dataclasses import replace
from typing import Any

from flask import Blueprint, Response, abort, jsonify, render_template, request, send_file
from flask.typing import ResponseReturnValue

from ...core.edits.edits import apart, with_edits
from ...core.errors import InputError
from ...core.render.frame import Frame
from ...core.render.recipe import with_values
from ...store import files, findings, jobs, proofs, requests, shots
from ...store.database import transaction
from ..asked import proof_or_404, scene_or_refuse
from ..database import data, db
from ..numbers import finite_number, whole_number
from ..words import changes

pages = Blueprint("findings", __name__, template_folder="templates")
LEAST_SECONDS, MOST_SECONDS = 4.0, 600.0
NAME = re.compile(r"[0-9a-f]{64}")


@pages.post("/proofs/<int:proof_id>/diagnose")
def diagnose(proof_id: int) -> ResponseReturnValue:
    """Diagnose a proof, or with `filtered` its filtered version; trials may take `seconds` in total. The answer comes in parts at
    /questions/N.json."""
    proof = proof_or_404(proof_id)
    if proof.picture is None:
        raise InputError("This proof has no picture yet; wait until it is done.")
    seconds = request.form.get("seconds", 20.0, type=finite_number)
    if not LEAST_SECONDS <= seconds <= MOST_SECONDS:
        raise InputError(f"Trials take from {LEAST_SECONDS:g} to {MOST_SECONDS:g} seconds; give a time between them.")
    asked = {"proof": proof_id, "seconds": seconds, "filtered": "filtered" in request.form}
    return jsonify(question=requests.ask(db(), "diagnose", proof.shot_id, asked))


@pages.get("/proofs/<int:proof_id>/findings.json")
def of_proof(proof_id: int) -> ResponseReturnValue:
    """A proof's findings, worst first; dismissed ones; and, if it is a remedy's proof, the retest."""
    proof = proof_or_404(proof_id)
    about, listed = diagnosis_of(proof)
    return jsonify(diagnosed=about is not None, about=about, findings=listed, retests=retests_of(proof))


def diagnosis_of(proof: proofs.Proof) -> tuple[dict[str, Any] | None, list[dict[str, Any]]]:
    """A proof's diagnosis, and its findings with numbers, reasons of dismissal, and retests."""
    about, kept = findings.of_proof(db(), proof.id)
    dismissed = findings.dismissed(db(), proof.shot_id)
    listed = [
        {
            **one.body,
            "id": one.id,
            "share_of_region": round(share_of(region_about(one.body["box"], proof.frame), proof.frame), 4) if "box" in one.body else 1.0,
            "dismissed": dismissed.get(one.key, ""),
            "retests": [{"proof": r.proof_id, "remedy": r.remedy, "result": r.result} for r in findings.retests_of_finding(db(), one.id)],
        }
        for one in kept
        if not one.problem
    ]
    if about is not None:
        about = {**about, "unreadable": list(dict.fromkeys(one.problem for one in kept if one.problem))}
    return about, sorted(listed, key=lambda one: bool(one["dismissed"]))


def retests_of(proof: proofs.Proof) -> list[dict[str, Any]]:
    retests = []
    for waits in findings.retests_of_proof(db(), proof.id):
        kept = findings.get(db(), waits.finding_id)
        if kept is not None and not kept.problem:
            retests.append({"finding": kept.body["title"], "of": kept.proof_id, "remedy": waits.remedy, "result": waits.result})
    return retests


def _finding_or_404(finding_id: int) -> tuple[findings.StoredFinding, proofs.Proof]:
    kept = findings.get(db(), finding_id)
    if kept is None or kept.problem:
        abort(404)
    return kept, proof_or_404(kept.proof_id)


@pages.post("/findings/<int:finding_id>/dismiss")
def dismiss(finding_id: int) -> ResponseReturnValue:
    """Dismiss a finding for its `reason`, in all proofs of the shot; without a reason, undo that."""
    kept, proof = _finding_or_404(finding_id)
    findings.dismiss(db(), proof.shot_id, kept.key, request.form.get("reason", "").strip())
    return "", 204


@pages.post("/findings/<int:finding_id>/prove")
def prove(finding_id: int) -> ResponseReturnValue:
    """Render a remedy (`remedy`: its number in the list) as a child of its proof, with `region` only about the finding; it is measured again
    on it."""
    kept, proof = _finding_or_404(finding_id)
    scene_or_refuse(shots.get(db(), proof.shot_id))
    remedies, number = kept.body["remedies"], request.form.get("remedy", 0, type=whole_number)
    if not 0 <= number < len(remedies):
        raise InputError("This remedy is no longer offered; reload the page.")
    remedy = remedies[number]
    values, edits = remedy["values"], remedy["edits"]
    if not (values or edits):
        raise InputError("This is done without a render; there is nothing to prove.")
    recipe = with_values(proof.recipe, apart(values)[0])
    laid = with_edits(proof.edits, edits)
    frame, guess = proof.frame, remedy["seconds"]
    if "region" in request.form:
        region = region_about(kept.body["box"], proof.frame)
        if guess is not None:
            guess *= share_of(region, proof.frame)
        frame = replace(frame, region=region)
    with transaction(db()):
        child = jobs.add_proof(db(), proof.shot_id, proof.id, recipe, proof.camera, frame, edits=laid, note=remedy["words"], guess=guess)
        findings.add_retest(db(), finding_id, child, remedy)
    return jsonify(proof=child)


def region_about(box: list[int], frame: Frame) -> tuple[int, int, int, int]:
    """A part of a frame's window with a finding's box and half of its size about it, at least an eighth of the frame across and down: what
    is beside a flaw shows whether a remedy does harm."""
    x0, y0, x1, y1 = frame.window
    spans = []
    for low, high, first, last, whole in ((box[0], box[2], x0, x1, frame.width), (box[1], box[3], y0, y1, frame.height)):
        half = max((high - low) * 0.75, whole / 16.0)
        middle = (low + high) / 2.0
        spans.append((max(first, int(middle - half)), min(last, int(middle + half) + 1)))
    return spans[0][0], spans[1][0], spans[0][1], spans[1][1]


def share_of(region: tuple[int, int, int, int], frame: Frame) -> float:
    """A region's share of the pixels of a frame's window."""
    return replace(frame, region=region).pixels / frame.pixels


@pages.get("/trials/<name>.png")
def small(name: str) -> ResponseReturnValue:
    """A small picture of a finding or a trial."""
    path = files.trial_path(data(), name)
    if not NAME.fullmatch(name) or not path.is_file():
        abort(404)
    response = send_file(path.absolute(), mimetype="image/png")
    response.headers["Cache-Control"] = "private, max-age=31536000, immutable"
    return response


@pages.get("/proofs/<int:proof_id>/report")
def report(proof_id: int) -> ResponseReturnValue:
    """All findings of a proof on one printable page, over the picture that they were found in."""
    proof = proof_or_404(proof_id)
    if proof.picture is None:
        raise InputError("This proof has no picture yet; wait until it is done.")
    shot = shots.get(db(), proof.shot_id)
    about, listed = diagnosis_of(proof)
    parent = proofs.get(db(), proof.parent_id) if proof.parent_id else None
    exposure = shot.exposure(proof.camera, proof.edits)
    return render_template(
        "report.html",
        shot=shot,
        proof=proof,
        about=about,
        findings=listed,
        retests=retests_of(proof),
        exposure=exposure,
        filtered=bool(about and about.get("filtered")) and files.filtered_path(data(), proof.picture).is_file(),
        changed=changes(parent, proof) if parent else [],
        record=record(),
        outlines=[outline(one) for one in listed],
    )


def record() -> dict[str, Any]:
    """Statistics of all proven remedies: how many, how many worked, and the median error of predictions."""
    kept = [r for r in findings.record(db()) if r.result]
    worked = sum(r.result["verdict"] in ("gone", "smaller") for r in kept if r.result)
    off = sorted(
        abs(r.result["seconds"] - r.result["predicted_seconds"]) / r.result["seconds"]
        for r in kept
        if r.result and r.result.get("seconds") and r.result.get("predicted_seconds")
    )
    return {"proven": len(kept), "worked": worked, "time_off": off[len(off) // 2] if off else None}


def outline(finding: dict[str, Any]) -> str:
    """The outline of a finding as an SVG path, in cells."""
    runs = finding.get("mask")
    if not runs:
        return ""
    from ...core.diagnose.finding import mask_of

    mask, path = mask_of(runs), []
    for y in range(mask.shape[0]):
        for x in range(mask.shape[1]):
            if not mask[y, x]:
                continue
            if y == 0 or not mask[y - 1, x]:
                path.append(f"M{x} {y}h1")
            if y == mask.shape[0] - 1 or not mask[y + 1, x]:
                path.append(f"M{x} {y + 1}h1")
            if x == 0 or not mask[y, x - 1]:
                path.append(f"M{x} {y}v1")
            if x == mask.shape[1] - 1 or not mask[y, x + 1]:
                path.append(f"M{x + 1} {y}v1")
    return "".join(path)


@pages.get("/shots/<slug>/predictions.csv")
def predictions(slug: str) -> ResponseReturnValue:
    """Every proven prediction of a shot, with its result."""
    shot = shots.find(db(), slug)
    if shot is None:
        abort(404)
    of_shot = {number for number, owner in proofs.shots_of(db()).items() if owner == shot.id}
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    rows.writerow(
        ["finding", "remedy", "proof", "verdict", "amount before", "amount predicted", "amount after", "seconds predicted", "seconds"]
    )  # fmt: skip
    for one in findings.record(db()):
        kept = findings.get(db(), one.finding_id)
        if one.proof_id not in of_shot or kept is None or one.result is None:
            continue
        r = one.result
        row = [
            kept.body["title"],
            one.remedy["words"],
            one.proof_id,
            r["verdict"],
            r["before"],
            r["predicted"],
            r["after"],
            r["predicted_seconds"],
            r["seconds"],
        ]
        rows.writerow([f"{value:.6g}" if isinstance(value, float) else value for value in row])
    return Response(out.getvalue(), mimetype="text/csv")
