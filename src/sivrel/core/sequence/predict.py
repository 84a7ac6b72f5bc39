"""The flicker of a moving shot predicted from a still: a few small boxes of it are rendered at the next frames, with their own grain.

The boxes lie on an even grid from a random start, so that their mean is that of the whole picture (Cochran 1977, "Sampling Techniques", chapter 8).
"""

from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np

from .trials import Box, MotionTrials


@dataclass
class Prediction:
    """level: expected root mean square of the flicker over the picture, in times what is just seen, and its standard error; samples: how many times
    the samples hide it, if it is grain; worst: the box with most of it, its level and the object there."""

    level: float
    error: float
    samples: float
    boxes: list[Box] = field(default_factory=list)
    worst: dict[str, Any] = field(default_factory=dict)

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def predict(trials: MotionTrials) -> Prediction:
    """What is expected of the flicker, from the boxes of `trials` as `boxes_of` lays them. Raises as `Task.check`."""
    measured = trials.measure(trials.sequence.recipe, trials.sequence.edits)
    per_box = len(measured.blocks) // max(1, len(trials.boxes))
    energies = measured.blocks[: per_box * len(trials.boxes)].reshape(len(trials.boxes), -1).mean(axis=1)
    seen = energies[energies > 0.0]
    if not len(seen):
        return Prediction(0.0, 0.0, 1.0, trials.boxes)
    energy, error = float(seen.mean()), float(seen.std(ddof=1) / len(seen) ** 0.5) if len(seen) > 1 else float(seen.mean())
    worst = int(energies.argmax())
    box, middle = trials.boxes[worst], trials.frames(trials.sequence.recipe, trials.sequence.edits)[len(trials.times) // 2]
    numbers = middle.passes["object"][box[1] : box[3], box[0] : box[2], 0]
    own = numbers[numbers >= 0].astype(int)
    name = middle.picture.objects[int(np.bincount(own).argmax())] if len(own) else ""
    return Prediction(
        energy**0.5, error / (2.0 * energy**0.5), max(1.0, energy), trials.boxes,
        {"box": list(box), "level": float(energies[worst] ** 0.5), "object": name},
    )  # fmt: skip


def prediction_in_words(made: Prediction, rate: float) -> str:
    """A sentence on what is predicted."""
    if made.level < 0.005:
        return "Nothing in it would flicker."
    how = "would not be seen to flicker" if made.level < 1.0 else "would boil visibly" if made.level < 3.0 else "would boil strongly"
    where = made.worst["object"].rsplit("/", 1)[-1]
    place = f", most on {where}" if where and made.level >= 1.0 else ""
    need = f"; if it is grain, {made.samples:.2g} times the samples would hide it" if made.level >= 1.0 else ""
    return f"At {rate:g} frames a second this {how}{place}: {made.level:.2g} times what is just seen (± {made.error:.1g}){need}."
