"""Lights on the bench: the panel, plan and elevation, light reach, depth maps, edits as a USD layer."""

import io
import tempfile
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, abort, jsonify, render_template, request
from flask.typing import ResponseReturnValue
from PIL import Image

from ...core.caches import from_bytes
from ...core.edits.edits import ADDED_KINDS, CARD_PATTERNS
from ...core.errors import InputError
from ...core.shadows.depth_map import map_picture
from ...store import proofs, requests
from ..asked import ask_worker, edits_of, proof_of_form, shot_or_404
from ..database import data, db
from ..numbers import finite_number
from .many import MANY, MOST_GROUPS, MOST_LINES, ORDERS, found, grouped
from .panel import light_lines, measures_of, other_lines

PLACED = (*(kind for kind in ADDED_KINDS if kind not in ("sun", "dome", "daylight")), *CARD_PATTERNS)
"""What is put where the picture is clicked; suns and skies are everywhere."""
pages = Blueprint("lights", __name__, template_folder="templates")


@pages.post("/shots/<slug>/lights")
def panel(slug: str) -> ResponseReturnValue:
    """The panel for the form's edits; `open` is the light whose settings are shown."""
    shot = shot_or_404(slug)
    proof, edits, opened = proof_of_form(shot), edits_of(request.form.get("edits", "")), request.form.get("open", "")
    find, order, group = (request.form.get(name, "") for name in ("find", "order", "group"))
    lines = light_lines(shot, proof, edits, opened, request.form.get("way") == "depth_map")
    fitting = found(lines, find)
    many = len(lines) > MANY
    groups = grouped(fitting, measures_of(proof), order, group or opened, bool(find)) if many else []
    bounced = next((m for m in proof.lights if m["name"] == "bounced light"), None) if proof else None
    shown = opened.removeprefix("object:") if opened.startswith("object:") else None
    return render_template(
        "lights.html", shot=shot, proof=proof, lines=lines, others=other_lines(edits, shown), opened=opened.removeprefix("object:"),
        many=many, groups=groups, fitting=fitting, find=find, order=order, orders=ORDERS, most_lines=MOST_LINES, most_groups=MOST_GROUPS,
        bounced=bounced, kinds=ADDED_KINDS, patterns=CARD_PATTERNS, rays=_rays(lines),
    )  # fmt: skip


def _rays(lines: list[Any]) -> int:
    """Shadow rays at each point that the camera sees, over all lights that are on."""
    return sum(line.rays for line in lines if line.group == "light" and line.on)


@pages.post("/shots/<slug>/plan")
def plan(slug: str) -> ResponseReturnValue:
    """Request plan and elevation; the answer comes at /questions/N.json."""
    return ask_worker("plan", shot_or_404(slug), {})


@pages.post("/shots/<slug>/reach")
def reach(slug: str) -> ResponseReturnValue:
    """Request which lights reach the pixel (x, y) of a frame of width x height, how much, and what blocks the others."""
    return ask_worker("reach", shot_or_404(slug), _pixel())


@pages.post("/shots/<slug>/place")
def place(slug: str) -> ResponseReturnValue:
    """Request where a lamp, card or portal of `kind` would be put at the pixel (x, y) of a frame of width x height."""
    kind = request.form.get("kind", "")
    if kind not in PLACED:
        raise InputError(f"“{kind}” is not something that is put on a surface; choose a lamp, a card or a portal.")
    return ask_worker("place", shot_or_404(slug), {**_pixel(), "kind": kind})


def _pixel() -> dict[str, float]:
    """The form's point on the picture. Raises InputError."""
    numbers = {}
    for name in ("x", "y", "width", "height"):
        value = request.form.get(name, type=finite_number)
        if value is None or not -1e5 < value < 1e5:
            raise InputError(f"The {name} of the point is missing; click on the picture.")
        numbers[name] = value if name in "xy" else max(1, int(value))
    return numbers


@pages.get("/questions/<int:number>.json")
def question(number: int) -> ResponseReturnValue:
    answer, problem = requests.answered(db(), number)
    if problem:
        raise InputError(problem)
    return jsonify(answer=answer)


@pages.get("/proofs/<int:proof_id>/maps/<digest:digest>.png")
def depth_map(proof_id: int, digest: str) -> ResponseReturnValue:
    """A depth map that a proof used, near is light."""
    proof = proofs.get(db(), proof_id)
    path = data() / "caches" / f"{digest}.cache"
    if proof is None or digest not in [m["digest"] for m in proof.maps] or not path.is_file():
        abort(404)
    tones = map_picture(from_bytes(path.read_bytes(), path.name).arrays["depths"])
    buffer = io.BytesIO()
    Image.fromarray(tones).save(buffer, "PNG")
    return Response(buffer.getvalue(), mimetype="image/png", headers={"Cache-Control": "private, max-age=86400"})


@pages.post("/shots/<slug>/layer")
def layer(slug: str) -> ResponseReturnValue:
    """The form's edits as a USD layer over the shot's own file."""
    from ...core.formats.usd_edits import write_layer

    shot, edits = shot_or_404(slug), edits_of(request.form.get("edits", ""))
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "edits.usda"
        left_out = write_layer(shot.path, edits, out)
        text = out.read_text()
    headers = {"Content-Disposition": f'attachment; filename="{shot.slug}-edits.usda"', "X-Left-Out": str(len(left_out))}
    comment = "".join(f"# {sentence}\n" for sentence in left_out)
    return Response(text.rstrip("\n") + "\n" + comment, mimetype="text/plain; charset=utf-8", headers=headers)
