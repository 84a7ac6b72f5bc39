"""First looks in forks of a process with one thread.

A fork copies no threads but their locks: forking a process in which the USD library has worker threads can hang the child for ever. So a process of
its own imports the readers, reads nothing itself, and forks once a file.
"""

import json
import os
import select
import signal
import subprocess
import sys
from pathlib import Path
from typing import Self

from sivrel.core import cache_contents  # noqa: F401  loaded before the forks
from sivrel.core.formats import scenes
from sivrel.core.pictures import outside  # noqa: F401
from sivrel.work import facts, looking_in  # noqa: F401

PATIENCE = 300.0
"""Seconds of the clock after which a look that gave no answer counts as hung; its processor time is bounded far below."""


class Looker:
    """Looks into one file after another. A context manager."""

    def __enter__(self) -> Self:
        environment = {**os.environ, "OPENBLAS_NUM_THREADS": "1"}
        self.process = subprocess.Popen(
            [sys.executable, "-m", __name__], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, bufsize=1, env=environment
        )
        return self

    def __exit__(self, *_: object) -> None:
        self.process.communicate()

    def look(self, path: Path, folder: Path) -> tuple[dict | None, float, float]:
        """What a first look tells of a file, or None where its process died; processor seconds and megabytes beyond those it began with."""
        self.process.stdin.write(json.dumps([str(path), str(folder)]) + "\n")
        found, seconds, megabytes = json.loads(self.process.stdout.readline())
        return found, seconds, megabytes


def look_in_fork(path: str, folder: str) -> tuple[dict | None, float, float]:
    """As `Looker.look`, in a fork of this process."""
    read_end, write_end = os.pipe()
    pid = os.fork()
    if pid == 0:
        code = 1
        try:
            os.close(read_end)
            os.environ["SIVREL_LOOK_BYTES"] = str(looking_in.MEMORY)
            looking_in.bound_this_process()
            os.write(write_end, json.dumps(looking_in.look(["scene", path, folder])).encode())
            code = 0
        finally:
            os._exit(code)
    os.close(write_end)
    result = b""
    while select.select([read_end], [], [], PATIENCE)[0] and (part := os.read(read_end, 1 << 16)):
        result += part
    os.close(read_end)
    try:
        found = json.loads(result)
    except ValueError:
        found = None
        os.kill(pid, signal.SIGKILL)  # dead already, or hung
    _, _, usage = os.wait4(pid, 0)
    return found, usage.ru_utime + usage.ru_stime, usage.ru_maxrss / 1024


def serve() -> None:
    """Answer each line of the standard input, a path and its folder as JSON, with a line of JSON."""
    for suffix in scenes.suffixes():
        scenes.reader_of(suffix)
    answers = os.fdopen(os.dup(1), "w", buffering=1)
    os.dup2(2, 1)  # what a reader prints is no answer
    assert len(os.listdir("/proc/self/task")) == 1, "a fork of a process with threads may hang"
    for line in sys.stdin:
        answers.write(json.dumps(look_in_fork(*json.loads(line))) + "\n")


if __name__ == "__main__":
    serve()
