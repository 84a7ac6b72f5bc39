"""The frames of a moving shot, rendered one after the other with what they share: scenes, geometry and caches."""

import time as clock
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from ..caches import CacheFolder
from ..edits.edits import Edits
from ..pictures.exr import Picture
from ..render.frame import Frame
from ..render.passes import LIGHT, NOISE, SHADOW
from ..render.prepare import Files, Geometry, Prepared, placed_at, prepare
from ..render.recipe import Recipe
from ..render.through_time import Moving
from ..rendered import Neighbours, Render, render_prepared
from ..task import Task
from ..work_time import processor_time
from .frames import frames_in_words


def neighbours_of(
    moving: Moving, time: float, edits: Edits, camera: str | None, files: Files | None = None, like: Prepared | None = None
) -> Neighbours:  # fmt: skip
    """Where surfaces and camera are a frame before and after `time`, subdivided and packed like the frame itself."""
    return Neighbours(*(placed_at(moving.scene(at), edits, camera, files, like) for at in (time - 1.0, time + 1.0)))


def without_lights(picture: Picture) -> Picture:
    """A picture without the passes of each light, which make most of its file where there are many lights."""
    return replace(picture, passes={name: plane for name, plane in picture.passes.items() if not name.startswith((LIGHT, SHADOW, NOISE))})


class Sequence:
    """Frames of a moving shot with one recipe. frame: size, region and seed of each picture; `render` does one of them, in any order: it is the same
    whatever was rendered before."""

    def __init__(
        self, moving: Moving, recipe: Recipe, edits: Edits, camera: str | None, frame: Frame, *, name: str = "", caches: CacheFolder | None = None,
        files: Files | None = None, threads: int = 0, task: Task | None = None,
    ) -> None:  # fmt: skip
        self.moving, self.recipe, self.edits, self.camera, self.name = moving, recipe, edits, camera, name
        self.frame, self.caches, self.files = replace(frame, time=None), caches or CacheFolder(), files or Files()
        self.threads, self.task = threads, task or Task()
        self.geometry: Geometry | None = None

    @property
    def frames(self) -> tuple[float, ...]:
        return self.moving.frames

    def at(self, time: float, of: Frame | None = None) -> Frame:
        """The frame of a time code; `of`: with other pixels than those of the sequence."""
        return replace(of or self.frame, time=time)

    def prepared(self, time: float) -> Prepared:
        """The shot ready to render at a time code, with its caches. Raises as `Task.check`."""
        ready = prepare(
            self.moving.scene(time), self.recipe, self.edits, self.camera, files=self.files, caches=self.caches, task=self.task,
            frame=self.at(time), moving=self.moving, like=self.geometry,
        )  # fmt: skip
        self.geometry = ready.geometry
        return ready

    def varied(self, recipe: Recipe, edits: Edits) -> "Sequence":
        """The same frames with another recipe and edits, and with what both share."""
        made = Sequence(
            self.moving, recipe, edits, self.camera, self.frame, name=self.name, caches=self.caches, files=self.files, threads=self.threads,
            task=self.task,
        )  # fmt: skip
        made.geometry = self.geometry
        return made

    def render(
        self, time: float, tiles: dict[int, np.ndarray] | None = None, keep: Callable[[int, np.ndarray], None] = lambda index, film: None,
        of: Frame | None = None,
    ) -> Render:  # fmt: skip
        """Render the frame at a time code, with the passes of motion. tiles, keep: as `render_prepared` takes them; of: other pixels, with caches for
        those of the sequence. Raises Cancelled."""
        begun, before = clock.monotonic(), processor_time()
        ready = self.prepared(time)
        around = neighbours_of(self.moving, time, self.edits, self.camera, self.files, ready)
        prepared, worked = clock.monotonic() - begun, processor_time() - before
        made = render_prepared(
            ready, self.recipe, self.at(time, of), self.name, self.edits, threads=self.threads, task=self.task, neighbours=around,
            tiles=tiles, keep=keep,
        )  # fmt: skip
        made.prepare_seconds, made.picture.through, made.spent.processor = prepared, self.through, made.spent.processor + worked
        return made

    @property
    def through(self) -> str:
        """The frames in words, if caches are shared by them: a frame then depends on which these are."""
        return frames_in_words(self.frames) if self.recipe.motion.caches in ("shared", "kept") and self.recipe.preparing() else ""
