"""The survey page: the scene in plan and section with its findings, and fixes that become the next proof's changes."""

import json

from flask import Blueprint, Response, abort, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from ...core.edits.apply_edits import apply_edits
from ...core.edits.edits import SETTINGS, split_key
from ...core.errors import InputError
from ...core.formats.gltf_out import write_gltf
from ...core.formats.scenes import read_scene
from ...core.render.frame import Frame
from ...core.survey.finding import short
from ...store import jobs, proofs, recipes, requests
from ...store.database import transaction
from ..asked import ask_worker, cameras_of, edits_of, proof_of_form, scene_or_refuse, shot_or_404
from ..database import db
from ..numbers import finite_number, whole_number

pages = Blueprint("survey", __name__, template_folder="templates")
FURTHEST = 1e7
"""Most metres from the origin of a cut or a point."""


@pages.get("/shots/<slug>/survey")
def page(slug: str) -> ResponseReturnValue:
    """The page for ?proof= (the newest finished one by default), or for the shot as in its file, with ?camera= or the proof's."""
    shot = shot_or_404(slug)
    scene_or_refuse(shot)
    asked = proofs.get(db(), request.args.get("proof", 0, type=whole_number))
    proof = asked if asked and asked.shot_id == shot.id and asked.picture else None
    camera = request.args.get("camera") or (proof.camera if proof else shot.cameras[0]["name"])
    names = cameras_of(shot)
    if camera not in names and not (proof and camera == proof.camera):
        raise InputError(f"There is no camera “{camera}” in this shot; choose one of: {', '.join(names)}.")
    # The picture to mark findings on: of this proof, or the newest whole one of this view.
    suits = proof is not None and proof.camera == camera and not proof.frame.region
    shown = proof if suits else proofs.newest_whole(db(), shot.id, camera)
    edits = proof.edits.flat() if proof else {}
    return render_template("survey.html", shot=shot, proof=proof, shown=shown, camera=camera, cameras=names, edits=json.dumps(edits))


@pages.post("/shots/<slug>/survey")
def look_over(slug: str) -> ResponseReturnValue:
    """Survey the shot with the form's edits; the answer comes in parts at /questions/N.json."""
    return ask_worker("survey", shot_or_404(slug), {})


@pages.post("/shots/<slug>/section")
def section(slug: str) -> ResponseReturnValue:
    """Plan and section with the form's edits, cut at its `height` and `behind`, in metres, if given."""
    body = {}
    for name in ("height", "behind"):
        if request.form.get(name):
            body[name] = _metres(name)
    return ask_worker("plan", shot_or_404(slug), body)


@pages.post("/shots/<slug>/standpoint")
def standpoint(slug: str) -> ResponseReturnValue:
    """The view and the lights of the point (x, y, z)."""
    return ask_worker("seen_from", shot_or_404(slug), {name: _metres(name) for name in "xyz"})


def _metres(name: str) -> float:
    value = request.form.get(name, type=finite_number)
    if value is None or not -FURTHEST < value < FURTHEST:
        raise InputError(f"The point's {name} is missing or too large; click on the drawing.")
    return value


@pages.post("/questions/<int:number>/call-off")
def call_off(number: int) -> ResponseReturnValue:
    requests.call_off(db(), number)
    return "", 204


@pages.post("/shots/<slug>/survey/words")
def words(slug: str) -> ResponseReturnValue:
    """The form's edits as sentences, a list of [keys, words], grouped by light, object, card or camera."""
    shot_or_404(slug)
    by_thing: dict[tuple[str, str], dict[str, object]] = {}
    for key, value in edits_of(request.form.get("edits", "")).flat().items():
        group, name, field = split_key(key)
        by_thing.setdefault((group, name), {})[field] = value
    return jsonify([[[f"{group}.{name}.{field}" for field in fields], _said(group, name, fields)] for (group, name), fields in by_thing.items()])


def _said(group: str, name: str, fields: dict[str, object]) -> str:
    """The edits of one light, object, card or camera in words."""
    if group == "card" and {"at", "width", "height"} <= fields.keys():
        deep = f" × {fields['depth']}" if "depth" in fields else ""
        at = ", ".join(f"{float(v):.2f}" for v in str(fields["at"]).split(","))
        return f"a card {fields['width']} × {fields['height']}{deep} m at {at}"
    values = ", ".join(f"{SETTINGS[group][field].name} {_value(value)} {SETTINGS[group][field].unit}".rstrip() for field, value in fields.items())
    return f"{'everything' if group == 'scene' else short(name)}: {values}"


def _value(value: object) -> str:
    return {True: "on", False: "off"}.get(value, str(value)) if isinstance(value, bool) else str(value)


@pages.post("/shots/<slug>/survey/prove")
def prove(slug: str) -> ResponseReturnValue:
    """Render the shot with the form's edits, as a child of its proof, and go to the bench."""
    shot, parent = shot_or_404(slug), None
    parent = proof_of_form(shot)
    edits, camera = edits_of(request.form.get("edits", "")), request.form.get("camera") or shot.cameras[0]["name"]
    if camera not in cameras_of(shot) and camera not in edits.cameras:
        raise InputError(f"There is no camera “{camera}” in this shot; choose one of: {', '.join(cameras_of(shot))}.")
    recipe, frame = (parent.recipe, parent.frame) if parent else (recipes.default(db(), len(shot.lights)), Frame())
    with transaction(db()):
        number = jobs.add_proof(db(), shot.id, parent.id if parent else None, recipe, camera, frame, edits=edits)
    return redirect(url_for("bench.page", slug=slug, proof=number))


@pages.post("/shots/<slug>/scene.glb")
def glb(slug: str) -> ResponseReturnValue:
    """The whole scene with the form's edits as glTF."""
    import tempfile
    from pathlib import Path

    shot = shot_or_404(slug)
    if not shot.path.is_file():
        abort(404)
    scene = apply_edits(read_scene(shot.path, confine_to=shot.confine_to), edits_of(request.form.get("edits", "")))
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "scene.glb"
        left_out = write_gltf(scene, out)
        data = out.read_bytes()
    headers = {"Content-Disposition": f'attachment; filename="{shot.slug}.glb"', "X-Left-Out": str(len(left_out))}
    return Response(data, mimetype="model/gltf-binary", headers=headers)
