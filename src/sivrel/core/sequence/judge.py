"""Judges rendered frames in motion: as they come, three at a time."""

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from ..measure.difference import PIXELS_PER_DEGREE
from ..measure.flicker import Flicker, measure_flicker
from ..measure.registration import NEEDED
from ..pictures.exr import Picture
from ..render.filter import Filtered, filter_noise
from .filter_in_time import REACH, join_filtered

KEPT = (*NEEDED, "guide_normal", "guide_albedo", "gloss", "albedo", "direct", "indirect", "variance", "samples", "half", "position")
"""Passes that judging and filtering need."""


@dataclass
class Judged:
    """time: of the frame; flicker: against its neighbours, None without both; image: what was shown, linear colour; picture: the frame; error: of the
    filter, [rows, columns], None where it is not known."""

    time: float
    flicker: Flicker | None
    image: np.ndarray
    picture: Picture
    error: np.ndarray | None = None


@dataclass
class Judge:
    """Takes frames in order, and gives each back once its neighbours are known. filtered: whether they are shown filtered through time."""

    rate: float = 24.0
    per_degree: float = PIXELS_PER_DEGREE
    filtered: bool = False
    frames: list[Picture] = field(default_factory=list)
    alone: dict[float, Filtered] = field(default_factory=dict)
    joined: dict[float, Filtered] = field(default_factory=dict)
    done: int = 0

    def add(self, picture: Picture) -> Iterator[Judged]:
        """The frames that are ready now that `picture` has come. Frames that do not follow one on another are judged apart."""
        if self.frames and self._time(picture) != self._time(self.frames[-1]) + 1.0:
            yield from self.finish()
        kept = {name: plane for name, plane in picture.passes.items() if name in KEPT}
        self.frames.append(replace(picture, passes=kept))
        yield from self._ready(len(self.frames) - self.reach - 1)

    def finish(self) -> Iterator[Judged]:
        """The frames that were waiting for others."""
        yield from self._ready(len(self.frames) - 1)
        self.frames, self.alone, self.joined, self.done = [], {}, {}, 0

    @property
    def reach(self) -> int:
        """Frames after one that its judgement needs."""
        return 1 + REACH if self.filtered else 1

    @staticmethod
    def _time(picture: Picture) -> float:
        return picture.frame.time or 0.0

    def _ready(self, last: int) -> Iterator[Judged]:
        while self.done <= last:
            k = self.done
            now, flicker = self.frames[k], None
            if 0 < k < len(self.frames) - 1:
                three = self.frames[k - 1 : k + 2]
                flicker = measure_flicker(
                    *(one.passes for one in three), exposure=now.exposure, rate=self.rate, per_degree=self.per_degree,
                    shown=(self._shown(k - 1), self._shown(k), self._shown(k + 1)), objects=now.objects,
                )  # fmt: skip
            yield Judged(self._time(now), flicker, self._shown(k), now, self.filtered_at(k).error if self.filtered else None)
            self.done += 1
            while len(self.frames) > 2 * REACH + 3 and self.done > REACH + 1:
                gone = self._time(self.frames.pop(0))
                self.alone.pop(gone, None)
                self.joined.pop(gone, None)
                self.done, last = self.done - 1, last - 1

    def _shown(self, k: int) -> np.ndarray:
        picture = self.frames[k]
        if not self.filtered:
            return picture.beauty[..., :3]
        return self.filtered_at(k).image

    def filtered_at(self, k: int) -> Filtered:
        """A kept frame filtered through time."""
        time = self._time(self.frames[k])
        if time not in self.joined:
            near = range(max(0, k - REACH), min(len(self.frames), k + REACH + 1))
            for at in near:
                other = self._time(self.frames[at])
                if other not in self.alone:
                    self.alone[other] = filter_noise(self.frames[at].passes)
            alone = [self.alone[self._time(self.frames[at])] for at in near]
            self.joined[time] = join_filtered([self.frames[at].passes for at in near], alone, k - near.start)
        return self.joined[time]


def over_all(judged: list[tuple[float, dict[str, Any]]]) -> dict[str, Any] | None:
    """The flicker of a sequence from that of its frames, each as `Flicker.as_dict` gives it: root mean square of their levels, and the worst of them;
    None if none was judged."""
    if not judged:
        return None
    worst, body = max(judged, key=lambda one: one[1]["level"])
    return {
        "level": (sum(one["level"] ** 2 for _, one in judged) / len(judged)) ** 0.5, "share": sum(one["share"] for _, one in judged) / len(judged),
        "worst": worst, "worst_level": body["level"], "place": body["places"][0] if body["places"] else None,
    }  # fmt: skip
