"""Live previews: a page requests a picture, and fetches it as it gets finer."""

import re
import struct
from urllib.parse import quote

from flask import Blueprint, Response, abort, jsonify, request
from flask.typing import ResponseReturnValue

from ...core.edits.edits import to_json as edits_to_json
from ...core.gi.ways import EXTRAS
from ...core.render.recipe import to_json, with_values
from ...store import files, moments
from ..asked import frame_of, made_as_asked, shot_or_404
from ..database import data, db
from ..numbers import finite_number, whole_number

pages = Blueprint("moments", __name__)
DRAFT = {
    "gi.seen": "brute_force",
    "gi.beyond": "brute_force",
    **{f"{way.key}.on": "no" for way in EXTRAS},
    "limits.diffuse_bounces": 2,
    "sampling.gi_rays": 1,
}
"""The recipe while the camera moves, unless there is a bake, which is valid for every view."""
CLIENT = re.compile(r"^[0-9a-f]{8,32}$")


def _client(name: str) -> str:
    if not CLIENT.match(name):
        abort(404)
    return name


@pages.post("/shots/<slug>/moment")
def ask(slug: str) -> ResponseReturnValue:
    """Render the form for the page ?client=, replacing its earlier request; with `draft`, by short plain paths; with `filtered`, without grain."""
    shot, form = shot_or_404(slug), request.form
    recipe, edits, camera = made_as_asked(shot, form)
    if "draft" in form and recipe.gi.seen != "baked":
        recipe = with_values(recipe, DRAFT)
    frame = frame_of(form)
    body = {
        "recipe": to_json(recipe), "edits": edits_to_json(edits), "camera": camera, "width": frame.width, "height": frame.height,
        "region": frame.region, "seed": frame.seed, "time": frame.time, "filtered": "filtered" in form,
    }  # fmt: skip
    return jsonify(number=moments.ask(db(), _client(request.args.get("client", "")), shot.id, body))


@pages.get("/moments/<client>")
def picture(client: str) -> ResponseReturnValue:
    """The picture of request ?number=, in the format of work.moments; 204 while nothing is finer than ?samples=."""
    message = moments.message(db(), _client(client))
    response = Response(status=204)
    path = files.moment_path(data(), client)
    if message is not None and path.is_file():
        kept = path.read_bytes()
        number, samples = struct.unpack_from("<i", kept)[0], struct.unpack_from("<f", kept, 28)[0]
        if number == request.args.get("number", type=whole_number) and samples > request.args.get("samples", -1.0, type=finite_number):
            response = Response(kept, mimetype="application/octet-stream")
    response.headers["Cache-Control"] = "no-store"
    response.headers["X-Sivrel-Says"] = quote(message[1] if message else "")
    return response


@pages.post("/moments/<client>/forget")
def forget(client: str) -> ResponseReturnValue:
    """The page needs no more previews."""
    moments.forget(db(), _client(client))
    files.moment_path(data(), client).unlink(missing_ok=True)
    return "", 204
