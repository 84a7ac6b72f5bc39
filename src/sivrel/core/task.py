"""Long work: progress, cancelling and deadlines."""

import math
import threading
from collections.abc import Callable
from typing import Any

import numpy as np

from . import machine
from .errors import Cancelled
from .work_time import work_time

Hear = Callable[[str, float, Any], None]
"""Called with the current step, the share that is done, and the result so far."""


HERE = "this machine"


class OutOfTime(Cancelled):
    """The deadline of the work has passed."""


class Cancel:
    """A switch that cancels work within some thousand samples, or pauses it between tiles. Thread-safe."""

    def __init__(self) -> None:
        self.flag = np.zeros(1, np.uint8)
        """The flag that kernels check."""
        self._may_go_on = threading.Event()
        self._may_go_on.set()

    def set(self) -> None:
        self.flag[0] = 1
        self._may_go_on.set()

    def is_set(self) -> bool:
        return bool(self.flag[0])

    def hold(self, on: bool) -> None:
        """Start no tile while `on`."""
        if on and not self.is_set():
            self._may_go_on.clear()
        else:
            self._may_go_on.set()

    def is_held(self) -> bool:
        return not self._may_go_on.is_set()

    def wait(self) -> None:
        """Wait while the work is paused."""
        self._may_go_on.wait()


class Task:
    """A piece of long work, passed down to everything that does a part of it.

    hear: called at each step, in the working thread; cancel: cancels it; until: work time (see `work_time`) of its deadline; elsewhere: other
    processes that do parts of it (`spread.Elsewhere`). The work
    calls `report` or `check`, which raise Cancelled or OutOfTime; nothing else ends a task early.
    """

    def __init__(self, hear: Hear | None = None, cancel: Cancel | None = None, until: float = math.inf, elsewhere: Any = None) -> None:
        self.hear, self.cancel, self.until, self.elsewhere = hear, cancel if cancel is not None else Cancel(), until, elsewhere

    def threads(self) -> int:
        """How many threads do its parts: those elsewhere if there are any."""
        return (self.elsewhere.threads() if self.elsewhere is not None else 0) or machine.threads()

    def where(self) -> str:
        """Where its parts are done, in words."""
        return self.elsewhere.where() if self.elsewhere is not None and self.elsewhere.threads() else HERE

    def here(self) -> "Task":
        """The same task, done in this process alone."""
        return Task(self.hear, self.cancel, self.until)

    def check(self) -> None:
        """Raise Cancelled if the task was cancelled, OutOfTime after its deadline."""
        if self.cancel.is_set():
            raise Cancelled
        if work_time() > self.until:
            raise OutOfTime

    def report(self, what: str, share: float = 0.0, result: Any = None) -> None:
        """Report the current step and the progress, from 0 to 1; raises as `check`."""
        if self.hear is not None:
            self.hear(what, share, result)
        self.check()

    def before(self, until: float) -> "Task":
        """The same task with its own deadline, and without progress."""
        return Task(None, self.cancel, until, self.elsewhere)
