"""Reads a request: its shot, its proof, and the recipe and edits of its form."""

from typing import Any

from flask import Response, abort, jsonify, request
from werkzeug.datastructures import MultiDict

from ..core.edits.edits import Edits, with_edits
from ..core.edits.edits import to_json as edits_to_json
from ..core.errors import InputError
from ..core.json_text import parse_json
from ..core.render.frame import Frame
from ..core.render.recipe import Recipe, settings, to_json, with_values
from ..store import cameras, proofs, recipes, requests, shots
from .database import db
from .numbers import whole_number

MOST_EDITS = 1 << 20
"""Most characters of the edits in a form."""
MOST_NAMED = 1000
"""Most proofs in a URL."""


def shot_or_404(slug: str) -> shots.Shot:
    shot = shots.find(db(), slug)
    if shot is None:
        abort(404)
    return shot


def scene_or_refuse(shot: shots.Shot) -> None:
    """Raise InputError if a shot consists of pictures from elsewhere, without a scene to render."""
    if shot.outside:
        raise InputError("This shot consists of pictures that were rendered elsewhere; open its scene on the shots page to render it here.")


def proof_or_404(proof_id: int) -> proofs.Proof:
    proof = proofs.get(db(), proof_id)
    if proof is None:
        abort(404)
    return proof


def proof_of_form(shot: shots.Shot) -> proofs.Proof | None:
    """The proof of a shot that a form names, if any."""
    proof = proofs.get(db(), request.form.get("proof", 0, type=whole_number))
    return proof if proof and proof.shot_id == shot.id else None


def ask_worker(kind: str, shot: shots.Shot, body: dict[str, Any]) -> Response:
    """Add a request about a shot, with the form's edits and the recipe and camera of its proof; the answer comes at /questions/N.json."""
    scene_or_refuse(shot)
    proof, edits = proof_of_form(shot), edits_of(request.form.get("edits", ""))
    recipe = proof.recipe if proof else recipes.default(db(), len(shot.lights))
    camera = request.form.get("camera") or (proof.camera if proof else shot.cameras[0]["name"])
    asked = {"recipe": to_json(recipe), "edits": edits_to_json(edits), "camera": camera, **body}
    return jsonify(question=requests.ask(db(), kind, shot.id, asked))


def finished_as_asked(by_id: dict[int, proofs.Proof]) -> list[proofs.Proof]:
    """The finished proofs in the URL (?proofs=3,5,9), in its order, each once."""
    wanted = []
    for part in request.args.get("proofs", "").split(",")[:MOST_NAMED]:
        try:
            wanted.append(whole_number(part))
        except ValueError:
            continue
    return [by_id[number] for number in dict.fromkeys(wanted) if number in by_id and by_id[number].picture]


def form_values(recipe: Recipe) -> dict[str, str]:
    """A recipe as form values: the inverse of recipe_of."""
    return {key: f"{value:g}" if isinstance(value, float) else str(value) for key, value in recipe.flat().items()}


def recipe_of(form: MultiDict[str, str]) -> Recipe:
    """The recipe of a form; missing keys take their defaults. Raises InputError."""
    return with_values(Recipe(), {key: form[key] for key in settings() if key in form})


def edits_of(text: str) -> Edits:
    """Edits from the flat JSON of a form. Raises InputError."""
    if len(text) > MOST_EDITS:
        raise InputError("There are too many edits for one shot; export them as a USD layer and open that.")
    problem = "The edits on this page could not be read; reload it and make them again."
    flat = parse_json(text or "{}", problem)
    if not isinstance(flat, dict) or any(isinstance(value, dict | list) for value in flat.values()):
        raise InputError(problem)
    return with_edits(Edits(), flat)


def cameras_of(shot: shots.Shot) -> list[str]:
    """Names of the cameras of a shot's file, and of saved ones."""
    return [camera["name"] for camera in shot.cameras] + list(cameras.of_shot(db(), shot.id))


def made_as_asked(shot: shots.Shot, form: MultiDict[str, str]) -> tuple[Recipe, Edits, str]:
    """The recipe, edits and camera of a form; a saved camera includes its edits. Raises InputError."""
    scene_or_refuse(shot)
    recipe, edits, camera = recipe_of(form), edits_of(form.get("edits", "")), form.get("camera", "")
    kept = cameras.of_shot(db(), shot.id)
    if camera in kept:
        edits = with_edits(edits, {key: value for key, value in kept[camera].flat().items() if key not in edits.flat()})
    elif camera not in [known["name"] for known in shot.cameras] and camera not in edits.cameras:
        raise InputError(f"There is no camera “{camera}” in this shot; choose one from the list.")
    return recipe, edits, camera


def frame_of(form: MultiDict[str, str]) -> Frame:
    """The size, region, seed and time code of a form. Raises InputError."""
    return Frame(
        whole_of(form, "width", "The width"), whole_of(form, "height", "The height"), region_of(form.get("region", "")),
        whole_of(form, "seed", "The seed"), float(whole_of(form, "time", "The frame")) if form.get("time", "").strip() else None,
    )  # fmt: skip


def whole_of(form: MultiDict[str, str], name: str, what: str, of: str = "") -> int:
    """A whole number of a form; `what` it is, and `of` what, in words. Raises InputError."""
    try:
        return whole_number(form.get(name, ""))
    except ValueError:
        raise InputError(f"{what} can't be “{form.get(name, '')}”; give a whole number{of}.") from None


def region_of(text: str) -> tuple[int, int, int, int] | None:
    """A region as left,top,right,bottom; None for an empty text. Raises InputError."""
    if not text.strip():
        return None
    try:
        x0, y0, x1, y1 = (whole_number(part) for part in text.split(","))
    except ValueError:
        raise InputError(f"The region can't be “{text}”; drag it on the plate, or write it like 0,0,240,135.") from None
    return x0, y0, x1, y1
