"""Cameras: their positions, and saving a view of the plate as a new one."""

from flask import Blueprint, request
from flask.typing import ResponseReturnValue

from ...core.edits.edits import Edits, with_edits
from ...core.edits.edits import to_json as edits_to_json
from ...core.errors import InputError
from ...core.render.recipe import Recipe, to_json
from ...store import cameras, requests
from ..asked import edits_of, shot_or_404
from ..database import db

pages = Blueprint("cameras", __name__)


@pages.post("/shots/<slug>/camera")
def where(slug: str) -> ResponseReturnValue:
    """Request a form camera's position, direction and the distance of what it looks at; the answer comes at /questions/N.json."""
    shot, form = shot_or_404(slug), request.form
    edits = edits_to_json(edits_of(form.get("edits", "")))
    return {"question": requests.ask(db(), "camera", shot.id, {"recipe": to_json(Recipe()), "edits": edits, "camera": form.get("camera", "")})}


@pages.post("/shots/<slug>/cameras")
def keep(slug: str) -> ResponseReturnValue:
    """Save the edited view of the camera ?like= under a new name."""
    shot, form = shot_or_404(slug), request.form
    name, like = " ".join(form.get("name", "").split()), form.get("like", "")
    if not 1 <= len(name) <= 60 or "." in name:
        raise InputError("A camera's name has 1 to 60 characters and no dot; give it one that says what it sees.")
    if name in [camera["name"] for camera in shot.cameras]:
        raise InputError(f"There is already a camera “{name}”; give the new one another name.")
    edited = edits_of(form.get("edits", "")).cameras.get(like)
    if edited is None or edited.at is None or edited.towards is None:
        raise InputError("The view has not moved; move it on the plate first.")
    values = {key: value for key, value in edited.model_dump(exclude_none=True).items() if key != "like"}
    of_file = like in [camera["name"] for camera in shot.cameras]
    made = with_edits(Edits(), {f"camera.{name}.{key}": value for key, value in {**values, "like": like if of_file else edited.like}.items()})
    cameras.keep(db(), shot.id, name, made)
    return {"name": name}
