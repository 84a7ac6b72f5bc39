"""What runs on a helper: a Dask worker that does parts of work for another machine."""

import hashlib
import platform
import threading
import time
from collections import OrderedDict
from pathlib import Path
from typing import Any, NamedTuple

import llvmlite.binding
import numpy as np

from .. import __version__
from ..core.spread import Work, Worker
from .content import arrays_in, put_together
from .content_folder import ContentFolder, Missing

READY, KNOWN = 4, 64
"""Works that are kept ready: a picture, or the passes of a cache; and those of which the skeleton is kept."""


class Done(NamedTuple):
    """A finished part: its result, and the seconds of the processor that it took."""

    part: int
    result: Any
    seconds: float


class Helper:
    """The state of a helper's process. Thread-safe."""

    def __init__(self, folder: Path, most_bytes: int, threads: int) -> None:
        self.folder, self.threads = ContentFolder(folder, most_bytes), threads
        self.lock = threading.Lock()
        self.skeletons: OrderedDict[str, bytes] = OrderedDict()
        self.workers: OrderedDict[str, Worker] = OrderedDict()
        self.cancels: dict[str, np.ndarray] = {}

    def learn(self, digest: str, skeleton: bytes) -> None:
        with self.lock:
            self.skeletons[digest] = skeleton
            while len(self.skeletons) > KNOWN:
                self.skeletons.popitem(last=False)

    def worker(self, digest: str) -> Worker:
        """What does the work with that skeleton. Raises Missing."""
        with self.lock:
            if digest not in self.workers:
                if digest not in self.skeletons:
                    raise Missing([digest])
                gone = self.folder.missing(sorted(arrays_in(self.skeletons[digest])))
                if gone:
                    raise Missing(gone)
                work: Work = put_together(self.skeletons[digest], self.folder.array)
                self.workers[digest] = work.worker()
                while len(self.workers) > READY:
                    self.workers.popitem(last=False)
            self.workers.move_to_end(digest)
            return self.workers[digest]

    def cancel(self, call: str) -> np.ndarray:
        with self.lock:
            return self.cancels.setdefault(call, np.zeros(1, np.uint8))


HERE: Helper | None = None
"""The helper of this process; None in every other one."""


def start(helper: Helper | None) -> None:
    """Make this process a helper, or no longer one."""
    global HERE
    HERE = helper


def _here() -> Helper:
    if HERE is None:
        raise RuntimeError("is a Dask worker, but no helper of Sivrel; start `sivrel helper` there")
    return HERE


# What the machine that renders calls here, by name.


def introduce() -> dict[str, Any]:
    """What this helper is: versions, processor, threads, name of its machine."""
    return {**identity(), "threads": _here().threads, "name": platform.node()}


def identity() -> dict[str, str]:
    """The version of the program and of what its numbers come from, and the processor."""
    return {"version": __version__, "code": _code(), "processor": f"{platform.machine()} {llvmlite.binding.get_host_cpu_name()}"}


def _code() -> str:
    """A hash of the core's sources, and of the packages that compile and run them."""
    import numba

    mixed, core = hashlib.blake2b(digest_size=8), Path(__file__).parents[1] / "core"
    for path in sorted(core.rglob("*.py")):
        mixed.update(path.relative_to(core).as_posix().encode() + path.read_bytes())
    mixed.update(repr((platform.python_version_tuple()[:2], np.__version__, numba.__version__, llvmlite.__version__)).encode())
    return mixed.hexdigest()


def begin(digest: str, skeleton: bytes, digests: list[str]) -> list[str]:
    """Know a work from now on; answers which of its arrays are not here."""
    _here().learn(digest, skeleton)
    return _here().folder.missing(digests)


def keep(digest: str, part: bytes, last: bool) -> None:
    """Keep a part of an array."""
    _here().folder.add(digest, part, last)


def call_off(call: str) -> None:
    """Stop the tiles of a call within some thousand samples."""
    _here().cancel(call)[0] = 1


def end(call: str) -> None:
    """Forget a call that is over."""
    with _here().lock:
        _here().cancels.pop(call, None)


def do_some(digest: str, call: str, parts: dict[int, Any]) -> list[Done]:
    """Do some parts of a work; fewer if the call is called off. Raises Missing."""
    here, done = _here(), list[Done]()
    worker, cancel = here.worker(digest), here.cancel(call)
    for part, given in parts.items():
        if cancel[0]:
            break
        begun = time.thread_time()
        result = worker.do(part, given, cancel)
        if result is not None:
            done.append(Done(part, result, time.thread_time() - begun))
    return done
