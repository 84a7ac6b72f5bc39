"""Seconds that work takes on a machine that does nothing else: processor time, in which limits and measured costs are told. A busy machine
comes to the same results, later."""

import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any


class _Task:
    """What one thread does, with all that it gave to pools."""

    def __init__(self) -> None:
        self.total, self.lock = 0.0, threading.Lock()


class _Thread(threading.local):
    def __init__(self) -> None:
        self.task, self.share, self.since = _Task(), 1.0, time.thread_time()


_own = _Thread()


def work_time() -> float:
    """Seconds of processor time of this thread, and of the pools that work for it divided by their threads: what a clock shows where nothing
    else runs. In a thread of a `Pool` that of the thread which it works for. Only differences mean something; waiting counts for nothing."""
    now = time.thread_time()
    with _own.task.lock:
        _own.task.total += (now - _own.since) * _own.share
        total = _own.task.total
    _own.since = now
    return total


class Pool(ThreadPoolExecutor):
    """Threads whose work counts as that of the thread which gives it to them."""

    def __init__(self, threads: int) -> None:
        super().__init__(threads)
        self.threads = threads

    def submit(self, fn: Callable[..., Any], /, *args: Any, **kwargs: Any) -> Future[Any]:
        task, share = _own.task, _own.share / self.threads

        def counted() -> Any:
            before = _own.task, _own.share
            _own.task, _own.share, _own.since = task, share, time.thread_time()
            try:
                return fn(*args, **kwargs)
            finally:
                work_time()
                _own.task, _own.share = before

        return super().submit(counted)
