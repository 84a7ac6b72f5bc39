"""Work time: the seconds that work takes on an idle machine, as processor time, used for limits and measured costs. A busy machine
reaches the same results, later."""

import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any


class _Task:
    """The work of one thread, including what it gave to pools."""

    def __init__(self) -> None:
        self.total, self.processor, self.lock = 0.0, 0.0, threading.Lock()


class _Thread(threading.local):
    def __init__(self) -> None:
        self.task, self.share, self.since = _Task(), 1.0, time.thread_time()


_own = _Thread()


def work_time() -> float:
    """Processor time in seconds of this thread, plus that of its pools divided by their threads: the time a clock shows if nothing
    else runs. In a thread of a `Pool`, that of the thread it works for. Only differences are meaningful; waiting does not count."""
    now = time.thread_time()
    with _own.task.lock:
        _own.task.total += (now - _own.since) * _own.share
        _own.task.processor += now - _own.since
        total = _own.task.total
    _own.since = now
    return total


def processor_time() -> float:
    """The same, but the processor time of all threads added up. Only differences are meaningful."""
    work_time()
    with _own.task.lock:
        return _own.task.processor


def add_work(seconds: float, threads: int) -> None:
    """Count processor seconds that other processes have spent for this thread, on so many threads."""
    with _own.task.lock:
        _own.task.total += seconds / max(1, threads) * _own.share
        _own.task.processor += seconds


class Pool(ThreadPoolExecutor):
    """Threads whose work counts for the thread that submits it."""

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
