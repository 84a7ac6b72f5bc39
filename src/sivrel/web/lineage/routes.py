"""The lineage: finding, naming, starring, thinning and deleting proofs."""

import functools
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, jsonify, render_template, request
from flask.typing import ResponseReturnValue
from markupsafe import Markup

from ...core.errors import InputError
from ...store import files, jobs, proofs, sequences, shots
from ..asked import proof_or_404, shot_or_404
from ..database import data, db
from ..numbers import whole_number
from .cards import Card, cards_of, lineage, to_thin, tree
from .flaws import FLAWS
from .search import wanted

pages = Blueprint("lineage", __name__, template_folder="templates")


WINDOW, MOST_CARDS = 120, 600
"""Number of cards shown at first, and at most."""


@dataclass(frozen=True)
class Window:
    """The shown range of cards; `around` is the number of a proof that must be included, 0 for none."""

    first: int | None = None
    count: int = WINDOW
    around: int = 0

    def over(self, numbers: list[int]) -> range:
        """The shown places of a list of proof numbers."""
        count = min(max(self.count, 1), MOST_CARDS)
        at = numbers.index(self.around) if self.around in numbers else None
        first = self.first
        if first is None or (at is not None and not first <= at < first + count):
            first = (len(numbers) if at is None else at + count // 2) - count
        first = max(0, min(first, len(numbers) - count))
        return range(first, min(len(numbers), first + count))


def lineage_values(shot: shots.Shot, find: str = "", flaw: str = "", window: Window | None = None) -> dict[str, Any]:
    """Values for lineage.html: a window of the matching cards, or of all."""
    window = window or Window()
    places = tree(proofs.links(db(), shot.id))
    if find.strip() or flaw:
        is_wanted = wanted(find, flaw)
        every = cards_of(places, {proof.id: proof for proof in proofs.of_shot(db(), shot.id)})
        found = [card for card in every if is_wanted(card)]
        shown = window.over([card.proof.id for card in found])
        cards, matching = [found[k] for k in shown], len(found)
    else:
        shown = window.over([place.number for place in places])
        seen = [places[k] for k in shown]
        numbers = [number for place in seen for number in (place.number, place.under) if number]
        cards, matching = cards_of(seen, proofs.some(db(), numbers)), len(places)
    return {
        "shot": shot, "cards": cards, "matching": matching, "of": len(places), "first": shown.start, "earlier": shown.start,
        "later": matching - shown.stop, "step": WINDOW, "deleted": proofs.deleted(db(), shot.id) + sequences.deleted(db(), shot.id),
    }  # fmt: skip


@pages.app_template_filter()
@functools.lru_cache(8192)
def as_card(card: Card) -> Markup:
    """A card's HTML, cached: cards do not change until their content does."""
    return Markup(render_template("card.html", card=card, p=card.proof))


@pages.get("/shots/<slug>/lineage")
def part(slug: str) -> ResponseReturnValue:
    """The cards; ?find= and ?flaw= narrow them; ?first= and ?count= select a range, and ?around= a proof that must be included."""
    asked = request.args
    first, count, around = (asked.get(name, type=whole_number) for name in ("first", "count", "around"))
    window = Window(first, count or WINDOW, around or 0)
    return render_template("lineage.html", **lineage_values(shot_or_404(slug), asked.get("find", ""), asked.get("flaw", ""), window))


@pages.post("/proofs/<int:proof_id>/name")
def name(proof_id: int) -> ResponseReturnValue:
    proof = proof_or_404(proof_id)
    proofs.say_name(db(), proof.id, request.form.get("name", ""), request.form.get("note", ""))
    return "", 204


@pages.post("/proofs/<int:proof_id>/star")
def star(proof_id: int) -> ResponseReturnValue:
    proof = proof_or_404(proof_id)
    proofs.star(db(), proof.id, not proof.starred)
    return jsonify(starred=not proof.starred)


@pages.post("/proofs/<int:proof_id>/delete")
def delete(proof_id: int) -> ResponseReturnValue:
    """Delete a proof; its descendants stay."""
    proof = proof_or_404(proof_id)
    jobs.cancel(db(), proof.id)
    return jsonify(moment=proofs.delete(db(), [proof.id]), count=1)


@pages.get("/shots/<slug>/thin.json")
def would_thin(slug: str) -> ResponseReturnValue:
    """The number of proofs that thinning would delete."""
    cards = lineage(proofs.of_shot(db(), shot_or_404(slug).id))
    return jsonify(count=len(to_thin(cards)), of=len(cards))


@pages.post("/shots/<slug>/thin")
def thin(slug: str) -> ResponseReturnValue:
    numbers = to_thin(lineage(proofs.of_shot(db(), shot_or_404(slug).id)))
    return jsonify(moment=proofs.delete(db(), numbers), count=len(numbers))


@pages.post("/shots/<slug>/restore")
def restore(slug: str) -> ResponseReturnValue:
    """Restore what was deleted at ?moment=, or last."""
    count = proofs.restore(db(), shot_or_404(slug).id, request.form.get("moment", ""))
    if not count:
        raise InputError("There is nothing to restore.")
    return jsonify(count=count)


@pages.post("/shots/<slug>/empty")
def empty(slug: str) -> ResponseReturnValue:
    """Delete for good what is in the bin, with its pictures."""
    shot = shot_or_404(slug)
    gone = proofs.empty(db(), shot.id) + sequences.empty(db(), shot.id)
    freed = 0
    for digest in gone:
        for path in files.all_of_picture(data(), digest):
            if path.is_file():
                freed += path.stat().st_size
                path.unlink()
    return jsonify(count=len(gone), megabytes=freed / 1e6)


def flaws() -> dict[str, str]:
    """Titles of the flaws that the lineage can be filtered by."""
    return {key: flaw.title for key, flaw in FLAWS.items()}
