"""What runs on a helper: a Dask worker that does parts of work for another machine."""

import asyncio
import hashlib
import platform
import threading
import time
from collections import OrderedDict
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, NamedTuple

import llvmlite.binding
import numpy as np
from distributed.protocol import to_serialize

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

    def forget(self, call: str) -> None:
        with self.lock:
            self.cancels.pop(call, None)


class Answers:
    """Answers the machines that render, as an extension of a Dask worker: what they ask is a method of it, by name, which runs in a thread."""

    def __init__(self, worker: Any, helper: Helper) -> None:
        self.helper = helper
        self.working, self.asked = ThreadPoolExecutor(helper.threads), ThreadPoolExecutor(4)
        worker.handlers["sivrel"] = self.answer

    async def answer(self, what: str, args: tuple[Any, ...]) -> Any:
        pool = self.working if what == "do_some" else self.asked
        return to_serialize(await asyncio.get_running_loop().run_in_executor(pool, getattr(self, f"asked_{what}"), *args))

    def asked_introduce(self) -> dict[str, Any]:
        """What this helper is: versions, processor, threads, name of its machine."""
        return {**identity(), "threads": self.helper.threads, "name": platform.node()}

    def asked_begin(self, digest: str, skeleton: bytes, digests: list[str]) -> list[str]:
        """Know a work from now on; answers which of its arrays are not here."""
        self.helper.learn(digest, skeleton)
        return self.helper.folder.missing(digests)

    def asked_keep(self, digest: str, part: bytes, last: bool) -> None:
        """Keep a part of an array."""
        self.helper.folder.add(digest, part, last)

    def asked_do_some(self, digest: str, call: str, parts: dict[int, Any]) -> list[Done]:
        """Do some parts of a work; fewer if the call is called off. Raises Missing."""
        done = list[Done]()
        worker, cancel = self.helper.worker(digest), self.helper.cancel(call)
        for part, given in parts.items():
            if cancel[0]:
                break
            begun = time.thread_time()
            result = worker.do(part, given, cancel)
            if result is not None:
                done.append(Done(part, result, time.thread_time() - begun))
        return done

    def asked_call_off(self, call: str) -> None:
        """Stop the parts of a call within some thousand samples."""
        self.helper.cancel(call)[0] = 1

    def asked_end(self, call: str) -> None:
        """Forget a call that is over."""
        self.helper.forget(call)


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
