"""The tiles of a frame: what they are rendered from, and their spread over threads, or over other processes."""

import threading
from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple, Protocol

import numpy as np

from ..errors import Cancelled
from ..pack.texture_memory import TextureLimit
from ..scene.arrays import SceneArrays
from ..scene.model import Camera
from ..task import Cancel, Task
from ..work_time import Pool
from .film import camera_over, film_columns
from .frame import Frame, check_memory, path_settings, sampling_of, seed_of_samples
from .memory import Memory, make_memory
from .recipe import Recipe
from .shutter import Span
from .tile import Traced, render_tile


class TileJob(NamedTuple):
    """spans: of the shutter's time; samples: of every pixel, or 0 for those of the recipe."""

    spans: tuple[Span, ...]
    camera: Camera
    recipe: Recipe
    frame: Frame
    samples: int = 0

    @property
    def slots(self) -> int:
        return self.spans[0].scene.slots


class TileRenderer:
    """Renders tiles of a job. Thread-safe, as long as each thread brings its own memory."""

    def __init__(self, job: TileJob) -> None:
        self.size, self.tiles, self.columns = (job.frame.width, job.frame.height), job.frame.tiles(), film_columns(job.slots)
        self.spans = [
            Traced(span.scene, path_settings(job.recipe, span.scene, job.frame), camera_over(span.opening, span.closing, *self.size))
            for span in job.spans
        ]
        self.sampling, self.seed = sampling_of(job.recipe, job.camera), seed_of_samples(job.recipe, job.frame)
        if job.samples:
            self.sampling = self.sampling._replace(most=job.samples, target=0.0)

    def render(self, index: int, memory: Memory, cancel: np.ndarray, before: np.ndarray | None = None) -> np.ndarray | None:
        """The film of a tile, float32 [rows, columns, film_columns]; None if it was cancelled. memory.clock receives what it cost, and nothing else.
        before: its film with fewer samples, which is continued."""
        x0, y0, x1, y1 = self.tiles[index]
        film = np.empty((y1 - y0, x1 - x0, self.columns), np.float32)
        memory.clock[:] = 0.0
        done = render_tile(self.spans, self.sampling, self.size, self.tiles[index], self.seed, memory, cancel, film, before)
        return film if done else None


Deliver = Callable[[int, np.ndarray, np.ndarray], None]
"""Receives the number of a finished tile, its film, and its clock, float64 [clock_entries]. Calls come one at a time."""


class Elsewhere(Protocol):
    """Other processes that render tiles."""

    def render(self, job: TileJob, tiles: Sequence[int], before: dict[int, np.ndarray], cancel: Cancel, deliver: Deliver) -> None:
        """Render these tiles of a job, and deliver each once, until all are done, or cancelled, or nobody is there to do it."""


def render_tiles(
    scene: SceneArrays,
    camera: Camera,
    recipe: Recipe,
    frame: Frame,
    on_tile: Callable[[int, np.ndarray], None],
    *,
    clock: np.ndarray | None = None,
    threads: int = 1,
    finished: Iterable[int] = (),
    task: Task | None = None,
    before: dict[int, np.ndarray] | None = None,
    samples: int = 0,
    shutter: Sequence[Span] = (),
) -> None:
    """Render the tiles of `frame` that are not in `finished`; `on_tile(index, film)` is called as each is done.

    film is float32 [rows, columns, film_columns]. `clock` float64 [film.clock_entries] receives the processor's cycles by what
    they were spent on. Calls come one at a time, in no fixed
    order; what a tile holds depends on nothing but the scene, the recipe and the frame. Raises Cancelled. With
    `samples` every pixel takes that many, whatever the recipe says; the films in `before`, by tile, are continued. shutter: the spans of its
    time, for motion blur, in place of `scene` and `camera`. Where the task has `elsewhere`, tiles are rendered there, and those that it leaves here.
    """
    check_memory(frame, film_columns(scene.slots))
    task, before = task or Task(), before or {}
    cancel, done, count = task.cancel, set(finished), len(frame.tiles())
    job = TileJob(tuple(shutter) or (Span(scene, camera, camera),), camera, recipe, frame, samples)
    textures = TextureLimit(scene.pictures.bytes)

    def deliver(index: int, film: np.ndarray, cost: np.ndarray) -> None:
        done.add(index)
        if clock is not None:
            np.add(clock, cost, out=clock)
        textures.look()
        on_tile(index, film)

    if task.elsewhere is not None:
        task.elsewhere.render(job, [i for i in range(count) if i not in done], before, cancel, deliver)
    if len(done) < count and not cancel.is_set():
        _on_threads(job, [i for i in range(count) if i not in done], before, cancel, deliver, threads)
    if len(done) < count:
        raise Cancelled


def _on_threads(job: TileJob, tiles: list[int], before: dict[int, np.ndarray], cancel: Cancel, deliver: Deliver, threads: int) -> None:
    renderer, waiting = TileRenderer(job), iter(tiles)
    lock, delivered = threading.Lock(), threading.Lock()

    def work() -> None:
        memory = make_memory(job.slots)
        while not cancel.is_set():
            cancel.wait()
            with lock:
                index = next(waiting, None)
            if index is None:
                return
            film = renderer.render(index, memory, cancel.flag, before.get(index))
            if film is not None:
                with delivered:
                    deliver(index, film, memory.clock[0])

    with Pool(threads) as pool:
        workers = [pool.submit(work) for _ in range(threads)]
        for worker in workers:
            try:
                worker.result()
            except BaseException:
                cancel.set()
                raise
