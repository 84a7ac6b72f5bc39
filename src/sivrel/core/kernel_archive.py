"""Compiled kernels as one file, to carry them to machines with the same processor and versions.

A zip file with `machine.json` and the kernels under their names. Kernels are code: import only archives that you or your installer made.
"""

import json
import platform
import re
import zipfile
from pathlib import Path
from typing import Any

import llvmlite
import numba
import numpy as np
from numba.core.registry import cpu_target

from .errors import InputError
from .json_text import parse_json
from .kernel_cache import kernel_folder
from .whole_file import whole_file

MACHINE = "machine.json"
KERNEL = re.compile(r"[A-Za-z0-9_]{1,64}-[0-9a-f]{32}\.kernel")
MOST_BYTES = 1 << 30
"""Most unpacked bytes of an archive."""


def machine() -> dict[str, Any]:
    """What compiled code depends on besides its sources: versions, and the processor with its features."""
    triple, processor, features = cpu_target.target_context.codegen().magic_tuple()
    versions = {"python": platform.python_version(), "numpy": np.__version__, "numba": numba.__version__, "llvmlite": llvmlite.__version__}
    return {**versions, "system": str(triple), "processor": str(processor), "features": str(features)}


def export_kernels(path: Path) -> int:
    """Write all stored kernels to an archive; returns their number. Raises InputError if the file can't be written."""
    kernels = sorted(kernel_folder().glob("*.kernel"))
    try:
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr(MACHINE, json.dumps(machine(), indent=1))
            for kernel in kernels:
                archive.write(kernel, kernel.name)
    except OSError as error:
        raise InputError(f"{path} can't be written ({error.strerror}); check the folder.") from None
    return len(kernels)


def import_kernels(path: Path) -> int:
    """Store the kernels of an archive; returns their number. Raises InputError for an archive of another machine or version, or a damaged one."""
    damaged = f"{path} is not an archive of kernels, or it is damaged; write one with `sivrel warm --export`."
    try:
        with zipfile.ZipFile(path) as archive:
            if sum(entry.file_size for entry in archive.infolist()) > MOST_BYTES:
                raise InputError(f"{path} unpacks to more than {MOST_BYTES >> 30} GB, far more than all kernels take; write it again.")
            made_on, here = parse_json(archive.read(MACHINE).decode(), damaged), machine()
            if not isinstance(made_on, dict):
                raise InputError(damaged)
            other = [f"{name} {str(made_on.get(name))[:60]} instead of {value[:60]}" for name, value in here.items() if made_on.get(name) != value]
            if other:
                raise InputError(f"{path} was compiled with {other[0]}, so its kernels can't be used here; run `sivrel warm` on this machine.")
            names = [name for name in archive.namelist() if KERNEL.fullmatch(name)]
            folder = kernel_folder()
            folder.mkdir(parents=True, exist_ok=True)
            for name in names:
                with whole_file(folder / name) as beside:
                    beside.write_bytes(archive.read(name))
    except InputError:  # a ValueError, too
        raise
    except FileNotFoundError:
        raise InputError(f"There is no file {path}; check the name.") from None
    except (OSError, KeyError, ValueError, zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError):
        raise InputError(damaged) from None
    return len(names)
