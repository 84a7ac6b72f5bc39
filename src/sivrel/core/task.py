"""Long work: who hears how far it is, the switch that calls it off, and the time that it may take."""

import math
import threading
from collections.abc import Callable
from typing import Any

import numpy as np

from .errors import Cancelled
from .work_time import work_time

Hear = Callable[[str, float, Any], None]
"""Called with what is done now, the share that is done, and the result so far."""


class OutOfTime(Cancelled):
    """The time that the work may take is over."""


class Cancel:
    """A switch that calls work off, within some thousand samples, or holds it between tiles. Safe to use from any thread."""

    def __init__(self) -> None:
        self.flag = np.zeros(1, np.uint8)
        """What kernels look at."""
        self._may_go_on = threading.Event()
        self._may_go_on.set()

    def set(self) -> None:
        self.flag[0] = 1
        self._may_go_on.set()

    def is_set(self) -> bool:
        return bool(self.flag[0])

    def hold(self, on: bool) -> None:
        """Let no tile begin while `on`."""
        if on and not self.is_set():
            self._may_go_on.clear()
        else:
            self._may_go_on.set()

    def wait(self) -> None:
        """Wait for as long as the work is held."""
        self._may_go_on.wait()


class Task:
    """A piece of long work, handed down to all that does a part of it.

    hear: called at each step, in the thread that works; cancel: calls it off; until: work time (see `work_time`) at which it is over. What works
    calls `report` or `check`, which raise Cancelled or OutOfTime; nothing else ends a task early.
    """

    def __init__(self, hear: Hear | None = None, cancel: Cancel | None = None, until: float = math.inf) -> None:
        self.hear, self.cancel, self.until = hear, cancel if cancel is not None else Cancel(), until

    def check(self) -> None:
        """Raise Cancelled where the task was called off, OutOfTime where its time is over."""
        if self.cancel.is_set():
            raise Cancelled
        if work_time() > self.until:
            raise OutOfTime

    def report(self, what: str, share: float = 0.0, result: Any = None) -> None:
        """Say what is done now and how far the task is, from 0 to 1; raises as `check`."""
        if self.hear is not None:
            self.hear(what, share, result)
        self.check()

    def before(self, until: float) -> "Task":
        """The same task with a time of its own. It says nothing."""
        return Task(None, self.cancel, until)
