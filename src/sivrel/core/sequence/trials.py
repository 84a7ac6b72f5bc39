"""Trials in motion: a few boxes of a few neighbouring frames, rendered with one thing changed, and their flicker."""

from dataclasses import replace
from typing import Any, Literal

import numpy as np

from ..diagnose.trial_renderer import TrialRenderer
from ..edits.edits import Edits, with_edits
from ..errors import InputError
from ..measure.difference import PIXELS_PER_DEGREE
from ..measure.flicker import Flicker, measure_flicker
from ..render.film import TILE
from ..render.filter import filter_noise
from ..render.frame import Frame
from ..render.recipe import Recipe, with_values
from ..render.through_time import Moving
from ..rendered import Render
from ..scene.model import FrameRange
from ..tune.in_motion import JudgeInMotion, MotionLevel
from ..tune.render import Scattered
from .filter_in_time import join_filtered
from .render import Sequence

Box = tuple[int, int, int, int]
BLOCK = 16
"""Side of the blocks whose energies are compared, in pixels."""
BOXES, SIDE = 8, 32
"""Boxes that stand for a picture, and their side in pixels."""
FEW, IN_MOTION = 4, 3
"""Boxes of a region, and frames, by which settings are judged in motion."""


def boxes_of(width: int, height: int, seed: int = 0, count: int = BOXES, side: int = SIDE) -> list[Box]:
    """About `count` boxes on an even grid over a picture, from a random start; the whole picture where it has no room for more."""
    columns = max(1, round((count * width / height) ** 0.5))
    rows = max(1, round(count / columns))
    columns, rows = min(columns, max(1, width // side)), min(rows, max(1, height // side))
    start = np.random.default_rng(seed).random(2)
    found = []
    for row in range(rows):
        for column in range(columns):
            x = int((column + start[0]) / columns * max(width - side, 0))
            y = int((row + start[1]) / rows * max(height - side, 0))
            found.append((x, y, min(x + side, width), min(y + side, height)))
    return found


def boxes_in(region: Box, count: int = FEW) -> list[Box]:
    """A region as boxes: some of it, or all of it if it is not larger than they are."""
    x0, y0, x1, y1 = region
    if (x1 - x0) * (y1 - y0) <= count * SIDE * SIDE:
        return [region]
    return [(x0 + a, y0 + b, x0 + c, y0 + d) for a, b, c, d in boxes_of(x1 - x0, y1 - y0, count=count)]


class Measured:
    """Energy of flicker, the mean square of how much it is seen, over blocks; and the seconds of one frame of the boxes, caches apart."""

    def __init__(self, blocks: np.ndarray, seconds: float, judged: bool = True) -> None:
        self.blocks, self.seconds, self.judged = blocks, seconds, judged

    @property
    def energy(self) -> float:
        return float(self.blocks.mean()) if len(self.blocks) else 0.0

    @property
    def error(self) -> float:
        """Standard error of the energy, from the spread of the blocks."""
        return float(self.blocks.std(ddof=1) / len(self.blocks) ** 0.5) if len(self.blocks) > 1 else self.energy


class MotionTrials:
    """Trials about a time code of a sequence. boxes: of pixels that are rendered; count: neighbouring frames, three or five."""

    def __init__(
        self, sequence: Sequence, time: float, boxes: list[Box], *, rate: float, exposure: float, per_degree: float = PIXELS_PER_DEGREE,
        first: float, last: float, count: int = 5,
    ) -> None:  # fmt: skip
        self.sequence, self.boxes, self.rate, self.exposure, self.per_degree = sequence, boxes, rate, exposure, per_degree
        start = min(max(time - count // 2, first), max(first, last - count + 1))
        self.times = [start + k for k in range(count) if start + k <= last]
        self.kept: dict[tuple[Recipe, str], list[Render]] = {}

    def where(self) -> Scattered:
        """The boxes as a frame's pixels."""
        tiles = tuple(
            (x, y, min(x + TILE, box[2]), min(y + TILE, box[3]))
            for box in self.boxes
            for y in range(box[1], box[3], TILE)
            for x in range(box[0], box[2], TILE)
        )
        own = self.sequence.frame
        return Scattered(own.width, own.height, None, own.seed, None, tiles, (1.0,) * len(tiles))

    def changed(self, values: dict[str, Any], edits: dict[str, Any] | None = None) -> tuple[Recipe, Edits]:
        return with_values(self.sequence.recipe, values), with_edits(self.sequence.edits, edits or {})

    def frames(self, recipe: Recipe, edits: Edits) -> list[Render]:
        """The boxes of the frames. Raises as `Task.check`."""
        key = recipe, str(edits.flat())
        if key not in self.kept:
            varied = self.sequence.varied(recipe, edits)
            # Shared caches are gathered from these frames only: that is all that is seen of them here.
            varied.moving = replace(varied.moving, frames=tuple(self.times))
            self.kept[key] = [varied.render(time, of=self.where()) for time in self.times]
        return self.kept[key]

    def measure(self, recipe: Recipe, edits: Edits, *, filtered: Literal["", "alone", "in_time"] = "") -> Measured:
        """The flicker of the boxes with a recipe, of the middle frames; filtered: as the filter shows them, on each frame alone or through time."""
        made = self.frames(recipe, edits)
        shown = [one.passes["beauty"][..., :3] for one in made]
        middle = range(1, len(made) - 1)
        if filtered:
            shown = self._filtered(made, filtered == "in_time")
        flickers = [self._flicker(made[k - 1 : k + 2], shown[k - 1 : k + 2]) for k in middle]
        energies = np.array([[flicker.energy(block) for block in self.blocks()] for flicker in flickers])
        judged = any(flicker.known[y0:y1, x0:x1].any() for flicker in flickers for x0, y0, x1, y1 in self.boxes)
        return Measured(energies.mean(axis=0), float(np.mean([one.seconds for one in made])), judged)

    def _filtered(self, made: list[Render], in_time: bool) -> list[np.ndarray]:
        """The frames as the filter shows them, each box by itself: what was not rendered has no error that the filter could tell."""
        shown = [one.passes["beauty"][..., :3].copy() for one in made]
        for x0, y0, x1, y1 in self.boxes:
            part = np.s_[y0:y1, x0:x1]
            passes = [{name: plane[part] for name, plane in one.passes.items()} for one in made]
            alone = [filter_noise(planes) for planes in passes]
            for k, one in enumerate(alone):
                shown[k][part] = (join_filtered(passes, alone, k) if in_time else one).image
        return shown

    def level(self, recipe: Recipe, edits: Edits) -> MotionLevel:
        """The flicker of the boxes with a recipe. Raises as `Task.check`, and InputError if nothing in them could be judged."""
        measured = self.measure(recipe, edits)
        if not measured.judged:
            raise InputError("What this region shows leaves it from one frame to the next, so it can't be judged in motion; choose a larger region.")
        level = measured.energy**0.5
        return MotionLevel(level, measured.error / (2.0 * level) if level > 0.0 else 0.0)

    def blocks(self) -> list[Box]:
        return [
            (x, y, min(x + BLOCK, box[2]), min(y + BLOCK, box[3]))
            for box in self.boxes
            for y in range(box[1], box[3], BLOCK)
            for x in range(box[0], box[2], BLOCK)
        ]

    def _rendered(self) -> np.ndarray:
        mask = np.zeros((self.sequence.frame.height, self.sequence.frame.width), bool)
        for x0, y0, x1, y1 in self.boxes:
            mask[y0:y1, x0:x1] = True
        return mask

    def _flicker(self, three: list[Render], shown: list[np.ndarray]) -> Flicker:
        return measure_flicker(
            *(one.passes for one in three), exposure=self.exposure, rate=self.rate, per_degree=self.per_degree,
            shown=(shown[0], shown[1], shown[2]), rendered=self._rendered(),
        )  # fmt: skip


def judge_in_motion(
    renderer: TrialRenderer, moving: Moving, of: FrameRange, frame: Frame, exposure: float, per_degree: float = PIXELS_PER_DEGREE
) -> JudgeInMotion:  # fmt: skip
    """What judges recipes of a trial renderer in motion: by three frames about the one of `frame`, on boxes of its window."""
    shot = Sequence(
        moving, renderer.recipe, renderer.edits, renderer.camera, replace(frame, region=None), name=renderer.scene.name, caches=renderer.caches,
        files=renderer.files, task=renderer.task.before(renderer.task.until),
    )  # fmt: skip
    time = frame.time if frame.time is not None else of.first
    return MotionTrials(
        shot, time, boxes_in(frame.window), rate=of.rate, exposure=exposure, per_degree=per_degree, first=of.first, last=of.last, count=IN_MOTION,
    ).level  # fmt: skip
