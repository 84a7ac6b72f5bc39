"""A finding of a scene check: where, why it matters in this shot, its evidence, and fixes."""

from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np

SPOILS, COSTS = 0.5, 0.2
"""Least harm of a finding that spoils the picture, and of one that costs time or quality."""
Point = tuple[float, float, float]


@dataclass(frozen=True)
class Mend:
    """A fix in words, and the edits that make it; without edits it can only be done in the scene's own program."""

    words: str
    edits: dict[str, Any] = field(default_factory=dict)


@dataclass
class SceneFinding:
    """kind: the check, and the problem; title: the problem in one sentence; why: what it does in this shot
    harm: 0 to 1, how much of this shot it can spoil; at: position in metres; box: low and high corner of the object, metres
    path: the way light may take through it, from outside to the room, metres
    spot: its place in the picture, 0 to 1 from left and top, None where the camera does not see it
    evidence: measurements; objects: names of meshes, lights or cameras; mends: best first
    """

    kind: str
    title: str
    why: str
    harm: float
    at: Point
    box: tuple[Point, Point]
    objects: list[str] = field(default_factory=list)
    evidence: dict[str, Any] = field(default_factory=dict)
    mends: list[Mend] = field(default_factory=list)
    path: list[Point] = field(default_factory=list)
    spot: tuple[float, float] | None = None

    @property
    def severity(self) -> str:
        return "spoils the picture" if self.harm >= SPOILS else "costs" if self.harm >= COSTS else "worth knowing"

    def as_dict(self) -> dict[str, Any]:
        """As JSON holds it; places in metres."""
        return {**asdict(self), "severity": self.severity}


def point(v: np.ndarray) -> Point:
    """A point rounded to a tenth of a millimetre."""
    return round(float(v[0]), 4), round(float(v[1]), 4), round(float(v[2]), 4)


def box_of(points: np.ndarray) -> tuple[Point, Point]:
    """Lowest and highest corner of points, [n, 3]."""
    flat = points.reshape(-1, 3)
    return point(flat.min(axis=0)), point(flat.max(axis=0))


def short(name: str) -> str:
    """The last part of a mesh's path, as sentences name it."""
    return name.rstrip("/").split("/")[-1]
