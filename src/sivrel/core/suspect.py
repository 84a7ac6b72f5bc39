"""What may be at fault for a flaw, and what cures it: declared by the things that may be, tried by the diagnosis."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

BLOTCHES, LEAK, DARK, BRIGHT = "blotches", "leak", "dark", "bright"
"""Flaws of the light that a way is asked for: light that goes up and down in patches, that is where none should be, that is missing, that is too
much at contact."""


@dataclass
class Remedy:
    """A change to recipe or scene, and what it is predicted to do.

    words: a sentence; values: of the recipe, and edits of the scene, by key; both empty where it is done outside
    amount: the finding's amount after it, with error where it was tried, None where nobody knows; seen: times the eye's threshold then
    seconds: render time after it; basis: how that is known: `trial`, `two trials`, `law` or `predicted`
    costs: in words, what is paid beside time
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
    """A cause that a finding may have. key: its name; says: the cause, a sentence; values, edits: what is changed to try it, that alone;
    prior: how likely before any trial, relative to the others; kind: what the finding is if this is it, where that depends
    cure: what is offered when it is proven, in words; "" to offer nothing of it; others: further remedies
    law: how the amount falls with `values` where a trial of the change itself would take too long"""

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
    """What a trial sets instead of `values`, where those take long to make ready."""
    inverse: float = 0.0
    """Growth of amount² when the trial lowers this setting; 0 where the change itself is tried."""
    raised: float = 0.0
    """Times more that is taken of something of which the square of the amount falls in proportion; 0 for any other change."""
    whole: bool = False
    """Whether it replaces so much (the way itself) that it says where the cause lies, not what it is."""


Suspects = Callable[[Any, Any, str, str, dict[str, float]], list[Suspect]]
"""What may be at fault in a way: (its settings, the recipe, one of the flaws above, `seen` or `beyond`, automatic distances in metres by setting)."""
