"""The picture while it is rendered, filtered: at once from a coarse look, then again and again with the tiles that have come."""

import time
from collections.abc import Callable

import numpy as np

from ..core.render.filter import LIGHT, PARTS, filter_quickly, learned_filter, parts_of
from ..core.render.frame import Frame, paste
from .quick import coarser, spread

LEAST_WAIT, OF_TIME = 0.4, 6.0
"""Seconds between two pictures, and at least that many times what the last one took."""


class LivePicture:
    """keep(picture) receives each, float32 [rows, columns, 3] of the frame's window; none where the learned filter does not run."""

    def __init__(self, frame: Frame, keep: Callable[[np.ndarray], None]) -> None:
        x0, y0, x1, y1 = frame.window
        self.frame, self.keep, self.due = frame, keep, 0.0
        self.parts = np.zeros((y1 - y0, x1 - x0, PARTS), np.float32)

    def begin(self, coarse: np.ndarray, step: int) -> None:
        """Show a coarse look, float32 `parts_at` the coarser frame; it stands where no tile has come."""
        seen = np.concatenate([filter_quickly(coarse), coarse[..., LIGHT.stop :]], axis=2)
        self.parts = spread(seen, coarser(self.frame, step), self.frame, step, smooth=True)
        if learned_filter() is not None:
            self.keep(self.parts[..., LIGHT])

    def add(self, box: tuple[int, int, int, int], tile: np.ndarray) -> None:
        """Take the film of a finished tile; show it, unless another was shown a moment ago."""
        paste(self.parts, self.frame, box, parts_of(tile))
        begun = time.monotonic()
        if begun >= self.due and learned_filter() is not None:
            self.keep(filter_quickly(self.parts))
            ended = time.monotonic()
            self.due = ended + max(LEAST_WAIT, OF_TIME * (ended - begun))
