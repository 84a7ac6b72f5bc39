"""What the worker answers about tuning: ladders, budgets, matches and advice of a proof, one at a time, so that their times are true."""

import sqlite3
import threading
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np

from ..core.diagnose.stand import Stand
from ..core.errors import InputError
from ..core.formats.scenes import two_frames
from ..core.measure.difference import PIXELS_PER_DEGREE
from ..core.render.frame import Frame
from ..core.tune.advice import advise
from ..core.tune.budget import plan_budget
from ..core.tune.candidates import candidates
from ..core.tune.facts import measure_facts, motion_between
from ..core.tune.ladder import climb, rungs_of
from ..core.tune.match import run_match
from ..store import proofs, shots, tunings
from .diagnosis_answers import heard, kept_small, stand_of

if TYPE_CHECKING:
    from .worker import Worker

Tell = Callable[[dict[str, Any]], bool]
AT_A_TIME = threading.Lock()
"""Held by the one that renders: two at once would each be timed at half the speed."""
MOST_SIDE = 480
"""Pixels of the sides of pictures that are kept of a tuning, at most."""


class _Teller:
    """Keeps each part in the store, with pictures as PNG, and tells the page that it is there."""

    def __init__(self, worker: "Worker", db: sqlite3.Connection, tuning: tunings.Tuning, exposure: float, tell: Tell) -> None:
        self.worker, self.db, self.tuning, self.exposure, self.tell = worker, db, tuning, exposure, tell
        self.names: dict[int, tuple[Any, str]] = {}
        self.disturbed = False

    def __call__(self, what: str, share: float, made: Any) -> bool:
        self.keep(made)
        return self.tell({"what": what, "share": share, "tuning": self.tuning.id})

    def keep(self, made: Any) -> None:
        self.disturbed |= self.worker.render_on_its_way is not None
        tunings.keep(self.db, self.tuning.id, {**self._with_names(made.as_dict()), "disturbed": self.disturbed})

    def _with_names(self, told: Any) -> Any:
        """The same, each array of colours in place of its name among the small pictures."""
        if isinstance(told, dict):
            return {key: self._with_names(value) for key, value in told.items()}
        if isinstance(told, list):
            return [self._with_names(value) for value in told]
        if isinstance(told, np.ndarray):
            if id(told) not in self.names:
                step = max(1, -(-max(told.shape[:2]) // MOST_SIDE))
                self.names[id(told)] = told, kept_small(self.worker.data, told[::step, ::step], self.exposure)
            return self.names[id(told)][1]
        return told


def tune_proof(worker: "Worker", db: sqlite3.Connection, body: dict[str, Any], tell: Tell) -> dict[str, Any]:
    """Make what was asked of a proof, part by part."""
    tuning = tunings.get(db, body["tuning"])
    proof = proofs.get(db, tuning.proof_id) if tuning else None
    if tuning is None or proof is None:
        raise InputError("The proof that this was asked of is gone; choose another.")
    tell({"what": "waiting for another ladder, budget or match to end", "share": 0.0, "tuning": tuning.id})
    problem = ""
    try:
        with AT_A_TIME:
            _tune(worker, db, tuning, proof, body["question"], tell)
    except (InputError, OSError) as error:
        problem = str(error)
        raise
    except Exception as error:
        problem = f"This could not be done ({type(error).__name__}: {error})."
        raise
    finally:
        tunings.end(db, tuning.id, problem)
    return {"tuning": tuning.id}


def _tune(worker: "Worker", db: sqlite3.Connection, tuning: tunings.Tuning, proof: proofs.Proof, question: int, tell: Tell) -> None:
    shot, asked = shots.get(db, proof.shot_id), tuning.asked
    width, height = asked.get("size") or (proof.frame.width, proof.frame.height)
    region = tuple(asked["region"]) if asked.get("region") else None
    frame = Frame(width, height, region, proof.frame.seed)
    stand = stand_of(worker, db, shot, proof)
    stand.frame = Frame(width, height, None, proof.frame.seed)
    exposure = shot.exposure(proof.camera, proof.edits)
    teller = _Teller(worker, db, tuning, exposure, tell)
    if not tell({"what": "making the shot ready", "share": 0.01, "tuning": tuning.id}):
        return
    with heard(worker, question, stand):
        made = MAKE[tuning.kind](worker, shot, proof, stand, frame, exposure, asked, teller)
    if made is not None:
        teller.keep(made)


def _ladder(
    worker: "Worker", shot: shots.Shot, proof: proofs.Proof, stand: Stand, frame: Frame, exposure: float, asked: dict[str, Any], told: "_Teller"
) -> Any:
    chosen = [rungs_of(stand, key, values or None, exposure) for key, values in asked["vary"].items()]
    return climb(stand, chosen, frame, exposure, told, seconds=asked["seconds"], per_degree=asked.get("per_degree", PIXELS_PER_DEGREE))


def _budget(
    worker: "Worker", shot: shots.Shot, proof: proofs.Proof, stand: Stand, frame: Frame, exposure: float, asked: dict[str, Any], told: "_Teller"
) -> Any:
    return plan_budget(stand, frame, told, seconds=asked.get("seconds"), noise=asked.get("noise"))


def _match(
    worker: "Worker", shot: shots.Shot, proof: proofs.Proof, stand: Stand, frame: Frame, exposure: float, asked: dict[str, Any], told: "_Teller"
) -> Any:
    return run_match(stand, candidates(asked.get("ways", []), stand.recipe), frame, told, seconds=asked["seconds"])


def _advice(
    worker: "Worker", shot: shots.Shot, proof: proofs.Proof, stand: Stand, frame: Frame, exposure: float, asked: dict[str, Any], told: "_Teller"
) -> Any:
    frames = two_frames(shot.path, confine_to=shot.confine_to) if stand.scene.animated else None
    motion = motion_between(*frames, proof.camera) if frames else None
    seconds = asked["seconds"]
    facts = measure_facts(
        stand, frame, exposure, motion,
        lambda what, share, so_far: told(what, share, advise(so_far, stand.recipe, seconds=seconds, complete=False)), seconds=seconds,
    )  # fmt: skip
    return None if facts is None else advise(facts, stand.recipe, seconds=seconds)


MAKE = {"ladder": _ladder, "budget": _budget, "match": _match, "advice": _advice}
