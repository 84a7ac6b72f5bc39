"""The shots page: what there is to work on, and how a scene of one's own is opened."""

import secrets
import shutil
from pathlib import Path

from flask import Blueprint, current_app, redirect, render_template, request, url_for

from ...core.errors import InputError
from ...store import jobs, shots
from ...work.intake import SCENES, add_shot_at, add_uploaded_shot, check_upload_names
from ..database import data, db

pages = Blueprint("shots", __name__, template_folder="templates")
BESIDE = (".bin", ".mtl", ".png", ".jpg", ".jpeg", ".exr", ".hdr", ".ies", ".tif", ".tiff")
"""Suffixes of the files that scenes refer to."""


@pages.get("/")
def index():
    return _page()


def _page(problem: str | None = None):
    listed = shots.listed(db())
    accept = ",".join((*SCENES, *BESIDE))
    return render_template("shots.html", listed=listed, worker=jobs.worker(db()), problem=problem, accept=accept, scenes=SCENES, local=_local())


def _local() -> bool:
    """Whether only this machine reaches the pages, so that a path on it may be named."""
    return current_app.config["ACCESS_KEY"] is None


def file_name(given: str) -> str:
    """The last part of an uploaded file's name, as it is, since scenes name their files; empty where it is none."""
    name = given.replace("\\", "/").rsplit("/", 1)[-1].strip()
    return name if name.strip(".") and len(name) < 200 and name.isprintable() else ""


@pages.post("/shots")
def upload():
    """Open a scene file with the files that it refers to; they are kept in a folder of their own."""
    if request.form.get("path", "").strip():
        return _open_path(request.form["path"].strip())
    given = [(file_name(f.filename or ""), f) for f in request.files.getlist("files") if f.filename]
    folder: Path = data() / "uploads" / secrets.token_hex(8)
    try:
        main = check_upload_names([name for name, _ in given])
        folder.mkdir(parents=True)
        for name, file in given:
            if name:
                file.save(folder / name)
        shot = add_uploaded_shot(db(), folder, main)
    except InputError as error:
        shutil.rmtree(folder, ignore_errors=True)
        return _page(str(error)), 422
    return redirect(url_for("bench.page", slug=shot.slug))


def _open_path(path: str):
    """Open a scene where it lies on this machine."""
    try:
        if not _local():
            raise InputError("From another machine, choose the files themselves; a path can be opened on the machine alone that Sivrel runs on.")
        shot = add_shot_at(db(), Path(path).expanduser())
    except InputError as error:
        return _page(str(error)), 422
    return redirect(url_for("bench.page", slug=shot.slug))
