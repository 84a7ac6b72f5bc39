"""The kinds of kernels: functions that Numba compiles. What is compiled is kept, see kernel_cache.py."""

from collections.abc import Callable
from types import FunctionType
from typing import Any

from numba import njit

from .inlined import inlined
from .kernel_cache import KernelCache

KERNELS: list[Any] = []
"""Every compiled function, in the order of declaration."""


def _kept(**options: Any) -> Callable[[FunctionType], Any]:
    """Decorator: a kernel that is really called, kept once it is compiled."""

    def decorate(function: FunctionType) -> Any:
        compiled = njit(**options)(function)
        compiled._cache = KernelCache(function, options)
        return compiled

    return decorate


def _declare(decorator: Callable[..., Any] = _kept, **options: Any) -> Callable[[Callable[..., Any]], Any]:
    def decorate(function: Callable[..., Any]) -> Any:
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

CALLED: dict[str, Any] = {"forceinline": False, "no_cpython_wrapper": False, "no_cfunc_wrapper": True}
"""What a called function must say: what it does not say it inherits from the function that first calls it."""
called_kernel = _declare(_nrt=False, fastmath=FUSED, **CALLED)
"""The same, really called: for what is large and called from several places."""

exact_kernel = _declare(_nrt=False, fastmath=False, **CALLED)
"""A called kernel in which every operation is rounded by itself: Numba spreads the flag above to all that a function
contains, and a fused product would open the edges between triangles."""

allocating_kernel = _declare(**CALLED)
"""A compiled function that makes arrays."""
