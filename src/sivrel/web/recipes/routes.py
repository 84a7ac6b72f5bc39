"""Recipes: saved under a name, with a reason and a picture; used as starting points, compared, imported and exported."""

from dataclasses import dataclass

from flask import Blueprint, Response, abort, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue
from werkzeug.utils import secure_filename

from ...core.errors import InputError
from ...core.render.recipe import Recipe
from ...core.render.starting import FIRST, STARTING, named_from_json, named_to_json
from ...store import proofs, recipes
from ..asked import form_values, proof_or_404, recipe_of
from ..database import db
from ..numbers import whole_number
from ..words import recipe_changes

pages = Blueprint("recipes", __name__, template_folder="templates")
MOST_BYTES = 1 << 20


@dataclass(frozen=True)
class Entry:
    """A recipe of the page. key: “own:3”, “start:exterior” or “plain”; says: its differences from the program's default, in words."""

    key: str
    name: str
    reason: str
    recipe: Recipe
    says: list[tuple[str, str, str]]
    picture: str | None = None
    number: int | None = None
    is_default: bool = False


def entries() -> list[Entry]:
    """All recipes: the artist's own, starting recipes, and the program's default."""
    own = [
        Entry(f"own:{r.id}", r.name, r.reason, r.recipe, recipe_changes(Recipe(), r.recipe), r.picture, r.id, r.is_default)
        for r in recipes.listed(db())
    ]  # fmt: skip
    first = None if any(entry.is_default for entry in own) else FIRST
    start = [
        Entry(f"start:{key}", s.title, s.reason, s.recipe(), recipe_changes(Recipe(), s.recipe()), is_default=key == first)
        for key, s in STARTING.items()
    ]  # fmt: skip
    plain = Entry("plain", "Brute force, default settings", "Unbiased wherever paths can find the light; grain is its only flaw.", Recipe(), [])
    return [*own, *start, plain]


def by_key(key: str) -> Entry | None:
    return next((entry for entry in entries() if entry.key == key), None)


@pages.get("/recipes")
def page() -> ResponseReturnValue:
    """All recipes; ?a= and ?b= are compared."""
    return _page()


def _page(problem: str = "", status: int = 200) -> ResponseReturnValue:
    all_entries = entries()
    a, b = (next((e for e in all_entries if e.key == request.args.get(which)), None) for which in "ab")
    between = recipe_changes(a.recipe, b.recipe) if a and b else []
    return render_template("recipes.html", entries=all_entries, a=a, b=b, between=between, problem=problem), status


@pages.post("/recipes")
def keep() -> ResponseReturnValue:
    """Name the recipe of a form, with the picture of ?proof=."""
    form = request.form
    proof = proofs.get(db(), form.get("proof", 0, type=whole_number))
    recipe = recipe_of(form)
    picture = proof.picture if proof is not None and proof.recipe == recipe else None
    number = recipes.name(db(), form.get("recipe_name", ""), form.get("reason", ""), recipe, picture)
    return jsonify(id=number, name=form.get("recipe_name", ""))


@pages.get("/recipes/<key>.json")
def values(key: str) -> ResponseReturnValue:
    """A recipe's values by key, for a form; or as a file with ?download."""
    entry = by_key(key)
    if entry is None:
        abort(404)
    if "download" in request.args:
        name = secure_filename(entry.name) or "recipe"
        text = named_to_json(entry.recipe, entry.name, entry.reason)
        return Response(text, mimetype="application/json", headers={"Content-Disposition": f'attachment; filename="{name}.json"'})
    return jsonify(name=entry.name, values=form_values(entry.recipe))


@pages.post("/recipes/import")
def import_() -> ResponseReturnValue:
    """Import a recipe file; nothing is overwritten."""
    file = request.files.get("file")
    try:
        if file is None or not file.filename:
            raise InputError("Choose a recipe file that was exported here.")
        text = file.read(MOST_BYTES + 1)
        if len(text) > MOST_BYTES:
            raise InputError(f"{file.filename} is too large for a recipe.")
        name, reason, recipe = named_from_json(text)
        recipes.name(db(), name or file.filename.removesuffix(".json"), reason, recipe)
    except InputError as error:
        return _page(str(error), 422)
    return redirect(url_for("recipes.page"))


def _own(number: int) -> recipes.Named:
    found = recipes.get(db(), number)
    if found is None:
        abort(404)
    return found


@pages.post("/recipes/<int:number>/default")
def default(number: int) -> ResponseReturnValue:
    """Make it the default of new shots; ?off: the program's own."""
    recipes.set_default(db(), None if "off" in request.args else _own(number).id)
    return redirect(url_for("recipes.page"))


@pages.post("/recipes/<int:number>/delete")
def delete(number: int) -> ResponseReturnValue:
    recipes.remove(db(), _own(number).id)
    return redirect(url_for("recipes.page"))


@pages.get("/proofs/<int:proof_id>/recipe.json")
def of_proof(proof_id: int) -> ResponseReturnValue:
    """The recipe of a proof as a file."""
    proof = proof_or_404(proof_id)
    text = named_to_json(proof.recipe, proof.name or f"proof {proof.id}", proof.note)
    return Response(text, mimetype="application/json", headers={"Content-Disposition": f'attachment; filename="proof-{proof.id}.json"'})
