"""What a request asks about: a shot, a proof, and the recipe and edits of a form."""

import json

from flask import abort
from werkzeug.datastructures import MultiDict

from ..core.errors import InputError
from ..core.render.recipe import Recipe, settings, with_values
from ..core.scene.edits import Edits, with_edits
from ..store import proofs, shots
from .database import db

MOST_EDITS = 1 << 20


def shot_or_404(slug: str) -> shots.Shot:
    shot = shots.find(db(), slug)
    if shot is None:
        abort(404)
    return shot


def proof_or_404(proof_id: int) -> proofs.Proof:
    proof = proofs.get(db(), proof_id)
    if proof is None:
        abort(404)
    return proof


def recipe_of(form: MultiDict) -> Recipe:
    """The recipe that a form holds; keys that it has not take their defaults. Raises InputError."""
    return with_values(Recipe(), {key: form[key] for key in settings() if key in form})


def edits_of(text: str) -> Edits:
    """Edits from the flat JSON of a form. Raises InputError."""
    if len(text) > MOST_EDITS:
        raise InputError("There are too many edits for one shot; write them out as a USD layer and open that.")
    try:
        flat = json.loads(text or "{}")
    except ValueError:
        flat = None
    if not isinstance(flat, dict) or any(isinstance(value, dict | list) for value in flat.values()):
        raise InputError("The edits on this page could not be read; reload it and make them again.")
    return with_edits(Edits(), flat)
