"""The shots page: all shots, and opening scenes."""

import functools
import shutil
from pathlib import Path
from typing import Any

from flask import Blueprint, abort, current_app, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from ...core.errors import InputError
from ...store import proofs, shots
from ...work.intake import SCENES, add_shot_at, add_uploaded_shot, check_upload_names, new_upload, scene_file
from ...work.looking_in import inspect_sandboxed
from ...work.openings import Opening, Openings
from ...work.outside import add_pictures, is_picture
from ..asked import proof_or_404
from ..database import data, db
from ..numbers import finite_number
from .disk import on_disk

pages = Blueprint("shots", __name__, template_folder="templates")
LONGEST_NAME = 240
"""Most bytes of a file name: file systems allow 255, and temporary names need some."""
BESIDE = (".bin", ".mtl", ".png", ".jpg", ".jpeg", ".exr", ".hdr", ".ies", ".tif", ".tiff")
"""Suffixes of the files that scenes refer to."""


@pages.get("/")
def index() -> ResponseReturnValue:
    return _page()


def _page(problem: str | None = None) -> str:
    listed = shots.listed(db())
    accept = ",".join((*SCENES, *BESIDE))
    disk, sizes = on_disk(data(), proofs.pictures_by_shot(db()))
    return render_template(
        "shots.html", listed=listed, problem=problem, accept=accept, scenes=SCENES, local=_local(), disk=disk, sizes=sizes
    )  # fmt: skip


@pages.post("/proofs/<int:proof_id>/cover")
def cover(proof_id: int) -> ResponseReturnValue:
    """Make a proof's picture that of its shot on this page."""
    proof = proof_or_404(proof_id)
    shots.set_cover(db(), proof.shot_id, proof.id)
    return "", 204


def _local() -> bool:
    """Whether only this machine reaches the pages, so that a path on it may be opened."""
    return current_app.config["ACCESS_KEY"] is None


def file_name(given: str) -> str:
    """The last part of an uploaded file's name, unchanged, since scenes refer to their files by name; empty if invalid."""
    name = given.replace("\\", "/").rsplit("/", 1)[-1].strip()
    return name if name.strip(".") and len(name.encode()) <= LONGEST_NAME and name.isprintable() else ""


@pages.post("/shots")
def upload() -> ResponseReturnValue:
    """Open a scene file with the files it refers to, which are stored in a folder of their own; or, if there is no scene among them,
    pictures that were rendered elsewhere."""
    if request.form.get("path", "").strip():
        return _open_path(request.form["path"].strip())
    given = _given()
    if given and all(is_picture(name) for name, _ in given):
        return _judge(given, None)
    folder: Path | None = None
    try:
        folder, main = _received(given)
        shot = add_uploaded_shot(db(), folder, main)
    except InputError as error:
        return _page(str(error)), 422
    finally:
        if folder is not None:
            shutil.rmtree(folder, ignore_errors=True)  # an imported upload has been renamed by now
    return redirect(url_for("bench.page", slug=shot.slug))


def _given() -> list[tuple[str, Any]]:
    """Names and contents of the files of the request."""
    return [(file_name(f.filename or ""), f) for f in request.files.getlist("files") if f.filename]


def _received(given: list[tuple[str, Any]]) -> tuple[Path, str]:
    """A new folder with the given files, and the name of the scene among them. Raises InputError."""
    main, folder = check_upload_names([name for name, _ in given]), new_upload(data())
    try:
        for name, file in given:
            if name:
                file.save(folder / name)
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    return folder, main


@pages.post("/openings")
def start_opening() -> ResponseReturnValue:
    """Begin to open the scene of the form, as `upload` does; the answer is the key by which its progress is asked for."""
    if request.form.get("path", "").strip():
        path = _on_this_machine(request.form["path"].strip())
        key = _openings().start(path.name, lambda hear: {**inspect_sandboxed(path, None, hear=hear), "path": str(path)}, lambda: None)
        return jsonify(key=key), 202
    folder, main = _received(_given())
    discard = functools.partial(shutil.rmtree, folder, ignore_errors=True)
    uploaded = {"folder": str(folder), "main": main}
    return jsonify(key=_openings().start(main, lambda hear: {**inspect_sandboxed(folder / main, folder, hear=hear), **uploaded}, discard)), 202


@pages.get("/openings/<key>.json")
def opening(key: str) -> ResponseReturnValue:
    """How far an opening is: its share, what was read, whether it is done, a problem, and a question if the scene is large."""
    known = _opening_or_404(key)
    if known.problem:
        raise InputError(known.problem)
    return jsonify(share=known.share, what=known.what, done=known.facts is not None, question=known.question)


@pages.post("/openings/<key>/cancel")
def cancel_opening(key: str) -> ResponseReturnValue:
    _openings().cancel(key)
    return "", 204


@pages.post("/openings/<key>/open")
def finish_opening(key: str) -> ResponseReturnValue:
    """Add the shot of an inspected file; the answer is its page."""
    known = _openings().take(key)
    if known is None or known.facts is None:
        abort(404)
    facts = known.facts
    if "path" in facts:
        shot = add_shot_at(db(), Path(facts.pop("path")), facts)
    else:
        folder, main = Path(facts.pop("folder")), facts.pop("main")
        try:
            shot = add_uploaded_shot(db(), folder, main, facts)
        finally:
            shutil.rmtree(folder, ignore_errors=True)  # renamed by now, if it was imported
    return jsonify(page=url_for("bench.page", slug=shot.slug))


def _openings() -> Openings:
    found: Openings = current_app.extensions.setdefault("openings", Openings())
    return found


def _opening_or_404(key: str) -> Opening:
    known = _openings().get(key)
    if known is None:
        abort(404)
    return known


@pages.post("/shots/<slug>/pictures")
def add_to(slug: str) -> ResponseReturnValue:
    """Add pictures from elsewhere to a shot of such pictures."""
    shot = shots.find(db(), slug)
    if shot is None or not shot.outside:
        raise InputError("Pictures from elsewhere belong to a shot of such pictures; drop them on the shots page.")
    return _judge(_given(), shot)


def _judge(given: list[Any], shot: shots.Shot | None) -> ResponseReturnValue:
    """Import pictures that were rendered elsewhere, and go to their bench."""
    folder: Path | None = None
    try:
        wrong = [name for name, _ in given if not is_picture(name)]
        if wrong or not given:
            raise InputError(f"{wrong[0] if wrong else 'Nothing'} is not a picture; choose EXR files, with their passes if there are any, or PNG.")
        folder = new_upload(data())
        for name, file in given:
            file.save(folder / name)
        seconds = request.form.get("seconds", type=finite_number)
        paths = [folder / name for name in dict.fromkeys(name for name, _ in given)]
        shot, numbers = add_pictures(db(), data(), paths, shot=shot, seconds=seconds, notes=request.form.get("notes", ""))
    except InputError as error:
        return _page(str(error)), 422
    finally:
        if folder is not None:
            shutil.rmtree(folder, ignore_errors=True)  # each was stored under its hash
    return redirect(url_for("bench.page", slug=shot.slug, proof=numbers[-1]))


def home_expanded(path: str) -> Path:
    """A path with ~ expanded. Raises InputError if there is no such user."""
    try:
        return Path(path).expanduser()
    except RuntimeError:
        raise InputError(f"There is no such user for {path[:80]}; give the full path.") from None


def _on_this_machine(path: str) -> Path:
    """A scene's path on this machine. Raises InputError if it may not be opened, or is none."""
    if not _local():
        raise InputError("Paths can only be opened from the machine that runs Sivrel; from another machine, choose the files themselves.")
    return scene_file(home_expanded(path))


def _open_path(path: str) -> ResponseReturnValue:
    """Open a scene in its place on this machine."""
    try:
        shot = add_shot_at(db(), _on_this_machine(path))
    except InputError as error:
        return _page(str(error)), 422
    return redirect(url_for("bench.page", slug=shot.slug))
