"""The tiles of a frame: what they are rendered from, and their spread over threads, or over other processes."""

from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

import numpy as np

from ..pack.texture_memory import TextureLimit
from ..scene.arrays import SceneArrays
from ..scene.model import Camera
from ..spread import spread
from ..task import Task
from .film import camera_over, film_columns
from .frame import Frame, check_memory, path_settings, sampling_of, seed_of_samples
from .memory import MemoryOfThread
from .recipe import Recipe
from .shutter import Span
from .tile import Traced, render_tile


class TileWork(NamedTuple):
    """The tiles of a frame, as `Work`: given for a part is its film with fewer samples, which is continued, or None. spans: of the shutter's time;
    samples: of every pixel, or 0 for those of the recipe."""

    spans: tuple[Span, ...]
    camera: Camera
    recipe: Recipe
    frame: Frame
    samples: int = 0

    @property
    def slots(self) -> int:
        return self.spans[0].scene.slots

    def worker(self) -> "TileWorker":
        return TileWorker(self)


class TileWorker:
    """Renders tiles."""

    def __init__(self, work: TileWork) -> None:
        self.size, self.tiles, self.slots = (work.frame.width, work.frame.height), work.frame.tiles(), work.slots
        self.spans = [
            Traced(span.scene, path_settings(work.recipe, span.scene, work.frame), camera_over(span.opening, span.closing, *self.size))
            for span in work.spans
        ]
        self.sampling, self.seed = sampling_of(work.recipe, work.camera), seed_of_samples(work.recipe, work.frame)
        if work.samples:
            self.sampling = self.sampling._replace(most=work.samples, target=0.0)
        self.own = MemoryOfThread(self.slots)

    def do(self, part: int, given: np.ndarray | None, cancel: np.ndarray) -> tuple[np.ndarray, np.ndarray] | None:
        """The film of a tile, float32 [rows, columns, film_columns], and its clock, float64 [clock_entries]."""
        x0, y0, x1, y1 = self.tiles[part]
        film, memory = np.empty((y1 - y0, x1 - x0, film_columns(self.slots)), np.float32), self.own.memory
        memory.clock[:] = 0.0
        done = render_tile(self.spans, self.sampling, self.size, self.tiles[part], self.seed, memory, cancel, film, given)
        return (film, memory.clock[0].copy()) if done else None


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
    before, finished = before or {}, set(finished)
    work = TileWork(tuple(shutter) or (Span(scene, camera, camera),), camera, recipe, frame, samples)
    textures = TextureLimit(scene.pictures.bytes)

    def deliver(index: int, result: tuple[np.ndarray, np.ndarray]) -> None:
        film, cost = result
        if clock is not None:
            np.add(clock, cost, out=clock)
        textures.look()
        on_tile(index, film)

    parts = {index: before.get(index) for index in range(len(frame.tiles())) if index not in finished}
    spread(work, parts, deliver, threads=threads, task=task)
