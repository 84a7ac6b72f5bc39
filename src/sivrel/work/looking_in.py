"""Inspects a file from outside, a scene, a picture or a cache, in a separate process with limits on memory and processor time.

A file may be damaged, by accident or on purpose: it may declare 10¹² points, or nest without end. The process that reads it then ends, and nothing
else is. `python -m sivrel.work.looking_in scene FILE [FOLDER]`, `… picture FILE OUT` and `… cache FILE` print their results as JSON.
"""

import contextlib
import json
import os
import resource
import select
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from ..core.errors import InputError
from ..core.machine import memory_free

PATIENCE, BYTES_PER_SECOND = 60.0, 2 << 20
"""Processor time of an inspection in seconds, and the bytes of files for each further second. A small file may place one mesh many thousand times."""
IDLE = 120.0
"""Seconds by the clock in which an inspection that does not use the processor counts as hanging: a machine may be busy."""
MEMORY, MEMORY_PER_BYTE, SHARE = 800 << 20, 24, 0.6
"""Memory of an inspection in bytes besides the program's own, and for each byte of the files; or that share of what is free, if it is more."""
PICTURE_MEMORY = 3 << 30
"""The same for a picture, which is unpacked and rewritten as a whole: its pixels are counted first, and its file may be small."""
MOST_SECONDS = 1e6
"""Most seconds that SIVREL_LOOK_SECONDS may set."""
READY, PROGRESS = "ready", b"progress "
AT_A_TIME, QUEUE_SECONDS = threading.Lock(), 120.0
"""One inspection at a time, to limit memory; seconds that another waits for its turn."""


Hear = Callable[[float, str], None]
"""Receives the share of a file that was read, and what; at least once a second, then with nothing new. What it raises ends the inspection."""


def inspect_sandboxed(path: Path, folder: Path | None, frame: float | None = None, hear: Hear | None = None) -> dict[str, Any]:
    """The result of `facts_of`, and of `load_of` as `load`, for the scene at `path`, confined to `folder`. Raises InputError with one sentence."""
    return _look(["scene", str(path), str(folder or ""), "" if frame is None else repr(frame)], path, _size(path, folder), MEMORY, hear)


def inspect_picture_sandboxed(path: Path, out: Path) -> dict[str, Any]:
    """Unpack a picture from elsewhere to the EXR file `out`; returns the result of `facts_of_picture`. Raises InputError with one sentence."""
    return _look(["picture", str(path), str(out)], path, _size(path, None), PICTURE_MEMORY)


def inspect_cache_sandboxed(path: Path) -> str:
    """The digest of a cache file, validated against its kind's declaration. Raises InputError with one sentence."""
    return str(_look(["cache", str(path)], path, _size(path, None), MEMORY)["digest"])


def _look(arguments: list[str], path: Path, size: int, memory: int, hear: Hear | None = None) -> dict[str, Any]:
    seconds = PATIENCE + size / BYTES_PER_SECOND
    with contextlib.suppress(ValueError):
        seconds = max(1.0, min(float(os.environ.get("SIVREL_LOOK_SECONDS", "")), MOST_SECONDS))
    memory = max(memory + MEMORY_PER_BYTE * size, int(SHARE * memory_free()))
    bounds = {"SIVREL_LOOK_BYTES": str(memory), "SIVREL_LOOK_SECONDS": str(seconds)}
    waits = time.monotonic()
    while not AT_A_TIME.acquire(timeout=1.0):
        if hear is not None:
            hear(0.0, "waiting for another file")
        if time.monotonic() - waits > QUEUE_SECONDS:
            raise InputError("Other files are being checked; try again in a minute.")
    try:
        command = [sys.executable, "-m", __name__, *arguments]
        environment = {**os.environ, "OPENBLAS_NUM_THREADS": "1", **bounds}
        with subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env=environment) as process:
            try:
                assert process.stdout is not None
                text = _heard(process, hear or (lambda share, what: None))
                code = process.wait(timeout=5.0) if text is not None else None
            except subprocess.TimeoutExpired:
                code = None
            finally:
                process.kill()
    finally:
        AT_A_TIME.release()
    if text is None or code == -signal.SIGXCPU:
        raise InputError(
            f"{path.name} takes more than {seconds:.0f} s of work to read. If it is a large scene, split it, or open it from the command line with "
            "SIVREL_LOOK_SECONDS set to more; otherwise it may be damaged."
        )
    try:
        answer = json.loads(text)
    except ValueError:
        raise InputError(_too_large(path, memory)) from None
    if "problem" in answer:
        raise InputError(answer["problem"])
    return answer


def _too_large(path: Path, memory: int) -> str:
    return f"{path.name} takes more than {memory / 2**30:.1f} GB of memory to read, which is what may be used here; split it, unless it is damaged."


def _work_done(number: int) -> float:
    """Processor time of a process so far, in ticks; always 0 where the system does not say."""
    try:
        fields = Path(f"/proc/{number}/stat").read_text().rpartition(")")[2].split()
        return float(fields[11]) + float(fields[12])
    except (OSError, ValueError, IndexError):
        return 0.0


def _heard(process: "subprocess.Popen[bytes]", hear: Hear) -> bytes | None:
    """The process's answer, its last line, while its lines of progress go to `hear`; None if it hangs. Its work is limited by
    `bound_this_process`."""
    assert process.stdout is not None
    pipe, rest, answer, done, since = process.stdout.fileno(), b"", b"", -1.0, time.monotonic()
    while True:
        if select.select([pipe], [], [], 1.0)[0]:
            part = os.read(pipe, 1 << 20)
            if not part:
                return answer or rest
            *lines, rest = (rest + part).split(b"\n")
            for line in lines:
                if line.startswith(PROGRESS):
                    at = json.loads(line.removeprefix(PROGRESS))
                    hear(float(at["share"]), str(at["what"])[:200])
                elif line != READY.encode():
                    answer = line
        hear(0.0, "")
        now = _work_done(process.pid)
        if now != done:
            done, since = now, time.monotonic()
        elif time.monotonic() - since > IDLE:
            return None


def _size(path: Path, folder: Path | None) -> int:
    try:
        files = [f for f in folder.rglob("*") if f.is_file()] if folder else [path]
        return sum(f.stat().st_size for f in files)
    except OSError:
        return 0


def bound_this_process() -> None:
    """Limit this process to the memory and processor time that its environment sets, beyond its current use."""
    usage = resource.getrusage(resource.RUSAGE_SELF)
    memory = usage.ru_maxrss * 1024 + int(os.environ.get("SIVREL_LOOK_BYTES", MEMORY))
    seconds = usage.ru_utime + usage.ru_stime + float(os.environ.get("SIVREL_LOOK_SECONDS", PATIENCE))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_DATA, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CPU, (int(seconds) + 1, int(seconds) + 3))


def look(arguments: list[str]) -> dict[str, Any]:
    """The result of an inspection, or {"problem": sentence}."""
    from ..core.cache_contents import check_contents
    from ..core.caches import from_bytes
    from ..core.formats.reading import heard_by
    from ..core.formats.scenes import read_scene
    from ..core.pictures.outside import read_outside
    from .facts import facts_of, facts_of_picture, load_of

    kind, path = arguments[0], Path(arguments[1])
    try:
        if kind == "cache":
            cache = from_bytes(path.read_bytes(), path.name)
            check_contents(cache, path.name)
            return {"digest": cache.digest}
        if kind == "picture":
            return facts_of_picture(read_outside(path), path.suffix, Path(arguments[2]))
        folder = Path(arguments[2]) if len(arguments) > 2 and arguments[2] else None
        frame = float(arguments[3]) if len(arguments) > 3 and arguments[3] else None
        with heard_by(lambda share, what: print(PROGRESS.decode() + json.dumps({"share": share, "what": what}), flush=True)):
            scene = read_scene(path, confine_to=folder, frame=frame)
            return {**facts_of(scene), "load": load_of(scene)}
    except InputError as error:
        return {"problem": str(error)}
    except RecursionError:
        return {"problem": f"{path.name} nests deeper than can be read; it is damaged."}
    except MemoryError:
        return {"problem": _too_large(path, int(os.environ.get("SIVREL_LOOK_BYTES", MEMORY)))}
    except OSError as error:
        return {"problem": f"{path.name} can't be read ({error.strerror or error})."}
    except Exception:  # any error that a damaged file causes in a reader is reported, and ends here
        return {"problem": f"{path.name} can't be read; it is damaged."}


def main(arguments: list[str]) -> None:
    # Loaded before the limits apply.
    from ..core.formats import scenes
    from ..core.pictures import outside  # noqa: F401
    from . import facts  # noqa: F401

    if arguments[0] == "scene":
        with contextlib.suppress(InputError):  # reported by the inspection itself
            scenes.reader_of(Path(arguments[1]).suffix)
    if arguments[0] == "cache":
        from ..core import cache_contents  # noqa: F401

    print(READY, flush=True)
    bound_this_process()
    print(json.dumps(look(arguments)), flush=True)


if __name__ == "__main__":
    main(sys.argv[1:])
