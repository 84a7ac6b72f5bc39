"""Requests for tuning: ladders, budgets, matches and advice of a proof, one at a time, so that their times are valid."""

import threading
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..core.diagnose.trial_renderer import TrialRenderer
from ..core.errors import Cancelled, InputError
from ..core.formats.scenes import two_frames
from ..core.measure.difference import PIXELS_PER_DEGREE
from ..core.render.frame import Frame
from ..core.sequence.trials import judge_in_motion
from ..core.tune.advice import advise
from ..core.tune.budget import plan_budget
from ..core.tune.candidates import candidates
from ..core.tune.facts import Facts, measure_facts, motion_between
from ..core.tune.in_motion import JudgeInMotion
from ..core.tune.ladder import climb, rungs_of
from ..core.tune.match import run_match
from ..store import proofs, shots, tunings
from .diagnosis_handlers import kept_small, renderer_of
from .request import Request

AT_A_TIME = threading.Lock()
"""Held by the running one: two at once would be timed at half the speed."""
MOST_SIDE = 480
"""Largest side in pixels of stored pictures of a tuning."""


class _Keeper:
    """Stores each part, with pictures as PNG."""

    def __init__(self, request: Request, tuning: tunings.Tuning, exposure: float) -> None:
        self.request, self.tuning, self.exposure = request, tuning, exposure
        self.names: dict[int, tuple[Any, str]] = {}
        self.disturbed = False

    def keep(self, made: Any) -> None:
        self.disturbed |= self.request.worker.render_on_its_way is not None
        tunings.keep(self.request.db, self.tuning.id, {**self._with_names(made.as_dict()), "disturbed": self.disturbed})

    def _with_names(self, value: Any) -> Any:
        """The same, with each array of colours replaced by the name of its stored picture."""
        if isinstance(value, dict):
            return {key: self._with_names(inner) for key, inner in value.items()}
        if isinstance(value, list):
            return [self._with_names(inner) for inner in value]
        if isinstance(value, np.ndarray):
            if id(value) not in self.names:
                step = max(1, -(-max(value.shape[:2]) // MOST_SIDE))
                self.names[id(value)] = value, kept_small(self.request.worker.data, value[::step, ::step], self.exposure)
            return self.names[id(value)][1]
        return value


@dataclass
class Asked:
    """A tuning request with its proof and renderer."""

    request: Request
    shot: shots.Shot
    proof: proofs.Proof
    renderer: TrialRenderer
    frame: Frame
    exposure: float
    wanted: dict[str, Any]


def tune_proof(request: Request) -> dict[str, Any]:
    """Run the requested tuning of a proof, part by part."""
    tuning = tunings.get(request.db, request.body["tuning"])
    proof = proofs.get(request.db, tuning.proof_id) if tuning else None
    if tuning is None or proof is None:
        raise InputError("The proof of this request no longer exists; choose another.")
    request.report({"what": "waiting for another ladder, budget or match to finish", "share": 0.0, "tuning": tuning.id})
    problem = ""
    try:
        with AT_A_TIME:
            _tune(request, tuning, proof)
    except (InputError, OSError) as error:
        problem = str(error)
        raise
    except Cancelled:
        raise
    except Exception as error:
        problem = f"This could not be done ({type(error).__name__}: {error})."
        raise
    finally:
        tunings.end(request.db, tuning.id, problem)
    return {"tuning": tuning.id}


def _tune(request: Request, tuning: tunings.Tuning, proof: proofs.Proof) -> None:
    shot, wanted = shots.get(request.db, proof.shot_id), tuning.asked
    width, height = wanted.get("size") or (proof.frame.width, proof.frame.height)
    region = tuple(wanted["region"]) if wanted.get("region") else None
    renderer = renderer_of(request, shot, proof)
    frame = Frame(width, height, region, proof.frame.seed, proof.frame.time)
    renderer.frame = replace(frame, region=None)
    asked = Asked(request, shot, proof, renderer, frame, shot.exposure(proof.camera, proof.edits), wanted)
    keeper, (make, shown) = _Keeper(request, tuning, asked.exposure), MAKE[tuning.kind]

    def part(what: str, share: float, so_far: Any) -> dict[str, Any]:
        if so_far is not None:
            keeper.keep(shown(asked, so_far))
        return {"what": what, "share": share, "tuning": tuning.id}

    renderer.task = request.task(part)
    renderer.task.report("preparing the shot", 0.01)
    keeper.keep(make(asked))


def _ladder(asked: Asked) -> Any:
    chosen = [rungs_of(asked.renderer, key, values or None, asked.exposure) for key, values in asked.wanted["vary"].items()]
    wanted = asked.wanted
    return climb(
        asked.renderer, chosen, asked.frame, asked.exposure, seconds=wanted["seconds"],
        per_degree=wanted.get("per_degree", PIXELS_PER_DEGREE), filtered=wanted.get("filtered", False), in_motion=_in_motion(asked),
    )  # fmt: skip


def _budget(asked: Asked) -> Any:
    return plan_budget(asked.renderer, asked.frame, seconds=asked.wanted.get("seconds"), noise=asked.wanted.get("noise"))


def _match(asked: Asked) -> Any:
    judge, wanted = _in_motion(asked), asked.wanted
    chosen = candidates(wanted.get("ways", []), asked.renderer.recipe, judge is not None)
    return run_match(
        asked.renderer, chosen, asked.frame, seconds=wanted["seconds"], filtered=wanted.get("filtered", False), in_motion=judge,
    )  # fmt: skip


def _advice(asked: Asked) -> Any:
    moves = asked.renderer.scene.frames is not None
    frames = two_frames(asked.shot.path, confine_to=asked.shot.confine_to, first=asked.frame.time) if moves else None
    motion = motion_between(*frames, asked.proof.camera) if frames else None
    facts = measure_facts(asked.renderer, asked.frame, asked.exposure, motion, seconds=asked.wanted["seconds"])
    judge = _in_motion(asked, always=True)
    if judge is not None:
        asked.renderer.task.report("trying ways in motion", 0.95, _advice_so_far(asked, facts))
    return advise(facts, asked.renderer.recipe, seconds=asked.wanted["seconds"], in_motion=judge, edits=asked.renderer.edits)


def _in_motion(asked: Asked, always: bool = False) -> JudgeInMotion | None:
    """Judges recipes of a moving shot by the flicker of three frames about the proof's; None where that is not asked, or nothing moves."""
    shot, renderer, worker = asked.shot, asked.renderer, asked.request.worker
    moving = worker.moving(asked.request.db, shot)
    if moving is None or shot.frames is None or not (always or asked.wanted.get("in_motion")):
        return None
    return judge_in_motion(renderer, moving, shot.frames, asked.frame, asked.exposure, asked.wanted.get("per_degree", PIXELS_PER_DEGREE))


def _advice_so_far(asked: Asked, facts: Facts) -> Any:
    return advise(facts, asked.renderer.recipe, seconds=asked.wanted["seconds"], complete=False)


def _as_it_is(asked: Asked, made: Any) -> Any:
    return made


MAKE: dict[str, tuple[Callable[[Asked], Any], Callable[[Asked, Any], Any]]] = {
    "ladder": (_ladder, _as_it_is),
    "budget": (_budget, _as_it_is),
    "match": (_match, _as_it_is),
    "advice": (_advice, _advice_so_far),
}
"""The function of each kind, and its partial result for the page."""
