"""The table of requests that the worker handles besides its renders.

A handler takes a `Request` and returns the reply as JSON; it raises InputError with a sentence. One that takes seconds has its own
thread, reports parts, and stops when the request is cancelled.
"""

import functools
import logging
import threading
import time
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NamedTuple

from ..core.errors import Cancelled, InputError
from ..store import database, requests
from ..store.database import is_full
from . import cache_handlers, diagnosis_handlers, picture_handlers, scene_handlers, sequence_handlers, tuning_handlers
from .request import Request
from .room import FULL, when_there_is_room

if TYPE_CHECKING:
    from .worker import Worker

POLL = 0.03
log = logging.getLogger(__name__)


class Handler(NamedTuple):
    handle: Callable[[Request], dict[str, Any]]
    takes_seconds: bool = False


HANDLERS = {
    "reach": Handler(scene_handlers.reach),
    "place": Handler(scene_handlers.place),
    "plan": Handler(scene_handlers.plan),
    "camera": Handler(scene_handlers.camera),
    "seen_from": Handler(scene_handlers.seen_from_spot),
    "survey": Handler(scene_handlers.survey, takes_seconds=True),
    "ways": Handler(cache_handlers.ways_state),
    "caches": Handler(cache_handlers.cache_state),
    "preview": Handler(cache_handlers.preview),
    "filter": Handler(picture_handlers.filter_picture, takes_seconds=True),
    "mattes": Handler(picture_handlers.mattes_of, takes_seconds=True),
    "pins": Handler(picture_handlers.pins_read, takes_seconds=True),
    "diagnose": Handler(diagnosis_handlers.diagnose_proof, takes_seconds=True),
    "retest": Handler(diagnosis_handlers.retest_proof, takes_seconds=True),
    "judge": Handler(sequence_handlers.judge_sequence, takes_seconds=True),
    "cause": Handler(sequence_handlers.cause_of_flicker, takes_seconds=True),
    "predict": Handler(sequence_handlers.predict_flicker, takes_seconds=True),
    "export": Handler(sequence_handlers.export_sequence, takes_seconds=True),
    "tune": Handler(tuning_handlers.tune_proof, takes_seconds=True),
}
"""By the kind of the request."""


def handle_requests(worker: "Worker") -> None:
    """Handle requests as they come, until the worker ends."""
    db = database.connect(worker.data)
    while not worker.ending.is_set():
        taken = when_there_is_room(functools.partial(requests.take, db), lambda: True)
        if taken is None:
            time.sleep(POLL)
            continue
        number, kind, shot_id, body = taken
        handler = HANDLERS[kind]
        if handler.takes_seconds:
            threading.Thread(target=_handle_at_length, args=(worker, handler, number, shot_id, body), daemon=True).start()
        else:
            _reply(handler, Request(worker, db, number, shot_id, body))


def _handle_at_length(worker: "Worker", handler: Handler, number: int, shot_id: int, body: dict[str, Any]) -> None:
    db = database.connect(worker.data)
    try:
        request = Request(worker, db, number, shot_id, body)
        with request.watched():
            _reply(handler, request)
    finally:
        db.close()


def _reply(handler: Handler, request: Request) -> None:
    """Store the handler's reply, or the reason for its failure: the page waits for one of them."""
    reply, problem = None, ""
    try:
        reply = handler.handle(request)
        if handler.takes_seconds:
            reply = {**reply, "done": True}
    except Cancelled:
        problem = "Called off."
    except (InputError, OSError, MemoryError) as error:
        problem = FULL if is_full(error) else str(error) or "There is not enough memory for this."
    except Exception as error:
        log.exception("Request %d could not be handled.", request.number)
        problem = f"This could not be answered ({type(error).__name__}); see the log in the data folder."
    when_there_is_room(lambda: requests.answer(request.db, request.number, reply, problem), lambda: True)
