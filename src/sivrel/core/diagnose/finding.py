"""The result of a diagnosis: findings, their possible causes, trials of these, and remedies."""

import re
from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np

from ..suspect import Remedy as Remedy
from ..suspect import Suspect as Suspect
from .eye import GRAIN_SEEN, SEEN

Box = tuple[int, int, int, int]
PERCENT = re.compile(r"(\d)%")
MOST_RANKED = 25.0
"""Visibility beyond which a flaw does not rank higher."""
PROVEN, STRUCK, OPEN, NO_TIME = "proven", "struck off", "not decided", "no time to try"


@dataclass
class Trial:
    """A suspect's small render. explained: share of the flaw removed by the change, with error; brings: share of it due to the cause,
    where still more of something would remove more (otherwise the same), with its error; verdict; seconds it took; rate: time
    of a sample against one of the recipe as it is; picture: its pixels linear [rows, columns, 3] until they are kept, then a name; whole_before and
    whole_after: the error of the region against brute force, noise and bias, as it is and with the change."""

    suspect: str
    says: str
    changes: dict[str, Any]
    explained: float | None
    error: float | None
    verdict: str
    seconds: float
    amount: float | None = None
    rate: float | None = None
    prepares: float = 0.0
    picture: Any = None
    brings: float | None = None
    brings_error: float | None = None
    whole_before: float | None = None
    whole_after: float | None = None


@dataclass
class Finding:
    """One measured flaw.

    kind: of flaw; about: distinguishes it from others of its kind: a source, an object; measure: how `amount` is measured (measures.py)
    title, why: sentences; where: its place in words; box: left, top, right, bottom in pixels of the frame; share: of the picture
    contrast: as displayed; size: pixels across; seen: visibility in thresholds of the eye
    weak: whether it rests on the picture only; chance: whether a closer look did not confirm it; mask: cells of the coarse grid that it covers
    cause, confidence: proven by trials, from 0 to 1; trials; remedies, and those combined of two; withdrawn: remedies that a trial did not
    confirm, in a sentence each; path, fed: the light's path to it in metres, and
    the record that contributes most
    """

    kind: str
    title: str
    why: str
    box: Box
    share: float
    seen: float
    measure: str
    amount: float
    about: str = ""
    where: str = ""
    contrast: float = 0.0
    size: float = 1.0
    sign: int = 1
    weak: bool = False
    evidence: dict[str, Any] = field(default_factory=dict)
    suspects: list[Suspect] = field(default_factory=list)
    trials: list[Trial] = field(default_factory=list)
    cause: str = ""
    cause_key: str = ""
    confidence: float | None = None
    remedies: list[Remedy] = field(default_factory=list)
    combined: list[Remedy] = field(default_factory=list)
    withdrawn: list[str] = field(default_factory=list)
    settles: list[str] = field(default_factory=list)
    note: str = ""
    chance: bool = False
    path: list[tuple[float, float, float]] = field(default_factory=list)
    fed: dict[str, Any] | None = None
    mask: np.ndarray | None = None
    pictures: dict[str, Any] = field(default_factory=dict)

    @property
    def key(self) -> str:
        """Identifies it in another proof of the shot."""
        return f"{self.kind}:{self.about}"

    @property
    def threshold(self) -> float:
        """Visibility from which it counts as seen."""
        return GRAIN_SEEN if self.measure == "noise" else SEEN

    @property
    def rank(self) -> float:
        """How bad it is: how visible, over how much of the picture."""
        return min(self.seen, MOST_RANKED) * (0.3 + min(1.0, self.share) ** 0.5)

    def as_dict(self) -> dict[str, Any]:
        """As JSON; suspects that were not tried are named, pictures must have been stored before."""
        result = asdict(self)
        del result["combined"]
        result["threshold"] = self.threshold
        result["key"], result["suspects"] = self.key, [s.says for s in self.suspects if s.key not in {t.suspect for t in self.trials}]
        result["mask"] = runs_of(self.mask) if self.mask is not None else None
        return result


def runs_of(mask: np.ndarray) -> dict[str, Any]:
    """A mask [rows, columns] as JSON: its shape, and run lengths, alternately outside and inside."""
    flat = np.concatenate([[False], mask.reshape(-1), [False]])
    edges = np.flatnonzero(flat[1:] != flat[:-1])
    return {"rows": mask.shape[0], "columns": mask.shape[1], "edges": edges.tolist()}


def mask_of(runs: dict[str, Any]) -> np.ndarray:
    """The inverse of runs_of."""
    flat = np.zeros(runs["rows"] * runs["columns"] + 1, int)
    for k, edge in enumerate(runs["edges"]):
        flat[edge] += 1 if k % 2 == 0 else -1
    return np.cumsum(flat)[:-1].astype(bool).reshape(runs["rows"], runs["columns"])


def cleared(value: Any) -> Any:
    """Numbers as JSON allows them, and a space before per cent signs."""
    if isinstance(value, dict):
        return {k: cleared(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [cleared(v) for v in value]
    if isinstance(value, np.generic):
        value = value.item()
    if isinstance(value, str):
        return PERCENT.sub(r"\1 %", value)
    if isinstance(value, float):
        return round(value, 6) if np.isfinite(value) else None
    return value
