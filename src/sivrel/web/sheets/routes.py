"""Contact sheets: selected proofs with their settings and times, as PNG or PDF."""

from flask import Blueprint, Response, request
from flask.typing import ResponseReturnValue

from ...core.errors import InputError
from ...core.finish.finishing import finish_from
from ...store import files, proofs
from ..asked import finished_as_asked, shot_or_404
from ..database import data, db
from ..words import changes, in_one_line, noise_of, seconds
from .layout import MOST_PROOFS, Frame, contact_sheet

pages = Blueprint("sheets", __name__)
KINDS = {"png": ("PNG", "image/png"), "pdf": ("PDF", "application/pdf")}


@pages.get("/shots/<slug>/sheet.<kind>")
def sheet(slug: str, kind: str) -> ResponseReturnValue:
    """The proofs ?proofs=3,5,9 of a shot, or its starred ones, finished like the shot's pictures; kind: png or pdf."""
    shot = shot_or_404(slug)
    if kind not in KINDS:
        raise InputError(f"A contact sheet is made as png or pdf, not as {kind}.")
    by_id = {proof.id: proof for proof in proofs.of_shot(db(), shot.id)}
    chosen = finished_as_asked(by_id) if "proofs" in request.args else [p for p in by_id.values() if p.starred and p.picture]
    if not chosen:
        raise InputError("There are no proofs for the sheet; star some finished proofs first, or list them in the URL.")
    if len(chosen) > MOST_PROOFS:
        raise InputError(f"A sheet holds at most {MOST_PROOFS} proofs; star fewer.")
    frames = []
    for proof in chosen:
        assert proof.picture is not None
        parent = by_id.get(proof.parent_id or 0)
        said = (in_one_line(changes(parent, proof)) if parent else "") or "as it came"
        settings = finish_from({"exposure": shot.exposure(proof.camera, proof.edits), **shot.finish})
        size = f"{proof.frame.width}×{proof.frame.height}, {proof.recipe.sampling.max} samples"
        figures = f"{seconds(proof.seconds)} · noise {noise_of(proof)} · {size}"
        frames.append(Frame(files.picture_path(data(), proof.picture), settings, proof.name or f"Proof {proof.id}", said, figures, proof.note))
    form, mimetype = KINDS[kind]
    return Response(
        contact_sheet(shot.title, frames, form), mimetype=mimetype, headers={"Content-Disposition": f'inline; filename="{shot.slug}.{kind}"'}
    )
