"""The shots page: what there is to work on, and how a scene of one's own is opened."""

import secrets
import shutil
from pathlib import Path

from flask import Blueprint, redirect, render_template, request, url_for
from werkzeug.utils import secure_filename

from ...core.errors import InputError
from ...store import jobs, shots
from ...work.intake import add_uploaded_shot, check_upload_names
from ..database import data, db

pages = Blueprint("shots", __name__, template_folder="templates")


@pages.get("/")
def index():
    return _page()


def _page(problem: str | None = None):
    listed = shots.listed(db())
    return render_template("shots.html", listed=listed, worker=jobs.worker(db()), problem=problem)


@pages.post("/shots")
def upload():
    """Open a scene file with the files that it refers to; they are kept in a folder of their own."""
    given = [(secure_filename(f.filename or ""), f) for f in request.files.getlist("files") if f.filename]
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
