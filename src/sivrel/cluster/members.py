"""Helpers as they are seen from the machine that renders."""

from dataclasses import dataclass, field

LOOK = 0.2
"""Seconds between looks at who is there, and at what was cancelled."""
AGAIN = 60.0
"""Seconds after which a helper that has failed is tried again."""
FRESH = 0.2
"""Weight of a new measurement of speed."""


@dataclass
class Member:
    """A helper.

    here: whether it is on this machine; problem: why it is not used, and until: when it is tried again, in seconds of the monotonic clock, 0 for
    never; introduced: whether it has said what it is; busy: that it is being sent something; sent: works that it knows; out: tasks that it has; does:
    their kind; parts: how many it has done, in how many seconds of its processor; lost: tasks that did not come back whole; speed: against the mean
    of all; memory, most_memory, free_disk: bytes; load: processors in use, as a share of its threads.
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
    parts: int = 0
    seconds: float = 0.0
    lost: int = 0
    speed: float = 1.0
    memory: int = 0
    most_memory: int = 0
    free_disk: int = 0
    load: float = 0.0
