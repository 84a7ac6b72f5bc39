"""Pictures as the browser needs them: linear half floats, PNG, EXR, the look-up table of a view."""

import io

import numpy as np
from flask import Blueprint, Response, abort, request, send_file
from PIL import Image

from ...core.errors import InputError
from ...core.finish.view import VIEWS, lookup_table, to_bytes, to_display
from ...core.formats.exr import Picture, read_exr
from ...core.measure.difference import compare
from ...store import files, proofs
from ..database import data, db

pages = Blueprint("pictures", __name__)
FOREVER = "private, max-age=31536000, immutable"
LARGEST_HALF = 65504.0


def halves(linear: np.ndarray) -> bytes:
    """Linear colour [rows, columns, 3 or more] as RGBA half floats, opaque."""
    pixels = np.ones((*linear.shape[:2], 4), np.float16)
    pixels[..., :3] = np.clip(np.nan_to_num(linear[..., :3], posinf=LARGEST_HALF), -LARGEST_HALF, LARGEST_HALF)
    return pixels.tobytes()


def _picture(digest: str) -> Picture:
    if not proofs.has_picture(db(), digest):
        abort(404)
    return read_exr(files.picture_path(data(), digest))


def _number(name: str) -> float:
    try:
        return min(max(float(request.args.get(name, "0")), -20.0), 20.0)
    except ValueError:
        raise InputError(f"The {name} in the address is not a number; use one from -20 to 20.") from None


def _told_apart(numbers: np.ndarray) -> np.ndarray:
    """A tone for every object, neighbours far apart; numbers are uint-like [rows, columns], -1 is black."""
    steps = np.mod(np.maximum(numbers, 0.0)[..., None] * np.array([0.618034, 0.381966, 0.236068]), 1.0)
    return np.where(numbers[..., None] >= 0.0, 0.05 + 0.6 * steps, 0.0).astype(np.float32)


@pages.get("/pictures/<digest>.half")
def half(digest: str):
    """The pixels of a pass (?pass=direct; default beauty), row by row from the top."""
    picture = _picture(digest)
    plane = picture.passes.get(request.args.get("pass", "beauty"))
    if plane is None:
        abort(404)
    if request.args.get("pass") == "texels":
        plane = np.minimum(plane, LARGEST_HALF)
    if request.args.get("pass") == "beyond":
        plane = plane.sum(axis=2, keepdims=True)
    if request.args.get("pass") == "samples":
        plane = plane / max(float(plane.max()), 1.0)  # white where most were taken
    if request.args.get("pass") == "object":
        plane = _told_apart(plane[..., 0])
    if plane.shape[2] < 3:
        plane = np.repeat(plane[..., :1], 3, axis=2)
    return Response(halves(plane), mimetype="application/octet-stream", headers={"Cache-Control": FOREVER})


@pages.get("/pictures/<digest>.png")
def png(digest: str):
    """The beauty through a view (?view=, ?exposure=): what browsers without WebGL show."""
    view = request.args.get("view", "soft")
    if view not in VIEWS:
        raise InputError(f"There is no view “{view}”; use one of: {', '.join(VIEWS)}.")
    shown = to_bytes(to_display(_picture(digest).beauty, _number("exposure"), view))
    buffer = io.BytesIO()
    Image.fromarray(shown).save(buffer, "PNG")
    return Response(buffer.getvalue(), mimetype="image/png", headers={"Cache-Control": FOREVER})


@pages.get("/pictures/<digest>.exr")
def exr(digest: str):
    if not proofs.has_picture(db(), digest):
        abort(404)
    path = files.picture_path(data(), digest)
    return send_file(path.absolute(), mimetype="image/x-exr", as_attachment=True, download_name=f"{digest[:12]}.exr")


@pages.get("/thumbnails/<digest>.png")
def thumbnail(digest: str):
    path = files.thumbnail_path(data(), digest)
    if not proofs.has_picture(db(), digest) or not path.is_file():
        abort(404)
    response = send_file(path.absolute(), mimetype="image/png")
    response.headers["Cache-Control"] = FOREVER
    return response


@pages.get("/views/<view>.lut")
def lut(view: str):
    if view not in VIEWS:
        abort(404)
    return Response(lookup_table(view).tobytes(), mimetype="application/octet-stream", headers={"Cache-Control": FOREVER})


@pages.get("/pictures/<a>/<b>/difference.json")
def difference(a: str, b: str):
    """Numbers of B against A, seen at ?exposure= stops."""
    return compare(_picture(a), _picture(b), _number("exposure")).as_dict()
