"""Sequences: frames of a moving shot, rendered, played, compared, and judged for flicker."""

from typing import Any

from flask import Blueprint, Response, abort, jsonify, render_template, request, send_file
from flask.typing import ResponseReturnValue
from werkzeug.datastructures import MultiDict

from ...core.edits.edits import Edits, apart, with_edits
from ...core.errors import InputError
from ...core.finish.view import VIEWS
from ...core.render.frame import Frame
from ...core.render.recipe import Recipe, with_values
from ...core.render.starting import STARTING
from ...core.sequence.frames import frames_in_words, parse_frames
from ...core.sequence.promise import promise_of
from ...store import files, proofs, recipes, requests, sequences, shots
from ...store.sequences import Sequence
from ..asked import scene_or_refuse, shot_or_404, whole_of
from ..database import data, db
from ..numbers import finite_number, whole_number
from ..pictures.routes import LUT
from ..words import in_one_line
from .views import changes_of, state_of, whole_flicker

pages = Blueprint("sequences", __name__, template_folder="templates")
USUAL_SIZE = (320, 180)
MOST_SECONDS = 1e6
EXPORTS = {"webm": "video/webm", "png": "application/zip", "exr": "application/zip"}
"""What a sequence can be written as: a film, or its pictures in one file."""


def sequence_or_404(number: int) -> Sequence:
    sequence = sequences.get(db(), number)
    if sequence is None:
        abort(404)
    return sequence


def moving_or_refuse(shot: shots.Shot) -> shots.Shot:
    """Raise InputError for a shot that stands still."""
    scene_or_refuse(shot)
    if shot.frames is None:
        raise InputError("This shot stands still: its file has no range of frames. Open a USD file that moves to render a sequence.")
    return shot


@pages.get("/shots/<slug>/sequences")
def page(slug: str) -> ResponseReturnValue:
    """The sequences of a shot: ?show= is on the plate, ?with= is compared with it; ?proof= fills the form for a new one."""
    shot = moving_or_refuse(shot_or_404(slug))
    shots.opened(db(), shot)
    every = sequences.of_shot(db(), shot.id)
    by_id = {one.id: one for one in every}
    shown = by_id.get(request.args.get("show", 0, type=whole_number)) or (every[-1] if every else None)
    other = by_id.get(request.args.get("with", 0, type=whole_number))
    wanted = proofs.get(db(), request.args.get("proof", 0, type=whole_number))
    proof = wanted if wanted is not None and wanted.shot_id == shot.id and wanted.sequence_id is None else proofs.newest(db(), shot.id)
    assert shot.frames is not None
    return render_template(
        "sequences.html", shot=shot, cards=[_card(one, every) for one in every], shown=shown, other=other, proof=proof, lut=LUT, views=VIEWS,
        starting=STARTING, named=recipes.listed(db()), whole=f"{shot.frames.first:g}-{shot.frames.last:g}", of=shot.frames,
        size=(shown.frame.width, shown.frame.height) if shown else USUAL_SIZE, cameras=[camera["name"] for camera in shot.cameras],
    )  # fmt: skip


def _card(sequence: Sequence, every: list[Sequence]) -> dict[str, Any]:
    frames = sequences.frames_of(db(), sequence.id)
    flicker = whole_flicker(frames, sequences.flickers(db(), sequence.id, False))
    in_time = whole_flicker(frames, sequences.flickers(db(), sequence.id, True))
    finished = [proof for proof in frames if proof.picture]
    each = [proof.seconds for proof in finished if proof.seconds]
    return {
        "sequence": sequence, "said": in_one_line(changes_of(sequence, every)), "flicker": flicker, "in_time": in_time,
        "each": sum(each) / len(each) if each else None, "done": len(finished), "count": len(frames),
        "picture": finished[len(finished) // 2].picture if finished else None,
    }  # fmt: skip


@pages.get("/shots/<slug>/sequences/cards")
def cards(slug: str) -> ResponseReturnValue:
    shot = shot_or_404(slug)
    every = sequences.of_shot(db(), shot.id)
    return render_template("sequence_cards.html", cards=[_card(one, every) for one in every])


@pages.post("/shots/<slug>/sequences")
def add(slug: str) -> ResponseReturnValue:
    """Render frames with the form's recipe: `from` a proof, a sequence or a recipe, with the form's settings over it."""
    shot = moving_or_refuse(shot_or_404(slug))
    assert shot.frames is not None
    form = request.form
    recipe, edits, camera = _base(shot, form.get("from", ""))
    frames = parse_frames(form.get("frames", ""), shot.frames)
    camera = form.get("camera") or camera
    if camera not in [known["name"] for known in shot.cameras] and camera not in edits.cameras:
        raise InputError(f"There is no camera “{camera}” in this shot; choose one from the list.")
    values = _own_values(form)
    each, whole = (_seconds(form.get(name, ""), what) for name, what in (("each", "The time of a frame"), ("all", "The time of all frames")))
    if whole:
        each = whole / len(frames)
    recipe = with_values(recipe, {**values, "sampling.seconds": each} if each else values)
    size = _size(form)
    number = sequences.add(
        db(), shot.id, recipe, edits, camera, Frame(size[0], size[1], None, 0), frames, shot.frames.rate, parent=_parent(form.get("from", "")),
        name=form.get("name", ""),
    )  # fmt: skip
    return jsonify(sequence=number)


def _base(shot: shots.Shot, whence: str) -> tuple[Recipe, Edits, str]:
    """Recipe, edits and camera that a new sequence starts from. Raises InputError."""
    kind, name, number = _whence(whence)
    proof = proofs.get(db(), number) if kind == "proof" else None
    if proof is not None and proof.shot_id == shot.id:
        return proof.recipe, proof.edits, proof.camera
    before = sequences.get(db(), number) if kind == "sequence" else None
    if before is not None and before.shot_id == shot.id:
        return before.recipe, before.edits, before.camera
    if kind == "start" and name in STARTING:
        return STARTING[name].recipe(), Edits(), shot.cameras[0]["name"]
    own = next((one for one in recipes.listed(db()) if kind == "own" and one.id == number), None)
    if own is not None:
        return own.recipe, Edits(), shot.cameras[0]["name"]
    raise InputError("Choose a proof, a sequence or a recipe to start from.")


def _whence(text: str) -> tuple[str, str, int]:
    """What a sequence starts from, as kind:name, and its number; 0 for what has none."""
    kind, _, name = text.partition(":")
    return kind, name, int(name) if name.isascii() and name.isdecimal() and len(name) < 18 else 0


def _parent(whence: str) -> int | None:
    kind, _, number = _whence(whence)
    return number if kind == "sequence" and number else None


def _seconds(text: str, what: str) -> float:
    """A time in seconds, 0 for none. Raises InputError."""
    if not text.strip():
        return 0.0
    try:
        value = finite_number(text.replace(",", ".").strip())
    except ValueError:
        value = -1.0
    if not 0.0 <= value <= MOST_SECONDS:
        raise InputError(f"{what} can't be “{text[:40]}”; give seconds, or leave it empty.")
    return value


def _own_values(form: MultiDict[str, str]) -> dict[str, str]:
    """The settings that the form of a new sequence changes, by key."""
    return {key: form[key] for key in ("motion.grain", "motion.caches", "motion.keys", "motion.blur", "sampling.max") if form.get(key, "").strip()}


def _size(form: MultiDict[str, str]) -> list[int]:
    return [whole_of(form, name, f"The {name}", " of pixels") for name in ("width", "height")]


@pages.get("/sequences/<int:number>.json")
def as_json(number: int) -> ResponseReturnValue:
    return jsonify(**state_of(sequence_or_404(number)))


@pages.post("/sequences/<int:number>/<any(cancel, resume, delete, restore):what>")
def change(number: int, what: str) -> ResponseReturnValue:
    if what == "restore":
        sequences.restore(db(), number)
    else:
        {"cancel": sequences.cancel, "resume": sequences.resume, "delete": sequences.delete}[what](db(), sequence_or_404(number).id)
    return "", 204


@pages.post("/sequences/<int:number>/name")
def rename(number: int) -> ResponseReturnValue:
    sequences.rename(db(), sequence_or_404(number).id, request.form.get("name", ""))
    return "", 204


@pages.post("/sequences/<int:number>/<any(judge, cause, export):what>")
def ask(number: int, what: str) -> ResponseReturnValue:
    """Ask the worker: to filter the frames through time and judge them so, for the cause of the flicker, or to write the frames (`as` webm, png or
    exr; `filtered`). The answer comes at /questions/N.json."""
    sequence = sequence_or_404(number)
    body: dict[str, Any] = {"sequence": sequence.id}
    if what == "judge" or "filtered" in request.form:
        body["filtered"] = True
    if what == "export":
        body["as"] = request.form.get("as", "")
        if body["as"] not in EXPORTS:
            raise InputError("Choose a film, PNG or EXR.")
    question = requests.ask(db(), what, sequence.shot_id, body)
    if what == "cause":
        sequences.set_cause(db(), sequence.id, sequence.cause, question)
    return jsonify(question=question)


@pages.post("/shots/<slug>/sequences/predict")
def predict(slug: str) -> ResponseReturnValue:
    """Ask how the form's recipe would flicker, from a few small parts of a few frames; the answer comes at /questions/N.json."""
    shot = moving_or_refuse(shot_or_404(slug))
    assert shot.frames is not None
    recipe, edits, camera = _base(shot, request.form.get("from", ""))
    values = _own_values(request.form)
    frames = parse_frames(request.form.get("frames", ""), shot.frames)
    size = _size(request.form)
    Frame(size[0], size[1])
    kept, through = recipes.keep(db(), with_values(recipe, values)), request.form.get("camera") or camera
    body = {"recipe": kept, "edits": edits.flat(), "camera": through, "size": size, "frames": frames_in_words(frames)}
    return jsonify(question=requests.ask(db(), "predict", shot.id, body))


@pages.post("/sequences/<int:number>/remedy")
def remedy(number: int) -> ResponseReturnValue:
    """Render the sequence again with a remedy of its cause (`remedy`: its number)."""
    sequence = sequence_or_404(number)
    offered = (sequence.cause or {}).get("remedies", [])
    at = request.form.get("remedy", -1, type=whole_number)
    if not 0 <= at < len(offered) or offered[at].get("filtered"):
        raise InputError("There is no such remedy; look for the cause again.")
    values, laid = apart(offered[at]["changes"])
    recipe, edits = with_values(sequence.recipe, values), with_edits(sequence.edits, laid)
    made = sequences.add(
        db(), sequence.shot_id, recipe, edits, sequence.camera, sequence.frame, sequence.frames, sequence.rate, parent=sequence.id,
        name=offered[at]["title"],
    )  # fmt: skip
    sequences.promise(db(), made, promise_of(sequence.cause or {}, offered[at]))
    return jsonify(sequence=made)


@pages.get("/sequences/<int:number>/export/<name>")
def exported(number: int, name: str) -> ResponseReturnValue:
    """What was written of a sequence, to download."""
    sequence = sequence_or_404(number)
    path = files.export_path(data(), sequence.id, name)
    suffix = name.rpartition(".")[2]
    if path is None or not path.is_file():
        abort(404)
    title = f"{shots.get(db(), sequence.shot_id).slug}-{sequence.id}.{'webm' if suffix == 'webm' else 'zip'}"
    return send_file(path.absolute(), mimetype="video/webm" if suffix == "webm" else "application/zip", as_attachment=True, download_name=title)


@pages.get("/sequences/<int:number>.csv")
def as_csv(number: int) -> ResponseReturnValue:
    """A line a frame: seconds, noise, flicker."""
    lines = ["frame,seconds,noise,flicker,flicker_in_time"]
    for row in state_of(sequence_or_404(number))["frames"]:
        levels = [row[name]["level"] if row[name] else "" for name in ("flicker", "in_time")]
        lines.append(",".join(str("" if value is None else value) for value in (row["time"], row["seconds"], row["noise"], *levels)))
    return Response("\n".join(lines) + "\n", mimetype="text/csv")
