"""The picture while it is rendered, filtered: at once from a coarse look, then again and again with the tiles that have come."""

import logging
import math
import time
from collections.abc import Callable

import numpy as np

from ..core import machine
from ..core.render.filter import LIGHT, PARTS, filter_quickly, learned_filter, parts_of
from ..core.render.frame import Frame, paste
from ..core.render.prepare import Prepared
from ..core.render.recipe import Recipe
from ..core.task import Task
from .quick import coarser, sketch, spread, step_for

COARSE_PIXELS = 33_000
"""Most samples of a first look: some tenths of a second."""
LEAST_WAIT, OF_TIME = 0.4, 6.0
"""Seconds between two pictures, and at least that many times what the last one took."""
log = logging.getLogger(__name__)


class LivePicture:
    """keep(picture) receives each, float32 [rows, columns, 3] of the frame's window; none where the learned filter does not run."""

    def __init__(self, frame: Frame, keep: Callable[[np.ndarray], None]) -> None:
        x0, y0, x1, y1 = frame.window
        self.frame, self.keep = frame, keep
        self.due = 0.0 if learned_filter() is not None else math.inf
        self.parts = np.zeros((y1 - y0, x1 - x0, PARTS), np.float32)

    def look(self, ready: Prepared, recipe: Recipe, task: Task) -> np.ndarray:
        """Begin with one sample for many pixels, and return that in blocks, float32 [rows, columns, 3]. Raises Cancelled."""
        step = step_for(self.frame, COARSE_PIXELS)
        coarse = sketch(ready, recipe, self.frame, step, machine.threads(), task)
        self.begin(coarse, step)
        return spread(coarse[..., LIGHT], coarser(self.frame, step), self.frame, step)

    def begin(self, coarse: np.ndarray, step: int) -> None:
        """Show a coarse look, float32 `parts_at` the coarser frame; it stands where no tile has come."""
        light = self._filtered(coarse)
        if light is not None:
            seen = np.concatenate([light, coarse[..., LIGHT.stop :]], axis=2)
            self.parts = spread(seen, coarser(self.frame, step), self.frame, step, smooth=True)
            self.keep(self.parts[..., LIGHT])

    def add(self, box: tuple[int, int, int, int], tile: np.ndarray) -> None:
        """Take the film of a finished tile; show it, unless another was shown a moment ago."""
        paste(self.parts, self.frame, box, parts_of(tile))
        begun = time.monotonic()
        if begun < self.due:
            return
        light = self._filtered(self.parts)
        if light is not None:
            self.keep(light)
            ended = time.monotonic()
            self.due = ended + max(LEAST_WAIT, OF_TIME * (ended - begun))

    def _filtered(self, parts: np.ndarray) -> np.ndarray | None:
        """The light without grain; None where there can be none, which must not end the render."""
        if self.due == math.inf:
            return None
        try:
            return filter_quickly(parts)
        except (RuntimeError, MemoryError):
            log.exception("The picture could not be filtered while it is rendered.")
            self.due = math.inf
            return None
