"""Helpers as they are seen from the machine that renders."""

from dataclasses import dataclass, field

LOOK = 0.2
"""Seconds between looks at who is there, and at what was cancelled."""
AGAIN = 60.0
"""Seconds after which a helper that has failed is tried again."""


@dataclass
class Member:
    """A helper.

    here: whether it is on this machine; problem: why it is not used, and until: when it is tried again, in seconds of the monotonic clock, 0 for
    never; introduced: whether it has said what it is; busy: that it is being sent something; sent: works that it knows; out: tasks that it has; does:
    their kind; took: parts that it has done and seconds of its processor for them, by kind; lost: tasks that did not come back whole; memory,
    most_memory: bytes; load: processors in use, as a share of its threads.
    """

    address: str
    threads: int = 0
    name: str = ""
    here: bool = False
    problem: str = ""
    until: float = 0.0
    introduced: bool = False
    busy: bool = False
    sent: set[str] = field(default_factory=set)
    out: int = 0
    does: str = ""
    took: dict[str, tuple[int, float]] = field(default_factory=dict)
    lost: int = 0
    memory: int = 0
    most_memory: int = 0
    load: float = 0.0

    @property
    def parts(self) -> int:
        """How many parts it has done."""
        return sum(parts for parts, _ in self.took.values())


def speeds(members: list[Member]) -> dict[str, float]:
    """The speed of each helper that has done something, by address: the seconds in which all of them on average do the parts that it has done, over
    its own."""
    whole: dict[str, tuple[int, float]] = {}
    for one in members:
        for kind, (parts, seconds) in one.took.items():
            before = whole.get(kind, (0, 0.0))
            whole[kind] = before[0] + parts, before[1] + seconds
    found = {}
    for one in members:
        own = sum(seconds for _, seconds in one.took.values())
        if own > 0.0:
            found[one.address] = sum(parts * whole[kind][1] / whole[kind][0] for kind, (parts, _) in one.took.items()) / own
    return found
