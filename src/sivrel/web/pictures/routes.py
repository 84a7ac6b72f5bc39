"""Pictures as the browser needs them: linear half floats, PNG, EXR, the look-up table of a view."""

import io
from pathlib import Path
from typing import Any

import numpy as np
from flask import Blueprint, Response, abort, request, send_file
from flask.typing import ResponseReturnValue
from PIL import Image
from werkzeug.utils import secure_filename

from ...core.errors import InputError
from ...core.finish.finishing import Finish, finish_from, finished, measured_exposure, white_balance
from ...core.finish.saved import KINDS, encoded, kind_of
from ...core.finish.view import LUT_SIZE, LUT_STOPS, MIDDLE, VIEWS, lookup_table, to_bytes
from ...core.measure.difference import compare
from ...core.measure.verdict import judge
from ...core.pictures.exr import Picture, read_exr
from ...core.render.filter import SMEARED
from ...store import files, proofs, requests, shots
from ..asked import proof_or_404, scene_or_refuse
from ..database import data, db
from ..numbers import finite_number
from ..words import percent

pages = Blueprint("pictures", __name__)
LUT = {"size": LUT_SIZE, "stops": LUT_STOPS, "middle": MIDDLE}
"""Layout of a view's look-up table, for the page that draws with it."""
MATTES = ("object", "surface")
FOREVER = "private, max-age=31536000, immutable"
FILTERED = {"filtered": "image", "smeared": "smear", "filter_error": "error"}
"""Passes of the noise filter, and their names in its file."""
IN_MOTION = ("in_time", "flicker", "flicker_in_time")
"""Of frames of a sequence: filtered through time; and how their flicker is seen, as they are and filtered so."""


def _picture(digest: str, only: tuple[str, ...] | None = None) -> Picture:
    """A stored picture, or only its beauty and some passes."""
    if not proofs.has_picture(db(), digest):
        abort(404)
    return read_exr(files.picture_path(data(), digest), only)


def _number(name: str) -> float:
    try:
        return min(max(finite_number(request.args.get(name, "0")), -20.0), 20.0)
    except ValueError:
        raise InputError(f"The {name} in the address is not a number; use one from -20 to 20.") from None


def _tones_of(numbers: np.ndarray) -> np.ndarray:
    """A tone for every object, with neighbouring numbers far apart; numbers are integers [rows, columns], -1 is black."""
    steps = np.mod(np.maximum(numbers, 0.0)[..., None] * np.array([0.618034, 0.381966, 0.236068]), 1.0)
    return np.where(numbers[..., None] >= 0.0, 0.05 + 0.6 * steps, 0.0).astype(np.float32)


def shown_pass(name: str, plane: np.ndarray) -> np.ndarray:
    """A pass for display: numbers as distinct tones, and passes without a natural scale normalised."""
    if name == "texels":
        return np.minimum(plane, files.LARGEST_HALF)
    if name == "beyond":
        return plane.sum(axis=2, keepdims=True)
    if name == "samples":
        return plane / max(float(plane.max()), 1.0)  # white where most samples were taken
    if name in ("object", "surface"):
        return _tones_of(plane[..., 0])
    if name == "position":
        return np.mod(plane, 1.0)  # a metre from black to white, along each axis
    if name == "motion":
        return np.concatenate([plane / 32.0 + 0.5, np.full_like(plane[..., :1], 0.5)], axis=2)
    if name.startswith("noise."):
        return np.sqrt(np.maximum(plane, 0.0))  # a standard error, in the unit of light
    return plane


def _filtered(digest: str) -> Any:
    path = files.filtered_path(data(), digest)
    if not path.is_file():
        abort(404)
    return np.load(path)


@pages.get("/pictures/<digest:digest>.half")
def half(digest: str) -> ResponseReturnValue:
    """The pixels of a pass (?pass=direct; default beauty), row by row from the top."""
    name = request.args.get("pass", "beauty")
    if name in IN_MOTION:
        return _of_motion(digest, name)
    if name in FILTERED:
        if not proofs.has_picture(db(), digest):
            abort(404)
        kept = _filtered(digest)
        if FILTERED[name] not in kept:
            abort(404)
        plane = kept[FILTERED[name]].astype(np.float32)
        if name == "smeared":
            plane = np.clip(plane / (2.0 * SMEARED), 0.0, 1.0)
        plane = plane if plane.ndim == 3 else plane[..., None]
    else:
        found = _picture(digest, (name,)).passes.get(name)
        if found is None:
            abort(404)
        plane = shown_pass(name, found)
    if plane.shape[2] < 3:
        plane = np.repeat(plane[..., :1], 3, axis=2)
    return Response(files.halves(plane), mimetype="application/octet-stream", headers={"Cache-Control": FOREVER})


def _of_motion(digest: str, name: str) -> ResponseReturnValue:
    """A frame filtered through time, or the map of its flicker in tones."""
    if not proofs.has_picture(db(), digest):
        abort(404)
    flicker = name.startswith("flicker")
    path = files.flicker_path(data(), f"{digest}{'-in-time' if name.endswith('in_time') else ''}") if flicker else files.in_time_path(data(), digest)
    if not path.is_file():
        abort(404)
    plane = flicker_tones(np.load(path)) if flicker else np.load(path)["image"].astype(np.float32)
    return Response(files.halves(plane), mimetype="application/octet-stream", headers={"Cache-Control": "no-store"})


def flicker_tones(seen: np.ndarray) -> np.ndarray:
    """A map of flicker [rows, columns] as linear colour: grey up to what is just seen, then amber at ten times that, and pale at a hundred times."""
    seen = seen.astype(np.float32)[..., None]
    over = np.clip(np.log10(np.maximum(seen, 1.0)), 0.0, 2.0)
    grey, amber, pale = (np.array(tone, np.float32) for tone in (3 * (MIDDLE,), (0.8, 0.3, 0.02), (1.0, 0.95, 0.8)))
    coloured = np.where(over < 1.0, grey + (amber - grey) * over, amber + (pale - amber) * (over - 1.0))
    return np.where(seen < 1.0, MIDDLE * seen, coloured)


@pages.get("/pictures/<digest:digest>.png")
def png(digest: str) -> ResponseReturnValue:
    """The beauty, or its filtered version, finished by the query: ?exposure=&contrast=… and ?view=."""
    values = {name: value for name, value in request.args.items() if name in Finish.model_fields}
    settings, beauty = finish_from(values), _picture(digest, ()).beauty
    linear = _filtered(digest)["image"] if request.args.get("pass") == "filtered" else beauty
    buffer = io.BytesIO()
    Image.fromarray(to_bytes(finished(linear, settings))).save(buffer, "PNG")
    headers = {"Cache-Control": FOREVER}
    if "download" in request.args:
        headers["Content-Disposition"] = f'attachment; filename="{digest[:12]}.png"'
    return Response(buffer.getvalue(), mimetype="image/png", headers=headers)


@pages.get("/proofs/<int:proof_id>/picture.<kind>")
def saved(proof_id: int, kind: str) -> ResponseReturnValue:
    """A proof's picture as a file named after its shot and itself: PNG, JPEG or TIFF finished by the query, or the EXR with its passes.
    ?pass=filtered, or for an EXR ?filtered, is without grain, once that was requested."""
    proof = proof_or_404(proof_id)
    if proof.picture is None:
        raise InputError("This proof has no picture yet; wait until it is done.")
    shot = shots.get(db(), proof.shot_id)
    filtered = request.args.get("pass") == "filtered" or "filtered" in request.args
    words = [shot.slug if shot else "shot", f"proof-{proof.id}", *([proof.name] if proof.name else []), *(["filtered"] if filtered else [])]
    name = secure_filename(f"{'-'.join(words)}.{kind}")
    if kind == "exr":
        path = (files.filtered_exr_path if filtered else files.picture_path)(data(), proof.picture)
        if not path.is_file():
            abort(404)
        return send_file(path.absolute(), mimetype="image/x-exr", as_attachment=True, download_name=name)
    settings = finish_from({name: value for name, value in request.args.items() if name in Finish.model_fields})
    linear = _filtered(proof.picture)["image"] if filtered else _picture(proof.picture, ()).beauty
    body = encoded(finished(linear, settings), kind_of(kind))
    return Response(body, mimetype=KINDS[kind_of(kind)], headers={"Content-Disposition": f'attachment; filename="{name}"'})


@pages.post("/proofs/<int:proof_id>/mattes")
def make_mattes(proof_id: int) -> ResponseReturnValue:
    """Request mattes of a proof by `by`, object or surface; the answer comes at /questions/N.json, the file at /proofs/N/mattes-BY.exr."""
    proof, by = proof_or_404(proof_id), request.form.get("by", "object")
    if by not in MATTES:
        raise InputError(f"There are no mattes by “{by}”; choose object or surface.")
    if proof.picture is None:
        raise InputError("This proof has no picture yet; wait until it is done.")
    scene_or_refuse(shots.get(db(), proof.shot_id))
    return {"question": requests.ask(db(), "mattes", proof.shot_id, {"proof": proof.id, "by": by})}


@pages.get("/proofs/<int:proof_id>/mattes-<by>.exr")
def taken_mattes(proof_id: int, by: str) -> ResponseReturnValue:
    proof = proof_or_404(proof_id)
    path = files.mattes_path(data(), proof.picture or "", by)
    if by not in MATTES or proof.picture is None or not path.is_file():
        abort(404)
    shot = shots.get(db(), proof.shot_id)
    name = secure_filename(f"{shot.slug}-proof-{proof.id}-mattes-{by}.exr")
    return send_file(path.absolute(), mimetype="image/x-exr", as_attachment=True, download_name=name)


@pages.get("/pictures/<digest:digest>/exposure.json")
def exposure(digest: str) -> ResponseReturnValue:
    """A picture's automatic exposure, in stops."""
    return {"exposure": measured_exposure(_picture(digest, ()).beauty)}


@pages.get("/white.json")
def white() -> ResponseReturnValue:
    """The 3 x 3 matrix of a white balance (?temperature=&tint=), row by row."""
    settings = finish_from({name: request.args[name] for name in ("temperature", "tint") if name in request.args})
    return {"matrix": white_balance(settings.temperature, settings.tint).reshape(-1).tolist()}


@pages.post("/shots/<slug>/finish")
def finish(slug: str) -> ResponseReturnValue:
    """Store the finishing settings of a shot."""
    shot = shots.find(db(), slug)
    if shot is None:
        abort(404)
    settings = finish_from({name: value for name, value in request.form.items() if name in Finish.model_fields})
    shots.set_finish(db(), shot, settings.model_dump(exclude={"exposure"}))
    return "", 204


@pages.post("/proofs/<int:proof_id>/filter")
def filter_proof(proof_id: int) -> ResponseReturnValue:
    """Request the filtered picture of a proof, with `exr` also as a file with its passes; the answer comes at /questions/N.json, the picture as its
    pass “filtered”."""
    proof = proofs.get(db(), proof_id)
    if proof is None or proof.picture is None:
        abort(404)
    return {"question": requests.ask(db(), "filter", proof.shot_id, {"picture": proof.picture, "exr": "exr" in request.form})}


@pages.get("/pictures/<digest:digest>.exr")
def exr(digest: str) -> ResponseReturnValue:
    """A picture with its passes as EXR; with ?filtered, once that was requested, also its passes without grain."""
    if not proofs.has_picture(db(), digest):
        abort(404)
    filtered = "filtered" in request.args
    path = (files.filtered_exr_path if filtered else files.picture_path)(data(), digest)
    if not path.is_file():
        abort(404)
    name = f"{digest[:12]}{'-filtered' if filtered else ''}.exr"
    return send_file(path.absolute(), mimetype="image/x-exr", as_attachment=True, download_name=name)


@pages.get("/thumbnails/<digest:digest>.png")
def thumbnail(digest: str) -> ResponseReturnValue:
    return _small(digest, files.thumbnail_path(data(), digest))


@pages.get("/thumbnails/focus/<digest:digest>.png")
def focus(digest: str) -> ResponseReturnValue:
    """A small crop of the largest change against a picture's parent; the whole picture if there is none."""
    path = files.focus_path(data(), digest)
    return _small(digest, path if path.is_file() else files.thumbnail_path(data(), digest))


def _small(digest: str, path: Path) -> ResponseReturnValue:
    if not proofs.has_picture(db(), digest) or not path.is_file():
        abort(404)
    response = send_file(path.absolute(), mimetype="image/png")
    response.headers["Cache-Control"] = FOREVER
    return response


@pages.get("/views/<view>.lut")
def lut(view: str) -> ResponseReturnValue:
    if view not in VIEWS:
        abort(404)
    return Response(lookup_table(view).tobytes(), mimetype="application/octet-stream", headers={"Cache-Control": FOREVER})


@pages.get("/pictures/<a>/<b>/difference.json")
def difference(a: str, b: str) -> ResponseReturnValue:
    """B against A at ?exposure= stops: numbers, and the visible difference in words."""
    before, after, exposure = _picture(a), _picture(b), _number("exposure")
    verdict = judge(before, after, exposure)
    comparison = compare(before, after, exposure, verdict.visible)
    part = verdict.window != before.frame.window or verdict.window != after.frame.window
    sentence = ("In the common part: " if part else "") + verdict.sentence
    if comparison.noise_between is not None:
        sentence += f" From the difference of these two seeds, the noise of each is {percent(comparison.noise_between)}."
    return {**comparison.as_dict(), "verdict": sentence, "places": [place.as_dict() for place in verdict.places], "share": verdict.share}


@pages.get("/pictures/<a>/<b>/visible.half")
def visible(a: str, b: str) -> ResponseReturnValue:
    """The visible difference of B against A as a picture of B's pixels, white where it is largest, at ?exposure= stops."""
    before, after = _picture(a), _picture(b)
    verdict = judge(before, after, _number("exposure"))
    # The verdict has the pixels of the coarser picture.
    left, top, right, bottom = after.frame.window
    scale = min(1.0, before.frame.width / after.frame.width)
    x0, y0, x1, y1 = verdict.window
    across, down = (((np.arange(low, high) + 0.5) * scale).astype(int) for low, high in ((left, right), (top, bottom)))
    inside = np.ix_((down >= y0) & (down < y1), (across >= x0) & (across < x1))
    shown = np.zeros(after.beauty.shape[:2], np.float32)
    shown[inside] = verdict.shown[np.ix_(down[(down >= y0) & (down < y1)] - y0, across[(across >= x0) & (across < x1)] - x0)]
    return Response(files.halves(np.repeat(shown[..., None], 3, axis=2)), mimetype="application/octet-stream")
