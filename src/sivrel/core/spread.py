"""Work in numbered parts: on threads of this process, or in other processes."""

import threading
from collections.abc import Callable, Mapping
from typing import Any, Protocol

import numpy as np

from .errors import Cancelled
from .task import OutOfTime, Task
from .work_time import Pool

Deliver = Callable[[int, Any], None]
"""Receives the number of a finished part and its result. Calls come one at a time, in no fixed order."""


class Worker(Protocol):
    """Does parts of some work. Thread-safe."""

    def do(self, part: int, given: Any, cancel: np.ndarray) -> Any:
        """The result of a part, a tuple of arrays; None if `cancel` was set meanwhile. given: what only this part needs."""


class Work(Protocol):
    """Work as a value that another process can receive: plain data and arrays, no addresses. What a part brings depends on nothing but the work, its
    number and what is given for it."""

    def worker(self) -> Worker:
        """What does its parts in this process."""


class Elsewhere(Protocol):
    """Other processes that do parts."""

    def threads(self) -> int:
        """How many parts they do at a time; 0 if nobody is there."""

    def where(self) -> str:
        """Where that is, in words, like “3 helpers”."""

    def do(self, work: Work, parts: Mapping[int, Any], task: Task, deliver: Deliver) -> None:
        """Do these parts, and deliver each once, until all are done, or the task is cancelled, or nobody is there to do it. Few parts may be left, if
        they are done faster here."""


def spread(work: Work, parts: Mapping[int, Any], deliver: Deliver, *, threads: int = 1, task: Task | None = None) -> None:
    """Do all parts, given by number, and deliver each once: where the task has `elsewhere`, there, and what is left on threads here. Raises as
    `Task.check`, at once within a part if the task is cancelled, and what `deliver` raises."""
    task, left = task or Task(), dict(parts)

    def take(part: int, result: Any) -> None:
        del left[part]
        deliver(part, result)
        if left:
            task.check()

    if task.elsewhere is not None and left:
        task.elsewhere.do(work, dict(left), task, take)
    if left and not task.cancel.is_set():
        _on_threads(work, dict(left), take, threads, task)
    if left:
        raise Cancelled


def _on_threads(work: Work, parts: dict[int, Any], deliver: Deliver, threads: int, task: Task) -> None:
    worker, waiting, cancel = work.worker(), iter(parts.items()), task.cancel
    lock, delivered, failed = threading.Lock(), threading.Lock(), threading.Event()

    def run() -> None:
        while not cancel.is_set() and not failed.is_set():
            cancel.wait()
            with lock:
                following = next(waiting, None)
            if following is None:
                return
            try:
                result = worker.do(*following, cancel.flag)
                if result is not None:
                    with delivered:
                        if not failed.is_set():
                            deliver(following[0], result)
            except BaseException:
                failed.set()
                raise

    threads = max(1, min(threads, len(parts)))
    with Pool(threads) as pool:
        jobs = [pool.submit(run) for _ in range(threads)]
        try:
            for job in jobs:
                job.result()
        except BaseException as error:
            failed.set()
            if not isinstance(error, OutOfTime):  # a task that is out of time may go on with something else
                cancel.set()
            raise
