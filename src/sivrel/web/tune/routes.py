"""Tune: ladder, budget, match and advice of a proof, each on its own page with earlier results."""

import json
from dataclasses import replace
from typing import Any

from flask import Blueprint, Response, abort, jsonify, render_template, request, url_for
from flask.typing import ResponseReturnValue

from ...core.edits.edits import apart, with_edits
from ...core.errors import InputError
from ...core.measure.difference import PIXELS_PER_DEGREE
from ...core.render.frame import Frame
from ...core.render.recipe import with_values
from ...core.shadows.ways import WAYS as SHADOW_WAYS
from ...core.tune.candidates import Candidate, candidate, candidates, usual
from ...core.tune.varied import MOST_CELLS, about, varied
from ...store import jobs, proofs, requests, shots, tunings
from ...store.database import transaction
from ..asked import proof_or_404, region_of, scene_or_refuse
from ..database import db
from ..numbers import finite_number, whole_number
from .offers import offer_of
from .tables import csv_of
from .views import drawn_of, spot_to_tune, varied_settings

pages = Blueprint("tune", __name__, template_folder="templates")
KINDS = {
    "ladder": ("Ladder", "How high is high enough?"),
    "budget": ("Budget", "Where does the next second go?"),
    "match": ("Match", "Which way wins on this shot?"),
    "advice": ("Advice", "Which way should this shot use, and why?"),
}
"""Title, and the question it answers."""
SHADOWS_TO_MATCH = {f"+{way.key}": way.title for way in SHADOW_WAYS}
LEAST_SECONDS, MOST_SECONDS = 1.0, 86400.0


@pages.get("/proofs/<int:proof_id>/<any(ladder, budget, match, advice):kind>")
def page(proof_id: int, kind: str) -> ResponseReturnValue:
    """The page of one kind for a proof: ?made=N shows an earlier one, else the newest; ?key= and ?region= fill the form."""
    proof = proof_or_404(proof_id)
    if proof.picture is None:
        raise InputError("This proof has no picture yet; wait until it is done.")
    shot = shots.get(db(), proof.shot_id)
    scene_or_refuse(shot)
    made = tunings.of_proof(db(), proof.id, kind)
    wanted = request.args.get("made", 0, type=whole_number)
    shown = next((one for one in made if one.id == wanted), made[0] if made else None)
    asked = shown.asked if shown and not request.args.get("key") else {}
    form = {
        "seconds": request.args.get("seconds", type=finite_number)
        or asked.get("seconds")
        or {"ladder": 60, "budget": _usual_budget(proof), "match": 20, "advice": 60}[kind],
        "noise": round(100.0 * asked["noise"], 2) if asked.get("noise") else "",
        "region": request.args.get("region") or ",".join(map(str, asked.get("region") or spot_to_tune(proof, kind) or [])),
        "per_degree": asked.get("per_degree", PIXELS_PER_DEGREE),
        "filtered": asked.get("filtered", False),
        "in_motion": asked.get("in_motion", False),
        "vary": [(key, ", ".join(f"{v:g}" for v in values)) for key, values in asked.get("vary", {}).items()],
        "key": request.args.get("key", ""),
        "ways": request.args["ways"].split(",") if request.args.get("ways") else asked.get("ways") or usual(),
        "size": asked.get("size") or [proof.frame.width, proof.frame.height],
    }
    exposure = shot.exposure(proof.camera, proof.edits)
    return render_template(
        "tune.html", kind=kind, kinds=KINDS, shot=shot, proof=proof, made=made, shown=shown, form=form, exposure=exposure,
        settings=varied_settings(proof) if kind == "ladder" else [], ways=_ways(form["ways"], proof),
        shadow_ways=SHADOWS_TO_MATCH, **(_drawn(shown, proof) if shown else {}),
    )  # fmt: skip


def _ways(asked: list[str], proof: proofs.Proof) -> list[Candidate]:
    """The default ways, and additional ones. Raises InputError."""
    others = [name for name in asked if name not in usual() and name not in SHADOWS_TO_MATCH]
    return [candidate(name, proof.recipe) for name in (*usual(), *others)]


def _usual_budget(proof: proofs.Proof) -> float:
    """Twice the proof's time, rounded."""
    return max(10.0, round(2.0 * (proof.seconds or 10.0), -1))


def _drawn(one: tunings.Tuning, proof: proofs.Proof) -> dict[str, Any]:
    """Template values of a result."""
    applied = [(a, proofs.get(db(), a.proof_id)) for a in tunings.applied_of(db(), one.id)]
    return {"one": one, "result": one.result, "applied": [(a, p) for a, p in applied if p], "drawn": drawn_of(one) if one.result else {}}


@pages.get("/tunings/<int:number>/part")
def part(number: int) -> ResponseReturnValue:
    """The result so far, as shown on its page."""
    one = _one_or_404(number)
    proof = proof_or_404(one.proof_id)
    return render_template(f"{one.kind}.html", proof=proof, shot=shots.get(db(), proof.shot_id), kind=one.kind, **_drawn(one, proof))


@pages.post("/proofs/<int:proof_id>/<any(ladder, budget, match, advice):kind>")
def start(proof_id: int, kind: str) -> ResponseReturnValue:
    """Start one with the form's values; its parts come at /questions/N.json and /tunings/N/part."""
    proof = proof_or_404(proof_id)
    shot = shots.get(db(), proof.shot_id)
    scene_or_refuse(shot)
    asked = ASKED[kind](proof)
    number = tunings.add(db(), proof.id, kind, asked)
    question = requests.ask(db(), "tune", shot.id, {"tuning": number})
    tunings.set_question(db(), number, question)
    return jsonify(question=question, tuning=number)


def _one_or_404(number: int) -> tunings.Tuning:
    one = tunings.get(db(), number)
    if one is None:
        abort(404)
    return one


def _number(name: str, what: str, least: float, most: float) -> float:
    text = request.form.get(name, "").replace(",", ".").strip()
    try:
        value = finite_number(text)
    except ValueError:
        raise InputError(f"{what} can't be “{text}”; give a number from {least:g} to {most:g}.") from None
    if not least <= value <= most:
        raise InputError(f"{what} can't be {value:g}; give a number from {least:g} to {most:g}.")
    return value


def _region(proof: proofs.Proof) -> list[int] | None:
    region = region_of(request.form.get("region", ""))
    if region is not None:
        Frame(proof.frame.width, proof.frame.height, region)
    return list(region) if region else None


def _asked_ladder(proof: proofs.Proof) -> dict[str, Any]:
    vary: dict[str, list[float]] = {}
    for place in ("", "2"):
        key = request.form.get(f"key{place}", "").strip()
        if not key:
            continue
        if key in vary:
            raise InputError("The two settings are the same; choose another for the second, or none.")
        values = [part for part in request.form.get(f"values{place}", "").replace(";", ",").split(",") if part.strip()]
        if values:
            vary[key] = list(varied(key, values, proof.recipe, proof.edits).values)
        else:
            about(key, proof.recipe, proof.edits)
            vary[key] = []
    if not vary:
        raise InputError("Choose a setting to vary.")
    if len(vary) == 2 and all(vary.values()) and len(list(vary.values())[0]) * len(list(vary.values())[1]) > MOST_CELLS:
        raise InputError(f"A grid has {MOST_CELLS} renders at most; give fewer rungs.")
    return {
        "vary": vary, "region": _region(proof), "seconds": _number("seconds", "The time", LEAST_SECONDS, MOST_SECONDS),
        "per_degree": _number("per_degree", "The viewing distance", 5.0, 300.0), "filtered": "filtered" in request.form,
        "in_motion": "in_motion" in request.form,
    }  # fmt: skip


def _asked_budget(proof: proofs.Proof) -> dict[str, Any]:
    size = [int(_number(name, f"The {name}", 16, 16384)) for name in ("width", "height")]
    if request.form.get("noise", "").strip():
        return {"noise": _number("noise", "The noise in per cent", 0.1, 100.0) / 100.0, "seconds": None, "size": size}
    return {"seconds": _number("seconds", "The time", LEAST_SECONDS, MOST_SECONDS), "noise": None, "size": size}


def _asked_match(proof: proofs.Proof) -> dict[str, Any]:
    ways = request.form.getlist("ways")
    candidates(ways or ["-"], proof.recipe)
    seconds = _number("seconds", "The time", LEAST_SECONDS, MOST_SECONDS)
    how = {name: name in request.form for name in ("filtered", "in_motion")}
    return {"ways": ways, "region": _region(proof), "seconds": seconds, **how}


def _asked_advice(proof: proofs.Proof) -> dict[str, Any]:
    return {"seconds": _number("seconds", "The time", LEAST_SECONDS, MOST_SECONDS)}


ASKED = {"ladder": _asked_ladder, "budget": _asked_budget, "match": _asked_match, "advice": _asked_advice}


@pages.post("/tunings/<int:number>/prove")
def prove(number: int) -> ResponseReturnValue:
    """Render what one offers (`offer`: its number in the list) as a child of its proof, with what it predicts, and go to the bench."""
    one = _one_or_404(number)
    proof = proof_or_404(one.proof_id)
    found = offer_of(one, request.form.get("offer", 0, type=whole_number))
    values, laid = apart(found.changes)
    recipe, edits = with_values(proof.recipe, values), with_edits(proof.edits, laid)
    width, height = one.asked.get("size") or (proof.frame.width, proof.frame.height)
    same_size = (width, height) == (proof.frame.width, proof.frame.height)
    frame = replace(proof.frame, width=width, height=height, region=proof.frame.region if same_size else None)
    with transaction(db()):
        guess = found.predicted.get("seconds")
        child = jobs.add_proof(db(), proof.shot_id, proof.id, recipe, proof.camera, frame, edits=edits, note=found.words, guess=guess)
        tunings.apply(db(), child, one.id, found.words, found.predicted)
    shot = shots.get(db(), proof.shot_id)
    return jsonify(proof=child, bench=url_for("bench.page", slug=shot.slug, proof=child))


@pages.get("/tunings/<int:number>.json")
def as_json(number: int) -> ResponseReturnValue:
    one = _one_or_404(number)
    return Response(
        json.dumps({"kind": one.kind, "proof": one.proof_id, "asked": one.asked, "result": one.result}, indent=1), mimetype="application/json"
    )


@pages.get("/tunings/<int:number>.csv")
def as_csv(number: int) -> ResponseReturnValue:
    return Response(csv_of(_one_or_404(number)), mimetype="text/csv")
