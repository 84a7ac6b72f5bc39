"""Questions that the worker answers beside its renders: what reaches a spot, how a shot looks in plan, what a
survey of it finds."""

import base64
import functools
import io
import logging
import math
import sqlite3
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PIL import Image

from ..core.errors import InputError
from ..core.render.prepare import Prepared
from ..core.render.reach import what_reaches
from ..core.render.recipe import Recipe, from_json, with_values
from ..core.scene.edits import from_json as edits_from_json
from ..core.survey.finding import Finding
from ..core.survey.look import Look
from ..core.survey.plan import Drawing, plan_and_elevation
from ..core.survey.standpoint import seen_from
from ..core.survey.survey import survey as look_over
from ..core.trace.traverse import closest_hits
from ..store import database, proofs, questions, shots
from ..store.database import is_full
from .cache_answers import cache_state, preview, ways_state
from .diagnosis_answers import diagnose_proof, retest_proof
from .facts import light_facts
from .filtering import kept_filtered
from .pins import read_pins
from .room import FULL, when_there_is_room
from .tuning_answers import tune_proof

if TYPE_CHECKING:
    from .worker import Worker

POLL = 0.03
log = logging.getLogger(__name__)


def answer_questions(worker: "Worker") -> None:
    """Answer questions as they come, until the worker ends."""
    db = database.connect(worker.data)
    while not worker.ending.is_set():
        question = when_there_is_room(functools.partial(questions.take, db), lambda: True)
        if question is None:
            time.sleep(POLL)
            continue
        number, kind, shot_id, body = question
        if kind in LONG or kind in OF_PROOFS:
            threading.Thread(target=answer_at_length, args=(worker, number, kind, shot_id, body), daemon=True).start()
        else:
            _reply(db, number, functools.partial(_answer, worker, db, kind, shot_id, body))


def _reply(db: sqlite3.Connection, number: int, answer: Callable[[], dict[str, Any]]) -> None:
    """Answer a question with what `answer` returns, or say why there is none: the asker waits for one or the other."""
    told, problem = None, ""
    try:
        told = answer()
    except (InputError, OSError, MemoryError) as error:
        problem = FULL if is_full(error) else str(error) or "There is not enough memory for this."
    except Exception as error:
        log.exception("Question %d could not be answered.", number)
        problem = f"This could not be answered ({type(error).__name__}); the log in the data folder tells more."
    when_there_is_room(lambda: questions.answer(db, number, told, problem), lambda: True)


def _answer(worker: "Worker", db: sqlite3.Connection, kind: str, shot_id: int, body: dict[str, Any]) -> dict[str, Any]:
    """What is answered at once."""
    shot = shots.get(db, shot_id)
    if kind in OF_PICTURES:
        return OF_PICTURES[kind](worker.data, db, shot, body)
    # What a question needs is the scene; what bounced light needs is made for pictures alone.
    recipe = with_values(from_json(body["recipe"]), {"gi.seen": "off", "caustics.on": "no"})
    ready = worker.prepare(db, shot, recipe, edits_from_json(body["edits"]), body.get("camera"))
    return OF_CACHES[kind](worker.caches, ready, body) if kind in OF_CACHES else ANSWERS[kind](ready, body)


def answer_at_length(worker: "Worker", number: int, kind: str, shot_id: int, body: dict[str, Any]) -> None:
    """Answer what takes seconds in a thread of its own, part by part, until it is done or called off."""
    db = database.connect(worker.data)

    def tell(part: dict[str, Any]) -> bool:
        return questions.tell(db, number, {**part, "done": False})

    def answer() -> dict[str, Any]:
        if kind in OF_PROOFS:
            return {**OF_PROOFS[kind](worker, db, {**body, "shot": shot_id, "question": number}, tell), "done": True}
        recipe = from_json(body["recipe"])
        plain = with_values(recipe, {"gi.seen": "off", "caustics.on": "no"})
        ready = worker.prepare(db, shots.get(db, shot_id), plain, edits_from_json(body["edits"]), body.get("camera"))
        return {**LONG[kind](ready, recipe, tell), "done": True}

    try:
        _reply(db, number, answer)
    finally:
        db.close()


def survey(ready: Prepared, recipe: Recipe, tell: Callable[[dict[str, Any]], bool]) -> dict[str, Any]:
    def told(what: str, share: float, found: list[Finding]) -> bool:
        return tell({"what": what, "share": share, "findings": [finding.as_dict() for finding in found]})

    return look_over(ready, recipe, told).as_dict()


def seen_from_spot(ready: Prepared, body: dict[str, Any]) -> dict[str, Any]:
    return seen_from(Look(ready, Recipe()), np.array([body["x"], body["y"], body["z"]], float))


def reach(ready: Prepared, body: dict[str, Any]) -> dict[str, Any]:
    spot = what_reaches(ready, (body["width"], body["height"]), body["x"], body["y"])
    if spot is None:
        return {"object": None, "lights": []}
    return {"object": spot.object, "position": spot.position, "lights": [light.as_dict() for light in spot.lights]}


def drawing(drawn: Drawing) -> dict[str, Any]:
    """A drawing as the page needs it: the picture as a data address, and where it lies."""
    buffer = io.BytesIO()
    Image.fromarray(drawn.tones).save(buffer, "PNG")
    return {
        "picture": "data:image/png;base64," + base64.b64encode(buffer.getvalue()).decode(),
        "right": drawn.right.tolist(), "up": drawn.up.tolist(), "centre": drawn.centre.tolist(), "half": drawn.half,
        "lines": "".join("M{:.3f} {:.3f}L{:.3f} {:.3f}".format(*line) for line in drawn.lines.reshape(-1, 4).tolist()),
    }  # fmt: skip


def plan(ready: Prepared, body: dict[str, Any]) -> dict[str, Any]:
    first, second = plan_and_elevation(ready.scene, ready.arrays, ready.camera, body.get("height"), body.get("behind"))
    axes = ready.camera.to_world
    camera = {"at": axes[:, 3].tolist(), "forward": (-axes[:, 2]).tolist(), "right": axes[:, 0].tolist(), "half": ready.camera.half_width}
    return {"plan": drawing(first), "elevation": drawing(second), "lights": light_facts(ready.scene), "camera": camera}


def camera(ready: Prepared, body: dict[str, Any]) -> dict[str, Any]:
    """Where a camera stands and looks, how wide it sees, and how far what stands in the middle of its picture is, in metres."""
    world = ready.camera.to_world
    origin, ahead = world[:, 3], -world[:, 2]
    _, distances = closest_hits(
        ready.arrays.bvh, origin[None].astype(np.float32), ahead[None].astype(np.float32), np.float32(0.0), np.float32(1e30)
    )  # fmt: skip
    low, high = ready.scene.bounds()
    size = float(np.linalg.norm(high - low))
    distance = float(distances[0]) if distances[0] < 1e29 else size / 4.0
    return {
        "at": origin.tolist(), "ahead": ahead.tolist(), "distance": distance, "size": size,
        "view": math.degrees(2.0 * math.atan(ready.camera.half_width)), "orthographic": ready.camera.orthographic,
    }  # fmt: skip


def filter_picture(data: Path, db: sqlite3.Connection, shot: shots.Shot, body: dict[str, Any]) -> dict[str, Any]:
    """Filter a picture, once, beside it; says how much of it was smeared, and mostly which object."""
    kept = kept_filtered(data, body["picture"])
    return {"smeared": float(kept["smeared"]), "object": int(kept["most"])}


def pins_read(worker: "Worker", db: sqlite3.Connection, body: dict[str, Any], tell: Callable[[dict[str, Any]], bool]) -> dict[str, Any]:
    """Read the pins of a shot off all its finished proofs. One at a time: the next finds most of them read."""
    with READING_PINS:
        shot = shots.get(db, body["shot"])
        return {"read": read_pins(worker.data, db, shot, proofs.finished(db, shot.id), lambda read: tell({"read": read}))}


READING_PINS = threading.Lock()
OF_PICTURES = {"filter": filter_picture}
ANSWERS = {"reach": reach, "plan": plan, "camera": camera, "seen_from": seen_from_spot}
LONG = {"survey": survey}
OF_PROOFS = {"diagnose": diagnose_proof, "retest": retest_proof, "tune": tune_proof, "pins": pins_read}
OF_CACHES = {"ways": ways_state, "caches": cache_state, "preview": preview}
