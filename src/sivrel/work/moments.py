"""Live previews: while a control is dragged, the latest request is rendered, and the running render pauses for it."""

import functools
import logging
import sqlite3
import struct
import threading
import time
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ..core import machine
from ..core.edits.edits import from_json as edits_from_json
from ..core.errors import Cancelled, InputError
from ..core.render.filter import learned_filter
from ..core.render.frame import Frame
from ..core.render.recipe import from_json
from ..core.task import Cancel, Task
from ..core.whole_file import whole_file
from ..store import database, files, moments, shots
from ..store.database import is_full
from .quick import finer_and_finer, step_for
from .room import FULL, when_there_is_room

if TYPE_CHECKING:
    from .worker import Worker

POLL = 0.01
log = logging.getLogger(__name__)
FIRST = 0.12
"""Most seconds of the first picture, from the known rate."""
RATE = 60_000.0
"""Assumed samples per second before any are timed."""
STILL = 0.5
"""Seconds without a request after which the paused render continues."""


def render_moments(worker: "Worker") -> None:
    """Render requests as they come, until the worker ends."""
    db = database.connect(worker.data)
    rate, last = RATE, 0.0
    while not worker.ending.is_set():
        moment = when_there_is_room(functools.partial(moments.take, db), lambda: True)
        if moment is None:
            if last and time.monotonic() - last > STILL:
                worker.stand_for_moments(False)
                last = 0.0
            time.sleep(POLL)
            continue
        worker.stand_for_moments(True)
        problem = ""
        try:
            rate = _render(worker, db, moment, rate)
        except (InputError, OSError, MemoryError) as error:
            problem = FULL if is_full(error) else str(error) or "There is not enough memory for this picture."
        except Exception as error:
            log.exception("A live preview could not be rendered.")
            problem = f"This could not be rendered ({type(error).__name__}); see the log in the data folder."
        when_there_is_room(functools.partial(moments.say, db, moment.number, problem), lambda: True)
        last = time.monotonic()


def _render(worker: "Worker", db: sqlite3.Connection, moment: moments.Moment, rate: float) -> float:
    """Render a request until it reaches its recipe's samples, or another comes; returns samples per second."""
    body, cancel, over = moment.body, Cancel(), threading.Event()
    frame = Frame(body["width"], body["height"], tuple(body["region"]) if body["region"] else None, body["seed"], body.get("time"))
    recipe, rates = from_json(body["recipe"]), [rate]

    def watch() -> None:
        own = database.connect(worker.data)
        while not over.wait(POLL):
            if not moments.is_latest(own, moment.number):
                cancel.set()
                break
        own.close()

    def making(what: str, share: float, result: object) -> None:
        moments.say(db, moment.number, f"making the {what}, {share:.0%}")

    watcher = threading.Thread(target=watch, daemon=True)
    watcher.start()
    try:
        shot, task = shots.get(db, moment.shot_id), Task(making, cancel, elsewhere=worker.helpers.elsewhere)
        ready = worker.prepare(db, shot, recipe, edits_from_json(body["edits"]), body["camera"], task, frame)
        moments.say(db, moment.number, "rendering")
        threads = machine.threads()
        step, task = step_for(frame, rate * FIRST), Task(cancel=cancel)
        filtering = body.get("filtered", False) and learned_filter() is not None
        for picture, samples in finer_and_finer(ready, recipe, frame, step, threads, task, rates.append, filtering):
            keep_picture(worker.data, moment, frame, samples, filtering, picture)
    except Cancelled:
        pass  # another request has come
    finally:
        over.set()
        watcher.join()
    return rates[-1]


def keep_picture(data: Path, moment: moments.Moment, frame: Frame, samples: float, filtered: bool, picture: np.ndarray) -> None:
    """Write a picture for its page: number, width, height and window as int32, samples as a float, whether it is filtered as int32, then RGBA half
    floats."""
    path = files.moment_path(data, moment.client)
    path.parent.mkdir(parents=True, exist_ok=True)
    with whole_file(path) as beside:
        beside.write_bytes(struct.pack("<7ifi", moment.number, frame.width, frame.height, *frame.window, samples, filtered) + files.halves(picture))
