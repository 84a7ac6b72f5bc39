"""Data folders with the demo shots, for tests: imported once a process, then copied."""

import atexit
import shutil
import tempfile
from pathlib import Path

from sivrel.store import database
from sivrel.work.intake import add_demo_shots

_template: list[Path] = []


def fill(data: Path) -> None:
    """Make a data folder that has the demo shots with their proofs, as a first start leaves it. The folder must be empty."""
    if not _template:
        folder = Path(tempfile.mkdtemp(prefix="sivrel-demo-"))
        atexit.register(shutil.rmtree, folder, ignore_errors=True)
        db = database.create(folder)
        add_demo_shots(db, folder)
        db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        db.close()
        _template.append(folder)
    shutil.copytree(_template[0], data, dirs_exist_ok=True)
