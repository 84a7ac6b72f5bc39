"""Stores compiled kernels, with what each depends on.

Numba's own cache only checks the file of the cached function: it misses changes in functions that it calls. Here each kernel that
is really called is stored under a hash of its own bytecode, that of everything it calls, and the values of all globals they read.
So a change recompiles only the kernels that contain it; a change of wording, comments or the checkout's path recompiles nothing.
"""

import ast
import contextlib
import functools
import hashlib
import logging
import os
import pickle
import platform
import re
import shutil
import sys
import time
import types
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import llvmlite
import numba
import numpy as np
from llvmlite import ir
from numba.core import compiler
from numba.core.caching import _Cache
from numba.core.dispatcher import Dispatcher
from numba.core.types import Type
from numba.extending import _Intrinsic

from .user_cache import user_cache
from .whole_file import whole_file

CORE = Path(__file__).parent
BENEATH_ALL = ("kernel.py", "inlined.py", "numba_byref.py", "trace/simd.py")
"""Sources that decide how kernels are compiled, which a kernel's bytecode does not show."""
MOST_BYTES, MOST_DAYS = 1 << 30, 60
"""Limits of the folder: above the size, kernels used longest ago are deleted; those unused for the time are deleted anyway."""
log = logging.getLogger(__name__)
_folder: Path | None = None


def kernel_folder() -> Path:
    """The folder of compiled kernels: the one that was configured, or the user's own."""
    if _folder is not None:
        return _folder
    return user_cache() / "kernels"


def keep_kernels_in(folder: Path | None) -> None:
    """Set the folder of compiled kernels; None: the user's own."""
    global _folder
    _folder = folder


def thin_out(folder: Path | None = None) -> None:
    """Delete kernels that were not used for long, the oldest if there are too many, and files of older versions."""
    folder, left = folder or kernel_folder(), 0
    for old in folder.glob("[0-9a-f]" * 20):
        shutil.rmtree(old, ignore_errors=True)
    for used, size, path in sorted(((s.st_mtime, s.st_size, p) for p, s in _files(folder)), reverse=True):
        left += size
        if left > MOST_BYTES or time.time() - used > MOST_DAYS * 86400.0:
            with contextlib.suppress(OSError):
                path.unlink()


def _files(folder: Path) -> Iterator[tuple[Path, os.stat_result]]:
    for path in folder.glob("*.kernel") if folder.is_dir() else ():
        with contextlib.suppress(OSError):
            yield path, path.stat()


class KernelCache(_Cache):  # type: ignore[misc]
    """The cache object that Numba loads from and saves to. If the folder can't be written, kernels are compiled in each process."""

    def __init__(self, function: types.FunctionType, options: dict[str, Any]) -> None:
        self.function, self.options, self.enabled = function, options, True

    @property
    def cache_path(self) -> str:
        return str(kernel_folder())

    @functools.cached_property
    def unit(self) -> str:
        """Hash of everything the kernel depends on."""
        return hashlib.sha256(repr((_ground(), unit_hash(self.function), _plain(self.options))).encode()).hexdigest()

    def path(self, signature: Any, codegen: Any) -> Path:
        digest = hashlib.sha256(repr((self.unit, str(signature), codegen.magic_tuple())).encode()).hexdigest()[:32]
        return kernel_folder() / f"{re.sub(r'[^A-Za-z0-9_]+', '_', self.function.__name__)[:40]}-{digest}.kernel"

    def load_overload(self, sig: Any, target_context: Any) -> Any:
        if not self.enabled:
            return None
        target_context.refresh()
        path = self.path(sig, target_context.codegen())
        try:
            payload = pickle.loads(path.read_bytes())
            os.utime(path)
        except FileNotFoundError:
            return None
        except Exception:  # truncated, or of another version: compiled again, and overwritten
            log.info("The compiled kernel %s can't be read.", path.name, exc_info=True)
            return None
        return compiler.CompileResult._rebuild(target_context, *payload)

    def save_overload(self, sig: Any, data: Any) -> None:
        if not self.enabled or data.lifted or data.library.has_dynamic_globals:
            return
        path = self.path(sig, data.codegen)
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with whole_file(path) as beside:
                beside.write_bytes(numba.core.serialize.dumps(data._reduce()))
        except OSError as error:
            log.info("The compiled kernel %s can't be stored: %s.", path.name, error)

    def enable(self) -> None:
        self.enabled = True

    def disable(self) -> None:
        self.enabled = False

    def flush(self) -> None:
        for path in kernel_folder().glob(f"{self.function.__name__}-*.kernel"):
            path.unlink(missing_ok=True)


@functools.cache
def _ground() -> tuple[Any, ...]:
    """Versions, and the sources that decide how kernels are compiled."""
    sources = hashlib.sha256("".join(code_without_words((CORE / name).read_text()) for name in BENEATH_ALL).encode()).hexdigest()
    return sys.version, np.__version__, numba.__version__, llvmlite.__version__, platform.machine(), sources


def code_without_words(source: str) -> str:
    """A module's code without its comments, its docstrings and its layout."""
    tree = ast.parse(source)
    for node in ast.walk(tree):
        body = getattr(node, "body", None)
        if isinstance(body, list):
            body[:] = [one for one in body if not (isinstance(one, ast.Expr) and isinstance(one.value, ast.Constant))] or [ast.Pass()]
    return ast.dump(tree)


_hashes: dict[types.FunctionType, str] = {}


def unit_hash(function: types.FunctionType) -> str:
    """Hash of a function, of all that it calls and of the globals that they read, 64 hexadecimal digits. Local names, line numbers,
    comments and docstrings do not affect it."""
    if function not in _hashes:
        seen: dict[types.FunctionType, int] = {}
        _hashes[function] = hashlib.sha256(repr(_of_function(function, seen)).encode()).hexdigest()
    return _hashes[function]


def _of_function(function: types.FunctionType, seen: dict[types.FunctionType, int]) -> Any:
    """A function's dependencies as plain values; one that was visited before is represented by its number."""
    if function in seen:
        return "again", seen[function]
    seen[function] = len(seen)
    code = function.__code__
    names, own = _names(code), function.__globals__
    reads = [(name, _of_value(own[name], names, seen)) for name in sorted(names) if name in own]
    cells = [_of_value(cell.cell_contents, names, seen) for cell in function.__closure__ or ()]
    # Compiled code refers to globals by the name of their module.
    return "function", function.__module__, _of_code(code, function.__doc__), reads, cells, _of_value(function.__defaults__, names, seen)


def _names(code: types.CodeType) -> set[str]:
    """Names of globals and attributes in a piece of code, and in those within it."""
    names = set(code.co_names)
    for constant in code.co_consts:
        if isinstance(constant, types.CodeType):
            names |= _names(constant)
    return names


def _of_code(code: types.CodeType, doc: str | None = None) -> tuple[Any, ...]:
    constants = [_of_constant(None if doc is not None and c == doc else c) for c in code.co_consts]
    return code.co_code.hex(), constants, code.co_names, code.co_argcount, code.co_freevars


def _of_constant(constant: Any) -> Any:
    if isinstance(constant, types.CodeType):
        return _of_code(constant)
    return sorted(map(repr, constant)) if isinstance(constant, frozenset) else repr(constant)


def _of_value(value: Any, names: set[str], seen: dict[types.FunctionType, int]) -> Any:
    """A value that code reads; for a module, the names that the code uses."""
    if isinstance(value, Dispatcher):
        return "kernel", _of_function(value.py_func, seen), _plain(value.targetoptions)
    if isinstance(value, types.FunctionType):
        if value.__module__.split(".")[0] != __name__.split(".")[0]:
            return "library", value.__module__, value.__qualname__
        return _of_function(value, seen)
    if isinstance(value, _Intrinsic):
        return "intrinsic", _of_function(value._defn, seen)
    if isinstance(value, types.ModuleType):
        if value.__name__.split(".")[0] != __name__.split(".")[0]:
            return "library", value.__name__
        return "module", [(name, _of_value(getattr(value, name), names, seen)) for name in sorted(names) if hasattr(value, name)]
    if isinstance(value, np.ndarray):
        return "array", value.dtype.str, value.shape, hashlib.sha256(np.ascontiguousarray(value).tobytes()).hexdigest()
    if isinstance(value, tuple | list):
        return type(value).__name__, getattr(value, "_fields", ()), [_of_value(one, names, seen) for one in value]
    if isinstance(value, dict):
        return "dict", sorted((repr(key), repr(_of_value(one, names, seen))) for key, one in value.items())
    if isinstance(value, type):
        return "class", value.__qualname__, getattr(value, "_fields", ()), repr(getattr(value, "__annotations__", ""))
    if value is None or isinstance(value, bool | int | float | complex | str | bytes | np.generic | np.dtype | Type):
        return repr(value)
    if isinstance(value, ir.Type):
        return "llvm", str(value)
    raise TypeError(f"A kernel reads {value!r}; define in {__name__} how the compiled code depends on it.")


def _plain(options: dict[str, Any]) -> list[tuple[str, str]]:
    return sorted((key, repr(sorted(value) if isinstance(value, set | frozenset) else value)) for key, value in options.items())
