"""Compare: two to four proofs side by side, with their visible differences and settings."""

from typing import Any

from flask import Blueprint, render_template
from flask.typing import ResponseReturnValue

from ...core.errors import InputError
from ...core.finish.view import VIEWS
from ...store import pins, proofs
from ..asked import finished_as_asked, shot_or_404
from ..database import db
from ..pictures.routes import LUT
from ..words import changes

pages = Blueprint("compare", __name__, template_folder="templates")
LETTERS = "ABCD"


@pages.get("/shots/<slug>/compare")
def page(slug: str) -> ResponseReturnValue:
    """?proofs=3,5,9: two to four of the shot's proofs; the others are compared with the first."""
    shot = shot_or_404(slug)
    by_id = {proof.id: proof for proof in proofs.of_shot(db(), shot.id) if proof.picture}
    chosen = finished_as_asked(by_id)[: len(LETTERS)]
    if len(chosen) < 2:
        raise InputError("Choose two to four finished proofs of a shot to compare; on the bench, ◫ on a card compares it with the selected one.")
    columns = [{"letter": letter, "proof": proof, "changed": changes(chosen[0], proof)} for letter, proof in zip(LETTERS, chosen, strict=False)]
    return render_template(
        "compare.html", shot=shot, columns=columns, changed=changed_lines(chosen), ledger=ledger_lines(chosen), pins=pin_lines(shot.id, chosen),
        views=VIEWS, others=[proof for proof in by_id.values() if proof not in chosen], numbers=[proof.id for proof in chosen],
        lut=LUT,
    )  # fmt: skip


def changed_lines(chosen: list[proofs.Proof]) -> list[dict[str, Any]]:
    """Each setting in which any proof differs from the first, with all values; None where it equals the first's."""
    columns = [{name: (before, after) for name, before, after in changes(chosen[0], proof)} for proof in chosen]
    lines = []
    for name in dict.fromkeys(name for one in columns for name in one):
        before = next(one[name][0] for one in columns if name in one)
        lines.append({"name": name, "values": [before, *(one[name][1] if name in one else None for one in columns[1:])]})
    return lines


def processor_seconds(proof: proofs.Proof) -> float:
    """Seconds of all processors that a proof took; by the clock where those were not measured yet."""
    return float(proof.meters.get("spent", {}).get("processor") or proof.seconds or 0.0)


def ledger_lines(chosen: list[proofs.Proof]) -> list[dict[str, Any]]:
    """Each source of light and noise with its share of time and of noise in every proof, largest changes first."""
    names = list(dict.fromkeys(row["name"] for proof in chosen for row in proof.lights))
    lines = []
    for name in names:
        rows = [next((row for row in proof.lights if row["name"] == name), {}) for proof in chosen]
        seconds = [(row.get("time") or 0.0) * processor_seconds(proof) for row, proof in zip(rows, chosen, strict=True)]
        noise = [row.get("noise") for row in rows]
        lines.append({"name": name, "seconds": seconds, "noise": noise})
    return sorted(lines, key=lambda line: -(max(line["seconds"]) - min(line["seconds"])))


def pin_lines(shot_id: int, chosen: list[proofs.Proof]) -> list[dict[str, Any]]:
    known = pins.readings(db(), shot_id, [proof.id for proof in chosen])
    return [{"name": pin.name, "readings": [known.get((pin.id, proof.id)) for proof in chosen]} for pin in pins.of_shot(db(), shot_id)]
