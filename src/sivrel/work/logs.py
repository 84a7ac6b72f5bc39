"""The log of a data folder: errors with details for fixing them; pages only show a sentence."""

import logging
import logging.handlers
from pathlib import Path

FILE, MOST_BYTES, KEPT = "sivrel.log", 2 << 20, 3


def log_to(data: Path, process: str) -> None:
    """Write this process's warnings and errors to the log of a data folder, and errors also to the terminal."""
    form = logging.Formatter(f"%(asctime)s {process} %(levelname)s %(name)s: %(message)s")
    root = logging.getLogger("sivrel")
    root.setLevel(logging.INFO)
    terminal = logging.StreamHandler()
    terminal.setLevel(logging.ERROR)
    handlers: list[logging.Handler] = [terminal]
    try:
        handlers.append(logging.handlers.RotatingFileHandler(data / FILE, maxBytes=MOST_BYTES, backupCount=KEPT, encoding="utf-8", errors="replace"))
    except OSError:
        pass  # an unwritable folder is reported elsewhere
    for handler in handlers:
        handler.setFormatter(form)
        root.addHandler(handler)
    logging.raiseExceptions = False  # a full disk must not print a traceback for each line
