"""Kernels that exist only inside their callers: translated to LLVM, but neither optimised nor compiled to machine code by themselves.

Numba compiles every function it meets, with all its callees inlined, at every level. A function that is always inlined needs
none of that: the kernel that is really called is optimised once as a whole. This halves the first compile. Such a kernel can be called from
Python, too; a separate version is compiled for that.
"""

import functools
import itertools
import secrets
from collections.abc import Callable
from typing import Any

import numba
from numba import njit
from numba.core.bytecode import FunctionIdentity
from numba.core.codegen import CPUCodeLibrary
from numba.core.cpu import CPUContext
from numba.core.dispatcher import Dispatcher
from numba.core.registry import CPUDispatcher

from .kernel_cache import KernelCache

OURS = __name__.split(".")[0]
TESTED = ("0.68.",)
"""Versions of Numba whose internals are known here. With others, kernels are compiled in Numba's own way, which takes longer."""
KNOWN = numba.__version__.startswith(TESTED)


class InlinedDispatcher(CPUDispatcher):
    """A function that is inlined into other kernels."""

    def __init__(self, function: Callable, options: dict[str, Any]) -> None:
        super().__init__(function, {}, {"nopython": True, "boundscheck": None, **options})
        self.alone_options = {key: value for key, value in options.items() if key not in ("forceinline", "no_cpython_wrapper", "no_cfunc_wrapper")}

    def __call__(self, *arguments: Any) -> Any:
        return self.alone(*arguments)

    @functools.cached_property
    def alone(self) -> Dispatcher:
        compiled = njit(**self.alone_options)(self.py_func)
        compiled._cache = KernelCache(self.py_func, self.alone_options)
        return compiled

    def add_overload(self, compiled: Any) -> None:
        self.overloads[tuple(compiled.signature.args)] = compiled


def inlined(**options: Any) -> Callable[[Callable], Dispatcher]:
    """Decorator: a kernel that is compiled into its callers."""
    if not KNOWN:
        return njit(**{**options, "forceinline": True})
    more = {"forceinline": True, "no_cpython_wrapper": True, "no_cfunc_wrapper": True}
    return lambda function: InlinedDispatcher(function, {**options, **more})


_whole_executable, _whole_finalize = CPUContext.get_executable, CPUCodeLibrary.finalize


def _get_executable(context: Any, library: Any, fndesc: Any, env: Any) -> Any:
    """A placeholder for a function's machine code; an inlined one has none."""
    if not (fndesc.inline and fndesc.modname.split(".")[0] == OURS):
        return _whole_executable(context, library, fndesc, env)
    library.is_only_linked = True
    return object()


def _finalize(library: Any) -> None:
    """Finish a library: one that is only linked into others keeps its unoptimised code."""
    if not getattr(library, "is_only_linked", False):
        return _whole_finalize(library)
    library._raise_if_finalized()
    for other in dict.fromkeys(library._linking_libraries):
        library._reload_init.update(other._reload_init)
        library._final_module.link_in(other._get_module_for_linking(), preserve=True)
    library._finalized = True
    return None


if KNOWN:
    CPUContext.get_executable, CPUCodeLibrary.finalize = _get_executable, _finalize
    # Machine code is found by names that end with these numbers, and kernels from the cache keep those of the process that compiled
    # them: each process starts elsewhere, so that none is given twice.
    FunctionIdentity._unique_ids = itertools.count(secrets.randbits(40))
