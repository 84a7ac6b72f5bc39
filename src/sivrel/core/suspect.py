"""Suspects, the possible causes of a flaw, and remedies: declared by ways and shadows, tried by the diagnosis."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

BLOTCHES, LEAK, DARK, BRIGHT = "blotches", "leak", "dark", "bright"
"""Flaws that a way is asked about: light that varies in patches, that is where none should be, that is missing, and that is too
bright at contact."""


@dataclass
class Remedy:
    """A change to recipe or scene, with its prediction.

    words: a sentence; values: of the recipe, and edits of the scene, by key; both empty if it is done outside this program
    amount: the finding's amount after it, with error if it was tried, None if unknown; seen: visibility after it, in thresholds of the eye
    seconds: render time after it; basis: of the prediction: `trial`, `two trials`, `law` or `predicted`
    costs: in words, its cost besides time
    """

    words: str
    values: dict[str, Any] = field(default_factory=dict)
    edits: dict[str, Any] = field(default_factory=dict)
    amount: float | None = None
    amount_error: float | None = None
    seen: float | None = None
    seconds: float | None = None
    basis: str = ""
    costs: str = ""

    @property
    def changes(self) -> dict[str, Any]:
        return {**self.values, **self.edits}


@dataclass
class Suspect:
    """A possible cause of a finding. key: its name; says: the cause, a sentence; values, edits: the only change that tries it;
    prior: relative probability before any trial; kind: the finding's kind if this is the cause, where it depends on that
    cure: the remedy if it is proven, in words; "" for none; others: further remedies
    law: how the amount falls with `values`, if a trial of the change itself would take too long"""

    key: str
    says: str
    values: dict[str, Any] = field(default_factory=dict)
    edits: dict[str, Any] = field(default_factory=dict)
    prior: float = 1.0
    kind: str = ""
    cure: str = ""
    costs: str = ""
    others: list[Remedy] = field(default_factory=list)
    tried: dict[str, Any] = field(default_factory=dict)
    """Values for the trial instead of `values`, if those take long to prepare."""
    inverse: float = 0.0
    """Growth of amount² when the trial lowers this setting; 0 if the change itself is tried."""
    raised: float = 0.0
    """Factor on a number to which the square of the amount is inversely proportional; 0 for any other change."""
    whole: bool = False
    """Whether it replaces so much (the way itself) that it only locates the cause."""


Suspects = Callable[[Any, Any, str, str, dict[str, float]], list[Suspect]]
"""Lists the suspects of a way: (its settings, the recipe, one of the flaws above, `seen` or `beyond`, automatic distances in metres by setting)."""
