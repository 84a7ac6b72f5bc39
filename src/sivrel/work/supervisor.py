"""Keeps one worker process alive beside the web process."""

import subprocess
import sys
import threading
from pathlib import Path

RESTART_AFTER = 0.5
"""Seconds before a worker that died is started again."""


class Supervisor:
    """Starts the worker of a data folder, starts it again when it dies, and ends it with `stop`."""

    def __init__(self, data: Path) -> None:
        self.data = data
        self._stopping = threading.Event()
        self.process: subprocess.Popen | None = None
        self._thread = threading.Thread(target=self._keep_alive, daemon=True)

    def start(self) -> None:
        self._thread.start()

    def _keep_alive(self) -> None:
        while not self._stopping.is_set():
            self.process = subprocess.Popen([sys.executable, "-m", "sivrel.work.worker", str(self.data)])
            self.process.wait()
            self._stopping.wait(RESTART_AFTER)

    def stop(self) -> None:
        self._stopping.set()
        if self.process is not None:
            self.process.terminate()
        self._thread.join(timeout=5.0)
