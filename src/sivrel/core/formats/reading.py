"""How far the reading of a file is, for those who wait for it. Readers report; whoever starts a reader may listen."""

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

Report = Callable[[float, str], None]
EVERY = 0.25
"""Seconds between two reports."""
_listener: ContextVar[tuple[Report, list[float]] | None] = ContextVar("reading", default=None)


@contextmanager
def heard_by(report: Report) -> Iterator[None]:
    """Within it, reports of readers go to `report`: a share of the file from 0 to 1, and what was read so far."""
    token = _listener.set((report, [0.0]))
    try:
        yield
    finally:
        _listener.reset(token)


def is_heard() -> bool:
    """Whether anybody listens, so that it pays to count the work first."""
    return _listener.get() is not None


def report(share: float, what: Callable[[], str]) -> None:
    """Report to the listener, if there is one and the last report was a while ago; only then is `what` put into words."""
    listener = _listener.get()
    if listener is not None and time.monotonic() - listener[1][0] >= EVERY:
        listener[1][0] = time.monotonic()
        listener[0](min(1.0, share), what())
