"""The log of a data folder: what went wrong, with all that helps to mend it; pages show a sentence alone."""

import logging
import logging.handlers
from pathlib import Path

FILE, MOST_BYTES, KEPT = "sivrel.log", 2 << 20, 3


def log_to(data: Path, process: str) -> None:
    """Let this process write warnings and worse to the log of a data folder, and errors to the terminal too."""
    form = logging.Formatter(f"%(asctime)s {process} %(levelname)s %(name)s: %(message)s")
    root = logging.getLogger("sivrel")
    root.setLevel(logging.INFO)
    terminal = logging.StreamHandler()
    terminal.setLevel(logging.ERROR)
    handlers: list[logging.Handler] = [terminal]
    try:
        handlers.append(logging.handlers.RotatingFileHandler(data / FILE, maxBytes=MOST_BYTES, backupCount=KEPT, encoding="utf-8", errors="replace"))
    except OSError:
        pass  # a folder that can't be written says so elsewhere
    for handler in handlers:
        handler.setFormatter(form)
        root.addHandler(handler)
    logging.raiseExceptions = False  # a full disk must not print a traceback for each line
