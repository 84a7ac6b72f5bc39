"""How the renderer's kernels are compiled, and where the compiled code is kept.

Numba's own cache looks at the file of the cached function alone: it does not see a change in a function that this one
calls. So the compiled code lies in a folder whose name hashes all sources of the core that may hold kernels, the versions of
Python, NumPy, Numba and its LLVM, and the processor.
"""

import functools
import hashlib
import os
import platform
import shutil
import sys
from pathlib import Path

CORE = Path(__file__).parent
WITHOUT_KERNELS = (
    "diagnose", "finish", "formats", "measure", "survey", "tune", "render/reference.py",
    "scene/apply_edits.py", "scene/cards.py", "scene/edits.py", "scene/mending.py", "scene/sanitize.py", "scene/topology.py", "caches.py",
    "cache_contents.py", "errors.py", "json_text.py", "rendered.py",
)  # fmt: skip
"""Parts of the core that hold no kernels, and that no kernel knows of: a change in them leaves the compiled code as it is."""
KEPT_FOLDERS = 4
"""Compiled code of this many older versions is kept beside the current one."""


def cache_root() -> Path:
    """The user's folder for compiled kernels (XDG base directories: $XDG_CACHE_HOME or ~/.cache)."""
    base = os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache"
    return Path(base) / "sivrel" / "kernels"


def cache_key(core: Path = CORE) -> str:
    """Hash of everything that compiled code from the sources in `core` depends on, 20 hexadecimal digits."""
    import llvmlite
    import numba
    import numpy

    digest = hashlib.sha256()
    for source in sorted([*core.rglob("*.py"), *core.rglob("*.npy")]):
        if source.relative_to(core).parts[0] in WITHOUT_KERNELS or source.relative_to(core).as_posix() in WITHOUT_KERNELS:
            continue
        digest.update(source.relative_to(core).as_posix().encode() + b"\0" + source.read_bytes() + b"\0")
    processor = (llvmlite.binding.get_host_cpu_name(), llvmlite.binding.get_host_cpu_features().flatten())
    versions = (sys.version, numpy.__version__, numba.__version__, llvmlite.__version__, platform.machine())
    digest.update(repr((str(core), versions, processor)).encode())
    return digest.hexdigest()[:20]


def _use_cache_folder() -> None:
    """Point Numba at this version's folder, and drop the folders of long-gone versions."""
    import numba

    folder = cache_root() / cache_key()
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError:
        return  # A read-only home: Numba then compiles anew each time, which is slow and right.
    os.utime(folder)
    numba.config.CACHE_DIR = str(folder)
    others = sorted((f for f in folder.parent.iterdir() if f != folder), key=lambda f: f.stat().st_mtime, reverse=True)
    for old in others[KEPT_FOLDERS:]:
        shutil.rmtree(old, ignore_errors=True)


_use_cache_folder()

from numba import njit  # noqa: E402  (Numba must know the folder before the first kernel is declared)

from .inlined import inlined  # noqa: E402

KERNELS: list = []
"""Every compiled function, in the order of declaration."""


def _declare(decorator=functools.partial(njit, cache=True), **options):
    def decorate(function):
        # What is compiled into its callers is kept with them.
        compiled = decorator(nogil=True, error_model="numpy", **options)(function)
        KERNELS.append(compiled)
        return compiled

    return decorate


FUSED = {"contract"}
"""Products and sums may be rounded once. (Not-a-number keeps its meaning.)"""

kernel = _declare(inlined, _nrt=False, fastmath=FUSED)
"""A function compiled without reference counting, and into its callers: it may read, write and slice arrays, and never
make one. Counting references in atomic operations costs a third of the rays per second, and more with two threads;
handing a scene of a dozen arrays to a function that is really called costs more than most functions do."""

CALLED = {"forceinline": False, "no_cpython_wrapper": False, "no_cfunc_wrapper": True}
"""What a called function must say: what it does not say it inherits from the function that first calls it."""
called_kernel = _declare(_nrt=False, fastmath=FUSED, **CALLED)
"""The same, really called: for what is large and called from several places."""

exact_kernel = _declare(_nrt=False, fastmath=False, **CALLED)
"""A called kernel in which every operation is rounded by itself: Numba spreads the flag above to all that a function
contains, and a fused product would open the edges between triangles."""

allocating_kernel = _declare(**CALLED)
"""A compiled function that makes arrays."""
