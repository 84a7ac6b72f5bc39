"""A scheduler and helpers in processes of their own, on this machine."""

import json
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

BIN = Path(sys.executable).parent
PATIENCE = 400.0
"""Seconds for a process to start: its kernels may have to be compiled."""


class Machines:
    """A scheduler, and helpers that are started and stopped; a context."""

    def __enter__(self) -> "Machines":
        self.kept = tempfile.TemporaryDirectory()
        self.folder = Path(self.kept.name)
        said = self.folder / "scheduler.json"
        self.scheduler = subprocess.Popen(
            [BIN / "dask", "scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard", "--scheduler-file", str(said)],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        self.helpers: list[subprocess.Popen] = []
        until(said.is_file)
        time.sleep(0.2)
        self.address = json.loads(said.read_text())["address"]
        return self

    def __exit__(self, *_: object) -> None:
        for process in [*self.helpers, self.scheduler]:
            process.kill()
            process.wait()
        self.kept.cleanup()

    def start(self, threads: int = 1, most_bytes: int = 0) -> subprocess.Popen:
        """A helper that has joined. most_bytes: of a file that it can write, as if its disk were full."""
        number = len(self.helpers)
        log = self.folder / f"helper{number}.log"
        with open(log, "w") as out:
            command = [
                sys.executable,
                "-m",
                "sivrel.cli",
                "helper",
                self.address,
                "--threads",
                str(threads),
                "--folder",
                str(self.folder / f"kept{number}"),
            ]
            process = subprocess.Popen(command, stderr=out)
            if most_bytes:
                until(lambda: "helping" in log.read_text())
                resource.prlimit(process.pid, resource.RLIMIT_FSIZE, (most_bytes, most_bytes))
        self.helpers.append(process)
        until(lambda: "helping" in log.read_text())
        return process


def until(happened) -> None:
    begun = time.monotonic()
    while not happened():
        if time.monotonic() - begun > PATIENCE:
            raise TimeoutError("This did not happen.")
        time.sleep(0.05)
