"""The kinds of kernels: functions that Numba compiles. Compiled code is stored, see kernel_cache.py."""

from collections.abc import Callable
from types import FunctionType
from typing import Any

from numba import njit

from .inlined import inlined
from .kernel_cache import KernelCache

KERNELS: list[Any] = []
"""Every compiled function, in the order of declaration."""


def _kept(**options: Any) -> Callable[[FunctionType], Any]:
    """Decorator: a kernel that is really called, and stored once compiled."""

    def decorate(function: FunctionType) -> Any:
        compiled = njit(**options)(function)
        compiled._cache = KernelCache(function, options)
        return compiled

    return decorate


_closures: set[tuple[str, str]] = set()


def named(name: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Decorator, below that of the kernel: the name of one of several kernels that a function makes."""

    def decorate(function: Callable[..., Any]) -> Callable[..., Any]:
        function.__name__ = function.__qualname__ = name
        return function

    return decorate


def _declare(decorator: Callable[..., Any] = _kept, **options: Any) -> Callable[[Callable[..., Any]], Any]:
    def decorate(function: Callable[..., Any]) -> Any:
        # Machine code is found by name. Numba's numbers, which tell closures of one name apart, are those of the process that
        # compiled them: two that come from the cache may have the same.
        name = function.__module__, function.__qualname__
        if function.__closure__ and name in _closures:
            raise TypeError(f"There are two kernels {'.'.join(name)}: give each a name of its own by named().")
        _closures.add(name)
        # Inlined kernels are stored with their callers.
        compiled = decorator(nogil=True, error_model="numpy", **options)(function)
        KERNELS.append(compiled)
        return compiled

    return decorate


FUSED = {"contract"}
"""Multiply-adds may be fused. (Not-a-number keeps its meaning.)"""

kernel = _declare(inlined, _nrt=False, fastmath=FUSED)
"""A function compiled without reference counting, and into its callers: it may read, write and slice arrays, and never
make one. Counting references in atomic operations costs a third of the rays per second, and more with two threads;
handing a scene of a dozen arrays to a function that is really called costs more than most functions do."""

CALLED: dict[str, Any] = {"forceinline": False, "no_cpython_wrapper": False, "no_cfunc_wrapper": True}
"""Options that a called function must set, since it would otherwise inherit those of its first caller."""
called_kernel = _declare(_nrt=False, fastmath=FUSED, **CALLED)
"""The same, really called: for large functions with several callers."""

exact_kernel = _declare(_nrt=False, fastmath=False, **CALLED)
"""A called kernel with strict rounding of every operation: Numba applies the flag above to everything that a function
contains, and a fused product would open the edges between triangles."""

allocating_kernel = _declare(**CALLED)
"""A compiled function that makes arrays."""
