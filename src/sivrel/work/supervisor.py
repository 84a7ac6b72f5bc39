"""Keeps one worker process alive next to the web process."""

import logging
import os
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from pathlib import Path

from ..core.errors import InputError
from ..store import database, jobs
from .recovery import worker_cannot_start, worker_died

RESTART_AFTER, LONGEST_WAIT = 0.5, 30.0
"""Seconds before a dead worker is restarted: the first value, doubled while workers die early, up to the second."""
YOUNG = 10.0
"""Lifetime in seconds below which a worker died early."""
HOPELESS = 4
"""Number of early deaths in a row after which waiting requests fail: a single job may kill a worker twice."""
log = logging.getLogger(__name__)


class Supervisor:
    """Starts the worker of a data folder, restarts it when it dies, and ends it with `stop`.

    The worker holds the other end of a pipe: however this process ends, the pipe closes, and the worker ends, too.
    """

    def __init__(self, data: Path) -> None:
        self.data = data
        self._stopping = threading.Event()
        self.process: subprocess.Popen[bytes] | None = None
        self._thread = threading.Thread(target=self._keep_alive, daemon=True)

    def start(self) -> None:
        self._thread.start()

    def _keep_alive(self) -> None:
        wait, young = RESTART_AFTER, 0
        while not self._stopping.is_set():
            begun = time.monotonic()
            code = self._run()
            if self._stopping.is_set():
                return
            if code == 0:  # this machine's limits were changed
                self._note_death(code, 0)
                continue
            log.warning("The worker ended (%s); it is started again.", ended_how(code))
            young = young + 1 if time.monotonic() - begun < YOUNG else 0
            wait = min(wait * 2.0, LONGEST_WAIT) if young else RESTART_AFTER
            self._note_death(code, young)
            self._stopping.wait(wait)

    def _run(self) -> int:
        """Start a worker and wait for its end; returns its exit code."""
        read_end, write_end = os.pipe()
        try:
            command = [sys.executable, "-m", "sivrel.work", str(self.data), str(read_end)]
            self.process = subprocess.Popen(command, pass_fds=(read_end,), stdin=subprocess.DEVNULL)
            os.close(read_end)
            read_end = -1
            return self.process.wait()
        finally:
            os.close(write_end)
            if read_end >= 0:
                os.close(read_end)

    def _note_death(self, code: int, young: int) -> None:
        try:
            db = database.connect(self.data)
            try:
                worker_died(db, ended_how(code))
                if young >= HOPELESS:
                    worker_cannot_start(db, ended_how(code))
                jobs.set_worker(db, "absent", message=f"it ended ({ended_how(code)}) and is started again")
            finally:
                db.close()
        except (InputError, sqlite3.Error, OSError):
            log.exception("The worker's end could not be noted.")

    def stop(self) -> None:
        self._stopping.set()
        process = self.process
        if process is not None:
            process.terminate()
            try:
                process.wait(timeout=5.0)
            except subprocess.TimeoutExpired:
                process.kill()
        if self._thread.ident is not None:  # it was started
            self._thread.join(timeout=5.0)


def ended_how(code: int) -> str:
    """An exit code in words."""
    if code >= 0:
        return f"exit {code}"
    try:
        return signal.Signals(-code).name
    except ValueError:
        return f"signal {-code}"
