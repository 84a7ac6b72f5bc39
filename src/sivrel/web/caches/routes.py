"""The caches page: stored caches, their cost, their proofs, and whether they are still valid."""

import shutil
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, abort, jsonify, redirect, render_template, request, send_file, url_for
from flask.typing import ResponseReturnValue
from werkzeug.utils import secure_filename

from ...core.caches import Cache, CacheFolder, header_of
from ...core.edits.edits import to_json as edits_to_json
from ...core.errors import InputError
from ...core.render.recipe import Recipe, to_json
from ...store import caches as stored
from ...store import proofs, requests, shots
from ...work.intake import new_upload
from ...work.looking_in import inspect_cache_sandboxed
from ..asked import edits_of, proof_or_404, recipe_of, shot_or_404
from ..database import data, db
from ..numbers import whole_number
from ..words import thousands

pages = Blueprint("caches", __name__, template_folder="templates")


@dataclass(frozen=True)
class Line:
    """A cache as the page lists it."""

    digest: str
    cache: Cache
    shot: shots.Shot | None
    megabytes: float
    age: str
    proofs: list[int]
    kept: bool
    locked: bool
    picture: str | None

    @property
    def holds(self) -> str:
        count = self.cache.notes.get("count")
        return "" if count is None else f"{thousands(count)} {self.cache.notes.get('unit', '')}"


def _folder() -> CacheFolder:
    return CacheFolder(data() / "caches")


def _age(path: Path) -> str:
    minutes = (time.time() - path.stat().st_mtime) / 60.0
    if minutes < 120:
        return "just now" if minutes < 2 else f"{minutes:.0f} min ago"
    return f"{minutes / 60:.0f} h ago" if minutes < 2880 else f"{minutes / 1440:.0f} days ago"


@pages.get("/caches")
def page() -> ResponseReturnValue:
    return _page()


def _page(problem: str = "", status: int = 200) -> ResponseReturnValue:
    folder, used, used_in = _folder(), stored.used_by(db()), proofs.shots_of(db())
    all_shots = {shot.slug: shot for shot, _, _ in shots.listed(db())}
    by_id = {shot.id: shot for shot in all_shots.values()}
    lines = []
    for path, cache in folder.headers():
        digest = path.stem
        numbers = used.get(digest, [])
        shot = all_shots.get(cache.subject)
        if shot is None and numbers:
            shot = by_id.get(used_in[numbers[-1]])
        newest = proofs.get(db(), numbers[-1]) if numbers else None
        picture = newest.picture if newest else None
        size = path.stat().st_size / 1e6
        lines.append(Line(digest, cache, shot, size, _age(path), numbers, folder.marked(digest, "kept"), folder.marked(digest, "locked"), picture))
    total = sum(line.megabytes for line in lines)
    return render_template("caches.html", lines=lines, total=total, problem=problem), status


def _path(digest: str) -> Path:
    path = _folder().path(digest)
    if path is None or not path.is_file():
        abort(404)
    return path


@pages.post("/caches/<digest:digest>/<mark>")
def mark(digest: str, mark: str) -> ResponseReturnValue:
    """Mark a cache as kept or locked, or remove the mark (?off)."""
    _path(digest)
    if mark not in ("kept", "locked"):
        abort(404)
    _folder().mark(digest, mark, "off" not in request.args)
    return redirect(url_for("caches.page"))


@pages.post("/caches/<digest:digest>/delete")
def delete(digest: str) -> ResponseReturnValue:
    """Delete a cache; it can be restored until another one is deleted."""
    _path(digest)
    _folder().delete(digest)
    return redirect(url_for("caches.page", undo=digest))


@pages.post("/caches/undelete")
def undelete() -> ResponseReturnValue:
    """Restore the last deleted cache."""
    _folder().take_back()
    return redirect(url_for("caches.page"))


@pages.get("/caches/<digest:digest>.cache")
def export(digest: str) -> ResponseReturnValue:
    path = _path(digest)
    about = header_of(path)
    name = secure_filename(f"{about.subject}-{about.kind}-{digest[:8]}.cache".replace(" ", "-"))
    return send_file(path, mimetype="application/octet-stream", as_attachment=True, download_name=name)


@pages.post("/caches")
def import_() -> ResponseReturnValue:
    """Import a cache file if it is intact and of this version, or refuse it with a sentence."""
    file = request.files.get("file")
    if file is None or not file.filename:
        return _page("No file was chosen; choose a .cache file that was exported here.", 422)
    upload = new_upload(data())
    try:
        path = upload / (secure_filename(file.filename)[:100] or "cache")
        file.save(path)
        _folder().adopt(path, inspect_cache_sandboxed(path))
    except InputError as error:
        return _page(str(error), 422)
    finally:
        shutil.rmtree(upload, ignore_errors=True)
    return redirect(url_for("caches.page"))


def _ask(kind: str, shot: shots.Shot, body: dict[str, Any]) -> Response:
    return jsonify(question=requests.ask(db(), kind, shot.id, body))


@pages.post("/shots/<slug>/caches")
def state(slug: str) -> ResponseReturnValue:
    """Request which caches of a shot are fresh for its newest proof; the answer comes at /questions/N.json."""
    shot = shot_or_404(slug)
    newest = proofs.newest(db(), shot.id)
    return _ask("caches", shot, _of_proof(shot, newest if newest and newest.picture else None))


def _of_proof(shot: shots.Shot, proof: proofs.Proof | None) -> dict[str, Any]:
    if proof is None:
        return {"recipe": to_json(Recipe()), "edits": "{}", "camera": shot.cameras[0]["name"]}
    frame = proof.frame
    return {
        "recipe": to_json(proof.recipe), "edits": edits_to_json(proof.edits), "camera": proof.camera, "width": frame.width,
        "height": frame.height, "seed": frame.seed,
    }  # fmt: skip


@pages.post("/shots/<slug>/ways")
def ways(slug: str) -> ResponseReturnValue:
    """Request what the recipe on the page would have to prepare, and what is ready."""
    shot = shot_or_404(slug)
    form = request.form
    numbers = {name: form.get(name, type=whole_number) for name in ("width", "height", "seed")}
    edits = edits_to_json(edits_of(form.get("edits", "")))
    return _ask("ways", shot, {"recipe": to_json(recipe_of(form)), "edits": edits, "camera": form.get("camera"), **numbers})


@pages.post("/proofs/<int:proof_id>/preview")
def preview(proof_id: int) -> ResponseReturnValue:
    """Request the contents of a proof's cache (`digest`) that the proof's camera sees."""
    proof, digest = proof_or_404(proof_id), request.form.get("digest", "")
    if digest not in [way["digest"] for way in proof.meters.get("ways", [])]:
        abort(404)
    shot = shots.get(db(), proof.shot_id)
    return _ask("preview", shot, {**_of_proof(shot, proof), "digest": digest})
