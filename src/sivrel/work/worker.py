"""The worker process: takes jobs from the store and renders them, tile by tile, until its parent ends.

It may be killed at any moment: finished tiles are on disk, and the next worker continues from them. `python -m sivrel.work` starts one, and ends
it with its parent.
"""

import fcntl
import functools
import logging
import math
import os
import sqlite3
import sys
import threading
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any, TypeVar

import numpy as np

from ..core import machine
from ..core.caches import CacheFolder
from ..core.edits.edits import Edits
from ..core.errors import Cancelled, InputError
from ..core.formats.scenes import load_usd, read_scene
from ..core.render.even import render_even
from ..core.render.film import clock_entries, film_columns
from ..core.render.frame import Frame, empty_film, paste
from ..core.render.prepare import Files, Geometry, Prepared, prepare, stage
from ..core.render.recipe import Recipe
from ..core.render.through_time import Moving
from ..core.render.tiles import render_tiles
from ..core.render.warmup import PATHS, Warming, compiling, stages_of
from ..core.rendered import Neighbours, Render, Spent, make_picture
from ..core.scene.model import Scene
from ..core.sequence.frames import every_frame
from ..core.sequence.render import neighbours_of, without_lights
from ..core.task import Cancel, Task
from ..core.work_time import processor_time
from ..store import database, files, findings, jobs, machines, proofs, requests, sequences, shots
from ..store.database import is_full
from ..store.files import DamagedTile
from .finishing import keep_focus, keep_picture, make_thumbnail
from .handlers import handle_requests
from .helpers import Helpers
from .live import LivePicture
from .logs import log_to
from .moments import render_moments
from .pins import read_pins
from .quick import without_caches
from .room import when_there_is_room
from .sequence_handlers import judge_later

POLL = 0.03
"""Seconds between checks of the store; a check takes a tenth of a millisecond."""
NICE = 5
"""Niceness of the process: pages respond first, renders take the rest, which is nearly everything."""
KEPT_SCENES = 4
"""Scenes that are kept in memory: two shots, or a frame with its neighbours."""
T = TypeVar("T")
log = logging.getLogger(__name__)


class Worker:
    def __init__(self, data: Path) -> None:
        self.data = data
        self.ending = threading.Event()
        self.db = database.connect(data)
        self.scenes: dict[tuple[Any, ...], tuple[Scene, Files, Geometry | None]] = {}
        self.scene_lock = threading.RLock()
        self.caches = CacheFolder(data / "caches")
        self.helpers = Helpers(data, self.ending)
        self.limits = machines.limits(self.db)
        self.last_geometry: Geometry | None = None
        self.read_ahead: int | None = None
        self.compiled_some, self.warming = False, Warming()
        self.pausing = threading.Lock()
        self.render_on_its_way: Cancel | None = None
        self.previewing, self.stood, self.stands_since = False, 0.0, 0.0

    def run(self) -> None:
        with open(self.data / "worker.lock", "a") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)  # one worker per data folder; the lock ends with the process
            jobs.requeue(self.db)
            jobs.set_worker(self.db, "compiling")
            load_usd()  # before any thread starts
            self.helpers.start()
            with compiling(self._compiled):
                self.warming.need([PATHS])
            if self.compiled_some:
                print("\rthe renderer is ready" + " " * 30, file=sys.stderr, flush=True)
            threading.Thread(target=self._compile_rest, daemon=True).start()
            for beside in (handle_requests, render_moments):
                threading.Thread(target=self._endlessly, args=(beside,), daemon=True).start()
            while not self.ending.is_set() and not self._limits_changed(self.db):
                job = when_there_is_room(functools.partial(jobs.take, self.db), lambda: True)
                if job is not None:
                    self._render(job)
                else:
                    self._read_ahead()
                    time.sleep(POLL)

    def _limits_changed(self, db: sqlite3.Connection) -> bool:
        """Whether this machine's limits were changed: the worker then ends, and is started again with them."""
        return machines.limits(db) != self.limits

    def _endlessly(self, work: Callable[["Worker"], None]) -> None:
        """Run a function that never returns, and restart it after an error, since pages depend on it."""
        while not self.ending.is_set():
            try:
                work(self)
            except Exception:
                log.exception("%s is restarted.", work.__name__)
                time.sleep(1.0)

    def _compile_rest(self) -> None:
        """Compile what the first renders do not need, behind them; a render that needs some of it compiles that at once."""
        db = database.connect(self.data)

        def report(title: str, left: float) -> None:
            words = f"compiling {title}, all ready in about {math.ceil(left)} s" if title and left > 1.0 else ""
            when_there_is_room(lambda: jobs.set_warming(db, words), lambda: True)

        try:
            self.warming.report = report
            self.warming.compile_rest()
        except Exception:  # whatever can't be compiled fails again in the render that needs it, which says so
            log.exception("Some kernels could not be compiled ahead.")
        finally:
            db.close()

    def _compiled(self, done: int, total: int, name: str) -> None:
        self.compiled_some = True
        when_there_is_room(lambda: jobs.set_worker(self.db, "compiling", done, total, name), lambda: True)
        print(f"\rcompiling kernels {done}/{total}: {name:<24}", end="", file=sys.stderr, flush=True)

    def prepare(
        self, db: sqlite3.Connection, shot: shots.Shot, recipe: Recipe, edits: Edits, camera: str | None, task: Task | None = None,
        frame: Frame | None = None, frames: tuple[float, ...] = (), look: Callable[[Prepared], None] | None = None,
    ) -> Prepared:  # fmt: skip
        """The prepared shot, at the frame's time code; its geometry is kept for the next call. frames: of its sequence, for caches that they share;
        look: see `core.render.prepare`. Thread-safe; while one thread makes caches, others go on."""
        frame, task = frame or Frame(), task or Task()
        with self.scene_lock:
            scene, files, geometry = self.scene_of(db, shot, frame.time)
            staged = stage(
                scene, recipe, edits, camera, files=files, caches=self.caches, task=task, frame=frame, geometry=geometry, like=self.last_geometry
            )  # fmt: skip
            self.scenes[self._version(shot, frame.time)] = scene, files, staged.geometry
            self.last_geometry = staged.geometry
        return prepare(
            scene, recipe, edits, camera, files=files, caches=self.caches, task=task, frame=frame, moving=self.moving(db, shot, frames),
            like=staged.geometry, look=look, staged=staged,
        )  # fmt: skip

    def moving(self, db: sqlite3.Connection, shot: shots.Shot, frames: tuple[float, ...] = ()) -> Moving | None:
        """A moving shot through its file's frames, or some of them; None if it stands still."""
        if shot.frames is None:
            return None

        def scene_at(time: float) -> Scene:
            return self.scene_of(db, shot, time)[0]

        return Moving(scene_at, frames or every_frame(shot.frames), str(self._version(shot)))

    def neighbours(self, db: sqlite3.Connection, shot: shots.Shot, proof: proofs.Proof, ready: Prepared) -> Neighbours | None:
        """Where the things of a picture are in the frames before and after a proof of a moving shot."""
        with self.scene_lock:
            moving = self.moving(db, shot)
            if moving is None or proof.frame.time is None:
                return None
            return neighbours_of(moving, proof.frame.time, proof.edits, proof.camera, self.scene_of(db, shot, proof.frame.time)[1], ready)

    @staticmethod
    def _version(shot: shots.Shot, time: float | None = None) -> tuple[Any, ...]:
        try:
            stat = shot.path.stat()
        except OSError as error:
            raise InputError(f"The scene file {shot.path} can't be read ({error.strerror}); restore it, or open the shot again.") from None
        return shot.path, stat.st_mtime_ns, stat.st_size, time

    def scene_of(self, db: sqlite3.Connection, shot: shots.Shot, time: float | None = None) -> tuple[Scene, Files, Geometry | None]:
        """A shot's scene as in its file, at a time code or its first frame; its file reader, and its last packed geometry, if any."""
        with self.scene_lock:
            version = self._version(shot, time)
            if version in self.scenes:
                kept = self.scenes.pop(version)
            else:
                jobs.set_worker(db, "reading", message=shot.title)
                kept = read_scene(shot.path, confine_to=shot.confine_to, frame=time), Files(shot.path.parent), None
                if shot.frames is None and kept[0].frames is not None:
                    shots.set_frames(db, shot, kept[0].frames)
            while len(self.scenes) >= KEPT_SCENES:
                self.scenes.pop(next(iter(self.scenes)))
            self.scenes[version] = kept
            return kept

    def stand_for_moments(self, on: bool) -> None:
        """Pause the running render between tiles during a live preview, or resume it."""
        with self.pausing:
            self.previewing = on
            self._pause()

    def _may_pause(self, render: Cancel | None) -> None:
        """Set the render that pauses during live previews. None while it prepares its shot: a preview may wait for the scene or a cache that it
        makes."""
        with self.pausing:
            if self.render_on_its_way is not None:
                self.render_on_its_way.hold(False)
            self.render_on_its_way = render
            self._pause()

    def _pause(self) -> None:
        render = self.render_on_its_way
        on = self.previewing and render is not None
        if on and not self.stands_since:
            self.stands_since = time.monotonic()
        elif not on and self.stands_since:
            self.stood += time.monotonic() - self.stands_since
            self.stands_since = 0.0
        if render is not None:
            render.hold(on)

    def _stood(self) -> float:
        """Total seconds for which renders paused for live previews."""
        since = self.stands_since
        return self.stood + (time.monotonic() - since if since else 0.0)

    def _read_ahead(self) -> None:
        """Load the shot that is open on a page, so that its first render starts at once."""
        shot = shots.last_opened(self.db)
        if shot is not None and self.read_ahead != shot.id:
            self.read_ahead = shot.id
            try:
                self.prepare(self.db, shot, Recipe(), Edits(), None)
            except Exception:  # the render will report why
                log.info("The shot %s could not be loaded ahead.", shot.slug, exc_info=True)
        if jobs.worker(self.db).phase != "idle":
            when_there_is_room(lambda: jobs.set_worker(self.db, "idle"), lambda: True)

    def _render(self, job: jobs.Job) -> None:
        proof = proofs.get(self.db, job.proof_id)
        if proof is None or proof.problem:
            return self._fail(job, proof.problem if proof else "The proof no longer exists.")
        shot = shots.get(self.db, proof.shot_id)
        cancel, over = Cancel(), threading.Event()
        watcher = threading.Thread(target=self._watch, args=(job.id, cancel, over), daemon=True)
        watcher.start()
        try:
            # Anything that fails on a full disk is retried when there is space, from the finished tiles.
            self._written(lambda: self._render_proof(job, proof, shot, cancel), cancel)
        except Exception as error:
            if cancel.is_set() and (is_full(error) or isinstance(error, Cancelled)):  # before its tiles, or while it waited for disk space
                when_there_is_room(lambda: self._stop(job, job.tiles_done, job.seconds, job.pixel_seconds, job.processor_seconds), lambda: True)
            else:
                self._fail(job, self._problem(job, error))
        finally:
            self._may_pause(None)
            over.set()
            watcher.join()

    @staticmethod
    def _problem(job: jobs.Job, error: Exception) -> str:
        """Why a job has failed, in words. A bug must not repeat for ever: the job ends, and the log has the details."""
        if isinstance(error, InputError | OSError):
            return str(error)
        if isinstance(error, MemoryError):
            return "There is not enough memory for this picture; render it smaller."
        log.error("Proof %d could not be rendered.", job.proof_id, exc_info=error)
        return f"This could not be rendered ({type(error).__name__}); see the log in the data folder."

    def _fail(self, job: jobs.Job, problem: str) -> None:
        when_there_is_room(lambda: jobs.end(self.db, job.id, "failed", problem), lambda: True)

    def _watch(self, job_id: int, cancel: Cancel, over: threading.Event) -> None:
        db = database.connect(self.data)
        while not over.wait(POLL):
            if jobs.is_cancelled(db, job_id) or jobs.stands_back(db, job_id) or self._limits_changed(db):
                cancel.set()
                break
        db.close()

    def _render_proof(self, job: jobs.Job, proof: proofs.Proof, shot: shots.Shot, cancel: Cancel) -> None:
        begun, worked, elsewhere = time.monotonic() - self._stood(), processor_time(), self.helpers.elsewhere

        def making(what: str, share: float, result: object) -> None:
            jobs.set_worker(self.db, "making", int(share * 100), 100, what)

        def compiled_for(title: str) -> None:
            jobs.set_worker(self.db, "compiling", message=title)

        self.warming.need(stages_of(proof.recipe, proof.edits), compiled_for)
        sequence = sequences.get(self.db, proof.sequence_id) if proof.sequence_id else None
        frames = sequence.frames if sequence is not None else ()
        tiles, boxes = files.Tiles(self.data, job.id), proof.frame.tiles()
        live = LivePicture(proof.frame, lambda picture: self._written(lambda: tiles.show(tiles.live, picture), cancel))

        def look(seen: Prepared, recipe: Recipe) -> None:
            """Show the picture at once, at one sample for many pixels."""
            whole = live.look(seen, recipe, Task(cancel=cancel))
            self._written(lambda: tiles.show(tiles.sketch, whole), cancel)

        shows = len(boxes) > 1 and sequence is None
        before = functools.partial(look, recipe=without_caches(proof.recipe)) if shows and not tiles.order() else None
        to_make = Task(making, cancel, elsewhere=elsewhere)
        self._may_pause(None)
        ready = self.prepare(self.db, shot, proof.recipe, proof.edits, proof.camera, to_make, proof.frame, frames, before)
        self._may_pause(cancel)
        task = Task(cancel=cancel, elsewhere=elsewhere)
        clock = np.zeros(clock_entries(ready.arrays.slots))
        jobs.set_worker(self.db, "rendering")
        done, threads = set[int](), machine.threads()
        left, top = proof.frame.window[:2]
        pixels_begun = time.monotonic() - self._stood()

        def spent() -> tuple[float, float, float]:
            """Total seconds, and those of the pixels only, without pauses; and seconds of all processors."""
            now = time.monotonic() - self._stood()
            return job.seconds + now - begun, job.pixel_seconds + now - pixels_begun, job.processor_seconds + processor_time() - worked

        film = empty_film(proof.frame, film_columns(ready.arrays.slots))
        limit, kept = proof.recipe.sampling.seconds, dict[int, np.ndarray]()
        for index in tiles.recover():
            try:
                tile = tiles.load(index)
                paste(film, proof.frame, boxes[index], tile)
                done.add(index)
                kept |= {index: tile} if limit > 0.0 else {}
            except (DamagedTile, IndexError, ValueError):  # truncated, or stored by an older version: it is rendered again
                log.warning("Tile %d of proof %d was damaged, and is rendered again.", index, proof.id)
                tiles.drop(index)

        def on_tile(index: int, tile: np.ndarray) -> None:
            paste(film, proof.frame, boxes[index], tile)
            done.add(index)
            # On a full disk this waits, and the other threads wait behind it with their tiles.
            self._written(lambda: tiles.add(index, tile), cancel)
            self._written(lambda: jobs.progress(self.db, job.id, far(), *spent()), cancel)
            live.add(boxes[index], tile)

        def far() -> int:
            """Finished tiles; for a picture with a time limit, the elapsed share of them."""
            return min(len(done), int(len(boxes) * spent()[1] / limit)) if limit > 0.0 else len(done)

        jobs.progress(self.db, job.id, far(), *spent())
        if shows:
            look(ready, proof.recipe)
        for index in done:
            x0, y0, x1, y1 = boxes[index]
            live.add(boxes[index], film[y0 - top : y1 - top, x0 - left : x1 - left])
        what = ready.arrays, ready.camera, proof.recipe, proof.frame
        try:
            if limit > 0.0:
                render_even(
                    *what, limit - job.pixel_seconds, on_tile,
                    films=kept, now=lambda: time.monotonic() - self._stood(), threads=threads, task=task, clock=clock, shutter=ready.shutter,
                )  # fmt: skip
            else:
                render_tiles(*what, on_tile, threads=threads, finished=list(done), task=task, clock=clock, shutter=ready.shutter)
        except Cancelled:
            stopped = len(done), *spent()
            when_there_is_room(lambda: self._stop(job, *stopped), lambda: True)
            return
        total = spent()
        picture = make_picture(film, ready, proof.frame, proof.recipe, shot.slug, proof.edits, self.neighbours(self.db, shot, proof, ready))
        if sequence is not None:
            picture = without_lights(picture)
        digest = self._written(lambda: keep_picture(self.data, picture), cancel)
        self._written(lambda: make_thumbnail(self.data, digest, picture, ready.camera.exposure), cancel)
        made = Render(picture, film, ready, clock, spent=Spent(total[2], task.threads(), task.where()))
        level = made.noise.level if made.noise is not None else None
        measured, found = (level, made.mean_light, made.dropped), made.measured

        def finish() -> None:
            jobs.progress(self.db, job.id, len(done), *total)
            with database.transaction(self.db):
                proofs.finish(self.db, proof.id, digest, total[0], *measured, found=found)
                jobs.end(self.db, job.id, "done")

        self._written(finish, cancel)
        tiles.remove()
        if sequence is not None:
            self._written(lambda: judge_later(self.db, sequence), cancel)
            return
        if findings.retests_of_proof(self.db, proof.id):
            self._written(lambda: requests.ask(self.db, "retest", shot.id, {"proof": proof.id}), cancel)
        try:
            parent = proofs.get(self.db, proof.parent_id) if proof.parent_id else None
            if parent is not None and parent.picture:
                keep_focus(self.data, self.db, proof, parent.picture, digest, picture, ready.camera.exposure)
            read_pins(self.data, self.db, shot, [proof.id])
        except Exception:  # the proof is done, even if this fails
            log.exception("The largest change of proof %d could not be found.", proof.id)

    def _stop(self, job: jobs.Job, done: int, *spent: float) -> None:
        """Store that a render was stopped before its end: cancelled, or paused."""
        jobs.progress(self.db, job.id, done, *spent)
        if jobs.is_cancelled(self.db, job.id):
            jobs.end(self.db, job.id, "cancelled")
        else:
            jobs.stand_back(self.db, job.id)

    @staticmethod
    def _written(write: Callable[[], T], cancel: Cancel) -> T:
        """The result of `write`: on a full disk it waits for space, unless the render is cancelled."""
        return when_there_is_room(write, lambda: not cancel.is_set())


def main(folder: str) -> int:
    """Work for a data folder until the process is ended."""
    os.umask(0o077)
    log_to(Path(folder), "worker")
    try:
        worker = Worker(Path(folder))
        machine.limit(replace(worker.limits, nice=worker.limits.nice or NICE))
        worker.run()
    except KeyboardInterrupt:
        return 130
    except InputError as error:
        log.error("%s", error)
        return 2
    except Exception:
        log.exception("The worker ends.")
        return 1
    return 0
