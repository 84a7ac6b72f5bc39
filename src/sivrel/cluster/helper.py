"""What runs on a helper: a Dask worker that renders tiles for another machine."""

import hashlib
import platform
import shutil
import threading
import time
from collections import OrderedDict
from pathlib import Path
from typing import Any, NamedTuple

import llvmlite.binding
import numpy as np

from .. import __version__
from ..core.render.memory import Memory, make_memory
from ..core.render.tiles import TileRenderer
from .content import arrays_in, put_together
from .content_folder import ContentFolder, Missing

KEPT = 4
"""Jobs that are kept ready: the frames of a sequence, or a render and the rungs of a ladder."""


class Rendered(NamedTuple):
    """A finished tile: its film, its clock, and the seconds of the processor that it took."""

    tile: int
    film: np.ndarray
    clock: np.ndarray
    seconds: float


class Helper:
    """The state of a helper's process. Thread-safe."""

    def __init__(self, folder: Path, most_bytes: int, threads: int) -> None:
        self.folder, self.threads = ContentFolder(folder, most_bytes), threads
        self.lock = threading.Lock()
        self.renderers: OrderedDict[str, tuple[TileRenderer, int]] = OrderedDict()
        self.cancels: dict[str, np.ndarray] = {}
        self.own = threading.local()

    def renderer(self, digest: str) -> tuple[TileRenderer, int]:
        """The job with that skeleton, ready to render, and the number of its light passes. Raises Missing."""
        with self.lock:
            if digest not in self.renderers:
                folder = self.folder
                skeleton = folder.array(digest, "|u1", ((folder.folder / digest).stat().st_size,)).tobytes() if not folder.missing([digest]) else b""
                if not skeleton:
                    raise Missing([digest])
                gone = folder.missing(sorted(arrays_in(skeleton)))
                if gone:
                    raise Missing(gone)
                job = put_together(skeleton, folder.array)
                self.renderers[digest] = TileRenderer(job), job.slots
                while len(self.renderers) > KEPT:
                    self.renderers.popitem(last=False)
            self.renderers.move_to_end(digest)
            return self.renderers[digest]

    def memory(self, slots: int) -> Memory:
        """This thread's memory."""
        if getattr(self.own, "slots", None) != slots:
            self.own.memory, self.own.slots = make_memory(slots), slots
        memory: Memory = self.own.memory
        return memory

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
    """What this helper is: versions, processor, threads, free bytes of its disk."""
    return {**identity(), "threads": _here().threads, "name": platform.node(), "free": shutil.disk_usage(_here().folder.folder).free}


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


def missing(digests: list[str]) -> list[str]:
    """Which of these arrays are not here."""
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


def render_some(digest: str, call: str, tiles: list[int], before: dict[int, np.ndarray]) -> list[Rendered]:
    """Render some tiles of a job; fewer if the call is called off. Raises Missing."""
    here, done = _here(), list[Rendered]()
    (renderer, slots), cancel = here.renderer(digest), here.cancel(call)
    memory = here.memory(slots)
    for index in tiles:
        if cancel[0]:
            break
        begun = time.thread_time()
        film = renderer.render(index, memory, cancel, before.get(index))
        if film is not None:
            done.append(Rendered(index, film, memory.clock[0].copy(), time.thread_time() - begun))
    return done
