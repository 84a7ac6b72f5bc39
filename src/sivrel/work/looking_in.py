"""A first look into a scene file that somebody gave, in a process of its own with bounds on memory and time.

A file may be damaged or made to do harm: it may claim a million million points, or nest without end. What reads it is then ended, and nothing
else is. `python -m sivrel.work.looking_in FILE [FOLDER]` prints what it found as JSON.
"""

import json
import os
import resource
import select
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from ..core.errors import InputError

PATIENCE, BYTES_PER_SECOND = 4.0, 6 << 20
"""Seconds that a look may take, and how many more bytes of files buy another second."""
MEMORY, MEMORY_PER_BYTE = 800 << 20, 24
"""Bytes of memory that a look may take besides the program's own, and for each byte of the files."""
READY = "ready"


def looked_into(path: Path, folder: Path | None) -> dict[str, Any]:
    """What `facts_of` says of the scene at `path`, which may not reach out of `folder`. Raises InputError with one sentence."""
    size = _size(path, folder)
    patience = PATIENCE + size / BYTES_PER_SECOND
    command = [sys.executable, "-m", __name__, str(path), *([str(folder)] if folder else [])]
    environment = {**os.environ, "OPENBLAS_NUM_THREADS": "1", "SIVREL_LOOK_BYTES": str(MEMORY + MEMORY_PER_BYTE * size)}
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env=environment) as process:
        try:
            assert process.stdout is not None
            text = _heard(process.stdout.fileno(), patience)
        finally:
            process.kill()
    if text is None:
        raise InputError(
            f"{path.name} takes longer than {patience:.0f} s to read, far more than its size explains; it is damaged, or made to do harm."
        )
    try:
        told = json.loads(text)
    except ValueError:
        raise InputError(f"{path.name} could not be read: it takes more memory than its size explains, or it is damaged.") from None
    if "problem" in told:
        raise InputError(told["problem"])
    return told


def _heard(pipe: int, patience: float) -> bytes | None:
    """All that the process says after it is ready; None when it says nothing for too long."""
    heard, until = b"", time.monotonic() + 60.0  # to start the program
    started = False
    while True:
        if not started and heard.startswith(READY.encode()):
            started, until = True, time.monotonic() + patience
        left = until - time.monotonic()
        if left <= 0.0 or not select.select([pipe], [], [], left)[0]:
            return None
        part = os.read(pipe, 1 << 20)
        if not part:
            return heard.removeprefix(READY.encode())
        heard += part


def _size(path: Path, folder: Path | None) -> int:
    try:
        files = [f for f in folder.rglob("*") if f.is_file()] if folder else [path]
        return sum(f.stat().st_size for f in files)
    except OSError:
        return 0


def main(arguments: list[str]) -> None:
    from ..core.formats.scenes import read_scene
    from .facts import facts_of

    print(READY, end="", flush=True)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    own = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
    limit = own + int(os.environ.get("SIVREL_LOOK_BYTES", MEMORY))
    resource.setrlimit(resource.RLIMIT_DATA, (limit, limit))
    try:
        told = facts_of(read_scene(Path(arguments[0]), confine_to=Path(arguments[1]) if len(arguments) > 1 else None))
    except InputError as error:
        told = {"problem": str(error)}
    except (MemoryError, RecursionError):
        told = {"problem": f"{Path(arguments[0]).name} takes more memory than its size explains; it is damaged, or made to do harm."}
    except Exception:  # whatever a damaged file makes of a reader: the asker is told, and it ends here
        told = {"problem": f"{Path(arguments[0]).name} can't be read; it is damaged."}
    print(json.dumps(told), flush=True)


if __name__ == "__main__":
    main(sys.argv[1:])
