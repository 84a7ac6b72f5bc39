"""The bench: lineage, plate and recipe of a shot; prove, watch, cancel, compare."""

import functools
import json
import logging
import sqlite3
import struct
from typing import Any, Literal

from flask import Blueprint, Response, abort, jsonify, make_response, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue
from jinja2.utils import htmlsafe_json_dumps
from markupsafe import Markup

from ...core.edits.edits import Edits, with_edits
from ...core.edits.edits import difference as edits_difference
from ...core.finish.finishing import SETTINGS
from ...core.finish.view import VIEWS
from ...core.gi.ways import BEYOND, PREPARING, SEEN
from ...core.measure.ledger import NOT_LIGHTS, noise_of_region
from ...core.pictures.exr import read_exr
from ...core.render.film import film_beauty
from ...core.render.frame import Frame
from ...core.render.recipe import QUESTIONS, Recipe, difference, settings, with_values
from ...core.render.starting import STARTING
from ...core.settings import SettingInfo
from ...store import files, jobs, machines, proofs, recipes, shots
from ...store.database import transaction
from ...work.room import has_room
from ..asked import cameras_of, form_values, frame_of, made_as_asked, proof_or_404, region_of, shot_or_404
from ..database import data, db
from ..lineage.routes import Window, flaws, lineage_values
from ..numbers import whole_number
from ..pictures.routes import LUT
from ..queue.routes import seconds_left
from ..words import meters_in_words, noise_of
from .explain import explanation

pages = Blueprint("bench", __name__, template_folder="templates")
TILES_AT_ONCE = 96
log = logging.getLogger(__name__)
WAYS = {"gi.seen": SEEN, "gi.beyond": BEYOND}


def _chosen(shot: shots.Shot, name: str) -> proofs.Proof | None:
    """The proof of a shot that the address names."""
    proof = proofs.get(db(), request.args.get(name, 0, type=whole_number))
    return proof if proof is not None and proof.shot_id == shot.id else None


@pages.get("/shots/<slug>")
def page(slug: str) -> ResponseReturnValue:
    """The bench. ?proof= is on the plate, ?with= is compared with it."""
    shot = shot_or_404(slug)
    try:
        shots.opened(db(), shot)
    except sqlite3.OperationalError:  # a full disk: the page works without it
        log.warning("%s could not be marked as open.", slug, exc_info=True)
    proof = _chosen(shot, "proof") or proofs.newest(db(), shot.id)
    shown = lineage_values(shot, window=Window(around=proof.id if proof else 0))
    return render_template(
        "bench.html", **shown, proof=proof, other=_chosen(shot, "with"), views=VIEWS,
        lut=LUT, finishing=SETTINGS,
        flaws=flaws(), **_recipe_values(shot, proof),
    )  # fmt: skip


@pages.get("/shots/<slug>/recipe")
def recipe_part(slug: str) -> ResponseReturnValue:
    """The recipe of ?proof= as sentences, to change and prove again."""
    shot = shot_or_404(slug)
    proof = proofs.get(db(), request.args.get("proof", 0, type=whole_number))
    return render_template("recipe.html", shot=shot, **_recipe_values(shot, proof if proof and proof.shot_id == shot.id else None))


@functools.cache
def questions() -> list[tuple[str, str, list[tuple[str, SettingInfo, Markup, str, str]]]]:
    """The form's questions: (group, question, its settings), each setting with its key, its declaration, what it needs as JSON, and
    the sentence before and after its control."""
    asked: dict[str, list[tuple[str, SettingInfo, Markup, str, str]]] = {group: [] for group in QUESTIONS}
    for key, info in settings().items():
        before, after = info.phrase.split("{}")
        asked[key.split(".")[0]].append((key, info, htmlsafe_json_dumps(info.needs), before, after))
    return [(group, question, asked[group]) for group, question in QUESTIONS.items()]


def _recipe_values(shot: shots.Shot, proof: proofs.Proof | None) -> dict[str, Any]:
    recipe = proof.recipe if proof else recipes.default(db(), len(shot.lights))
    frame = proof.frame if proof else Frame()
    form = {
        **form_values(recipe),
        "camera": proof.camera if proof else shot.cameras[0]["name"],
        "width": str(frame.width),
        "height": str(frame.height),
        "region": ",".join(map(str, frame.region)) if frame.region else "",
        "seed": str(frame.seed),
        "time": "" if frame.time is None else f"{frame.time:g}",
    }
    edits = json.dumps(proof.edits.flat() if proof else {})
    return {
        "parent": proof, "form": form, "edits": edits, "questions": questions(), "ways": WAYS, "preparing": list(PREPARING),
        "cameras": list(dict.fromkeys([*cameras_of(shot), form["camera"]])), "named": recipes.listed(db()), "starting": STARTING,
    }  # fmt: skip


def one_by_one(parent: proofs.Proof, recipe: Recipe, edits: Edits, camera: str, frame: Frame) -> list[tuple[Recipe, Edits, str, Frame]]:
    """The steps from a proof to the wanted state, one change at a time, each including those before it: settings in order, then edits,
    then camera and frame."""
    steps, at = [], (parent.recipe, parent.edits, parent.camera, parent.frame)
    for key, _, value in difference(parent.recipe, recipe):
        at = (with_values(at[0], {key: value}), *at[1:])
        steps.append(at)
    moved = {key: value for key, _, value in edits_difference(parent.edits, edits)}
    cameras = {key: moved.pop(key) for key in list(moved) if key.startswith("camera.")}
    for values in [{key: value} for key, value in moved.items()]:
        at = (at[0], with_edits(at[1], values), *at[2:])
        steps.append(at)
    if cameras:
        at = (at[0], with_edits(at[1], cameras), *at[2:])
    if cameras or (camera, frame) != (parent.camera, parent.frame):
        steps.append((recipe, edits, camera, frame))
    return steps or [(recipe, edits, camera, frame)]


@pages.post("/shots/<slug>/prove")
def prove(slug: str) -> ResponseReturnValue:
    """Render the form as a child of `parent`; with `one_by_one`, each change by itself in turn."""
    shot = shot_or_404(slug)
    form = request.form
    parent = proofs.get(db(), form.get("parent", 0, type=whole_number))
    if parent is not None and parent.shot_id != shot.id:
        parent = None
    recipe, edits, camera = made_as_asked(shot, form)
    steps = [(recipe, edits, camera, frame_of(form))]
    if "one_by_one" in form and parent is not None:
        steps = one_by_one(parent, *steps[0])
    number = parent.id if parent else None
    with transaction(db()):
        for step_recipe, step_edits, step_camera, frame in steps:
            gives_way = "gives_way" in form
            number = jobs.add_proof(db(), shot.id, number, step_recipe, step_camera, frame, edits=step_edits, gives_way=gives_way)
    assert number is not None
    if not request.headers.get("HX-Request"):
        return redirect(url_for("bench.page", slug=slug, proof=number))
    response = make_response(render_template("lineage.html", **lineage_values(shot, window=Window(around=number))))
    response.headers["HX-Trigger-After-Settle"] = f'{{"sivrel:started": {{"proof": {number}}}}}'
    return response


@pages.post("/proofs/<int:proof_id>/cancel")
def cancel(proof_id: int) -> ResponseReturnValue:
    jobs.cancel(db(), proof_or_404(proof_id).id)
    return "", 204


@pages.post("/proofs/<int:proof_id>/resume")
def resume(proof_id: int) -> ResponseReturnValue:
    jobs.resume(db(), proof_or_404(proof_id).id)
    return "", 204


@pages.get("/proofs/<int:proof_id>.json")
def proof_json(proof_id: int) -> ResponseReturnValue:
    """A proof with the progress of its job and the worker's state."""
    proof = proof_or_404(proof_id)
    job = jobs.of_proof(db(), proof_id)
    shot = shots.get(db(), proof.shot_id)
    left = seconds_left(job) if job and job.state in ("rendering", "waiting") else None
    return jsonify(
        id=proof.id,
        parent=proof.parent_id,
        state=proof.state,
        message=proof.message,
        picture=proof.picture,
        width=proof.frame.width,
        height=proof.frame.height,
        window=proof.frame.window,
        seconds=proof.seconds if proof.seconds is not None else (job.seconds if job else None),
        noise=proof.noise,
        noise_said=noise_of(proof),
        dropped=proof.dropped,
        samples=proof.meters.get("samples", proof.recipe.sampling.max),
        passes=proof.passes,
        ledger=proof.lights,
        meters=meters_in_words(proof),
        stand_ins=proof.meters.get("stand_ins", 0),
        caches=[{"kind": way["kind"], "digest": way["digest"]} for way in proof.meters.get("ways", [])],
        edits=proof.edits.flat(),
        exposure=shot.exposure(proof.camera, proof.edits),
        tiles_done=job.tiles_done if job else 0,
        tiles_total=job.tiles_total if job else 0,
        live=files.Tiles(data(), job.id).shown_at() if job else 0,
        left=left,
        held=job.held if job else False,
        view=proof.view,
        worker=jobs.worker(db()).__dict__,
    )


@pages.get("/explain.json")
def explain() -> ResponseReturnValue:
    """What the setting ?key= does, and what was measured of it on the shot of ?proof=."""
    try:
        return jsonify(explanation(db(), request.args.get("key", ""), proofs.get(db(), request.args.get("proof", 0, type=whole_number))))
    except KeyError:
        abort(404)


@pages.get("/proofs/<int:proof_id>/noise.json")
def noise_json(proof_id: int) -> ResponseReturnValue:
    """The sources of noise of a part of a proof (?region=left,top,right,bottom in pixels of the frame)."""
    proof, wanted = proof_or_404(proof_id), region_of(request.args.get("region", ""))
    if proof.picture is None:
        abort(404)
    x0, y0, x1, y1 = proof.frame.window
    left, top, right, bottom = wanted or (x0, y0, x1, y1)
    box = (max(left, x0) - x0, max(top, y0) - y0, min(right, x1) - x0, min(bottom, y1) - y0)
    if box[0] >= box[2] or box[1] >= box[3]:
        return jsonify(rows=[])
    names = [row["name"] for row in proof.lights if row["name"] not in NOT_LIGHTS]
    return jsonify(rows=noise_of_region(read_exr(files.picture_path(data(), proof.picture)).passes, names, box))


@pages.get("/proofs/<int:proof_id>/tiles")
def tiles(proof_id: int) -> ResponseReturnValue:
    """Finished tiles from number ?from= on, in order of arrival: for each five int32 (index, x0, y0, x1, y1
    in pixels of the frame), then its beauty as RGBA half floats."""
    proof = proof_or_404(proof_id)
    job = jobs.of_proof(db(), proof_id)
    parts = []
    if job is not None:
        stored = files.Tiles(data(), job.id)
        boxes = proof.frame.tiles()
        first = max(0, request.args.get("from", 0, type=whole_number))
        for index in stored.order()[first : first + TILES_AT_ONCE]:
            try:
                film = stored.load(index)
            except (FileNotFoundError, files.DamagedTile):
                break  # the render has just ended; its picture has the rest
            parts.append(struct.pack("<5i", index, *boxes[index]))
            parts.append(files.halves(film_beauty(film)))
    return Response(b"".join(parts), mimetype="application/octet-stream", headers={"Cache-Control": "no-store"})


@pages.get("/proofs/<int:proof_id>/sketch")
def sketch(proof_id: int) -> ResponseReturnValue:
    """The whole window, coarse, as RGBA half floats; 204 if it does not exist yet or any more."""
    return _shown(proof_id, "sketch")


@pages.get("/proofs/<int:proof_id>/live")
def live(proof_id: int) -> ResponseReturnValue:
    """The whole window as far as it is rendered, filtered, as RGBA half floats; 204 if it does not exist yet or any more."""
    return _shown(proof_id, "live")


def _shown(proof_id: int, name: Literal["sketch", "live"]) -> ResponseReturnValue:
    job = jobs.of_proof(db(), proof_or_404(proof_id).id)
    if job is None:
        return "", 204
    tiles = files.Tiles(data(), job.id)
    try:
        body = (tiles.live if name == "live" else tiles.sketch).read_bytes()
    except FileNotFoundError:
        return "", 204
    return Response(body, mimetype="application/octet-stream", headers={"Cache-Control": "no-store"})


@pages.get("/status.json")
def status() -> ResponseReturnValue:
    """The worker's state, and the numbers of running, waiting and finished jobs."""
    rendering, waiting, ended = jobs.counts(db())
    helpers = sum(not one.problem for one in machines.helpers(db()))
    return jsonify(
        worker=jobs.worker(db()).__dict__, rendering=rendering, waiting=waiting, ended=ended, full=not has_room(data()), helpers=helpers
    )  # fmt: skip
