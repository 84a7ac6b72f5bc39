"""Requests about flaws: the diagnosis of a proof, and the retest of a remedy's proof. Their pictures are stored as PNG."""

import sqlite3
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from ..core.diagnose.case import Case, as_filtered
from ..core.diagnose.diagnosis import Diagnosis, diagnose
from ..core.diagnose.finding import Finding, cleared
from ..core.diagnose.retesting import Side, retest_on
from ..core.diagnose.trial_renderer import TrialRenderer
from ..core.errors import InputError
from ..core.finish.view import to_bytes, to_display
from ..core.pictures.exr import read_exr
from ..core.render.passes import on_screen
from ..core.scene.model import Camera
from ..core.task import Task
from ..store import files, findings, jobs, proofs, shots
from .filtering import kept_filtered
from .request import Request

SMALL, LARGE = 60, 200
"""Least side of small pictures in pixels, enlarged in whole steps; and the largest of a loupe cut."""
RETEST_SECONDS = 2.0


def diagnose_proof(request: Request) -> dict[str, Any]:
    """Diagnose a proof, part by part, and store the result."""
    worker, db, body = request.worker, request.db, request.body
    proof = proofs.get(db, body["proof"])
    if proof is None or proof.picture is None:
        raise InputError("This proof has no picture to diagnose; wait until it is done, or choose another.")
    shot = shots.get(db, proof.shot_id)
    case = case_of_proof(worker.data, db, shot, proof, filtered=bool(body.get("filtered")))
    renderer = None if shot.outside else renderer_of(request, shot, proof)
    if renderer is not None and proof.made_on:
        case.seconds = case.pixel_seconds = None  # from another machine: they predict nothing here
    exposure, camera = case.exposure, None if renderer is None else renderer.base().camera
    if renderer is not None:
        renderer.task = request.task(
            lambda what, share, found: {
                "what": what, "share": share, "findings": [shown(worker.data, case, f, exposure, camera) for f in found]
            }
        )  # fmt: skip
    made = diagnose(case, renderer, seconds=float(body.get("seconds") or 20.0))
    return keep(worker.data, db, proof.id, case, made, exposure, camera)


def keep(data: Path, db: sqlite3.Connection, proof_id: int, case: Case, made: Diagnosis, exposure: float, camera: Camera | None) -> dict[str, Any]:
    """Store a diagnosis with its pictures; returns it as JSON."""
    found = [shown(data, case, f, exposure, camera) for f in made.findings]
    withdrawn = [shown(data, case, f, exposure, camera) for f in made.withdrawn]
    answer = {**cleared({**made.as_dict(), "findings": [], "withdrawn": []}), "findings": found, "withdrawn": withdrawn}
    findings.keep(db, proof_id, answer)
    return answer


def case_of_proof(data: Path, db: sqlite3.Connection, shot: shots.Shot, proof: proofs.Proof, filtered: bool = False) -> Case:
    """A proof with its measurements, or its filtered version, as the case of a diagnosis."""
    assert proof.picture is not None
    picture, job = read_exr(files.picture_path(data, proof.picture)), jobs.of_proof(db, proof.id)
    exposure = shot.exposure(proof.camera, proof.edits)
    path, kept = files.filtered_path(data, proof.picture), dict[str, Any]()
    if filtered or path.is_file():
        kept = kept_filtered(data, proof.picture)
    image, smear, error = (kept[name].astype(np.float32) if name in kept else None for name in ("image", "smear", "error"))
    pixel_seconds = job.pixel_seconds if job is not None and job.pixel_seconds > 0.0 else proof.seconds
    # Pictures that ship without passes were still made by the proof's own recipe.
    recipe, edits = (None, None) if shot.outside else (proof.recipe, proof.edits)
    case = Case(
        picture, exposure, recipe, edits, proof.lights, proof.meters, proof.maps, proof.seconds, pixel_seconds, filtered=image, smear=smear
    )  # fmt: skip
    return as_filtered(case, image, smear, error) if filtered and image is not None else case


def renderer_of(request: Request, shot: shots.Shot, proof: proofs.Proof) -> TrialRenderer:
    """The renderer for trials of a proof."""
    worker = request.worker
    scene, beside, geometry = worker.scene_of(request.db, shot, proof.frame.time)
    return TrialRenderer(
        scene,
        proof.recipe,
        proof.edits,
        proof.camera,
        proof.frame,
        caches=worker.caches,
        files=beside,
        geometry=geometry,
        task=Task(cancel=request.cancel, elsewhere=worker.helpers.elsewhere),
    )


def shown(data: Path, case: Case, finding: Finding, exposure: float, camera: Camera | None) -> dict[str, Any]:
    """A finding for the page: its small pictures stored by name, and its light's path in pixels of the frame."""
    if "loupe" not in finding.pictures:
        finding.pictures["loupe"] = loupe(case, finding)
    finding.pictures = {
        name: kept_small(data, image, exposure) if isinstance(image, np.ndarray) else image for name, image in finding.pictures.items()
    }
    for trial in finding.trials:
        if isinstance(trial.picture, np.ndarray):
            trial.picture = kept_small(data, trial.picture, exposure)
    answer = cleared(finding.as_dict())
    frame = case.picture.frame
    if finding.path and camera is not None:
        answer["drawn"] = np.round(on_screen(np.array(finding.path, float), camera, (frame.width, frame.height)), 1).tolist()
    return answer


def loupe(case: Case, finding: Finding) -> np.ndarray:
    """The picture around a finding's worst pixel, as linear colour."""
    rows, columns = case.light.shape
    left, top = case.picture.frame.window[:2]
    x0, y0, x1, y1 = finding.box[0] - left, finding.box[1] - top, finding.box[2] - left, finding.box[3] - top
    side = min(LARGE, max(96, int(1.3 * max(x1 - x0, y1 - y0))), rows, columns)
    cx, cy = (x0 + x1) // 2, (y0 + y1) // 2
    if finding.mask is not None and side < max(x1 - x0, y1 - y0):  # a part of it, where it is dense
        cell = case.grid.step
        near = np.argwhere(finding.mask)
        middle = near[np.linalg.norm(near - np.median(near, axis=0), axis=1).argmin()]
        cy, cx = int((middle[0] + 0.5) * cell) - top, int((middle[1] + 0.5) * cell) - left
    x, y = min(max(0, cx - side // 2), columns - side), min(max(0, cy - side // 2), rows - side)
    return case.picture.beauty[y : y + side, x : x + side, :3]


def kept_small(data: Path, linear: np.ndarray, exposure: float) -> str:
    """Store linear colour as a PNG at an exposure, enlarged if small; returns its name."""
    pixels = to_bytes(to_display(np.asarray(linear, np.float32), exposure))
    times = max(1, SMALL * 2 // max(pixels.shape[:2]))
    image = Image.fromarray(np.repeat(np.repeat(pixels, times, axis=0), times, axis=1))
    return files.keep(files.trials(data), ".png", lambda path: image.save(path, format="PNG"))


def retest_proof(request: Request) -> dict[str, Any]:
    """Measure a remedy's finding again on its proof, and store the result."""
    worker, db, number = request.worker, request.db, request.body["proof"]
    proof = proofs.get(db, number)
    waiting = [r for r in findings.retests_of_proof(db, number) if r.result is None]
    if proof is None or proof.picture is None or not waiting:
        return {"retests": []}
    shot, answer = shots.get(db, proof.shot_id), []
    renderer = renderer_of(request, shot, proof)
    for waits in waiting:
        kept = findings.get(db, waits.finding_id)
        if kept is None:
            continue
        finding, parent = kept.body, None
        filtered = bool(finding.get("evidence", {}).get("filtered"))
        if finding["measure"] == "smear":
            kept_filtered(worker.data, proof.picture)
        child = Side(case_of_proof(worker.data, db, shot, proof, filtered), renderer)
        before = proofs.get(db, kept.proof_id)
        if before is not None and before.picture is not None:
            parent = Side(case_of_proof(worker.data, db, shot, before, filtered), renderer_of(request, shot, before))
        result = cleared(retest_on(finding, waits.remedy, child, parent, RETEST_SECONDS).as_dict())
        findings.keep_result(db, waits.id, result)
        answer.append(result)
    return {"retests": answer}
