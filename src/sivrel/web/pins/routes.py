"""Pins: set on the plate, and read on every proof."""

from flask import Blueprint, abort, jsonify, request
from flask.typing import ResponseReturnValue

from ...core.errors import InputError
from ...store import pins, proofs, requests
from ..asked import shot_or_404
from ..database import db
from ..numbers import finite_number, whole_number

pages = Blueprint("pins", __name__)
MOST_PINS = 24
MOST_READINGS = 200
"""Number of newest proofs whose readings a page gets."""


@pages.get("/shots/<slug>/pins.json")
def listed(slug: str) -> ResponseReturnValue:
    """The pins of a shot, and their readings on its last finished proofs, oldest first, and on ?proof=."""
    shot = shot_or_404(slug)
    finished, chosen = proofs.finished(db(), shot.id), request.args.get("proof", 0, type=whole_number)
    unread = pins.unread(db(), shot.id)
    finished = [number for k, number in enumerate(finished) if k >= len(finished) - MOST_READINGS or number == chosen]
    known = pins.readings(db(), shot.id, finished)
    rows = [
        {
            "id": pin.id, "name": pin.name, "box": pin.box, "view": pin.view,
            "readings": [{"proof": number, **reading} for number in finished if (reading := known.get((pin.id, number)))],
            "unread": unread[pin.id],
        }
        for pin in pins.of_shot(db(), shot.id)
    ]  # fmt: skip
    return jsonify(pins=rows)


@pages.post("/shots/<slug>/pins")
def add(slug: str) -> ResponseReturnValue:
    """Set a pin on the proof `proof`: box=left,top,right,bottom as shares of the frame, name."""
    shot, proof = shot_or_404(slug), proofs.get(db(), request.form.get("proof", 0, type=whole_number))
    if proof is None or proof.shot_id != shot.id:
        raise InputError("A pin is set on a proof; choose one first.")
    try:
        left, top, right, bottom = (finite_number(part) for part in request.form.get("box", "").split(","))
    except ValueError:
        raise InputError("A pin needs a place; click or drag on the plate.") from None
    if not (0.0 <= left <= right <= 1.0 and 0.0 <= top <= bottom <= 1.0):
        raise InputError("A pin lies on the picture; click or drag inside it.")
    there = pins.of_shot(db(), shot.id)
    if len(there) >= MOST_PINS:
        raise InputError(f"A shot has at most {MOST_PINS} pins; remove one first.")
    name = request.form.get("name", "").strip()[:60] or _next_name([pin.name for pin in there])
    number = pins.add(db(), shot.id, name, (left, top, right, bottom), proof.view)
    requests.ask(db(), "pins", shot.id, {})
    return jsonify(id=number, name=name)


def _next_name(taken: list[str]) -> str:
    return next(name for k in range(1, len(taken) + 2) if (name := f"pin {k}") not in taken)


@pages.post("/pins/<int:pin_id>")
def rename(pin_id: int) -> ResponseReturnValue:
    if pins.get(db(), pin_id) is None:
        abort(404)
    name = request.form.get("name", "").strip()[:60]
    if not name:
        raise InputError("A pin needs a name; write what it watches.")
    pins.rename(db(), pin_id, name)
    return "", 204


@pages.post("/pins/<int:pin_id>/remove")
def remove(pin_id: int) -> ResponseReturnValue:
    if pins.get(db(), pin_id) is None:
        abort(404)
    pins.remove(db(), pin_id)
    return "", 204
