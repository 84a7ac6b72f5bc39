"""The SQLite database of a data folder: connections and numbered migrations."""

import sqlite3
from pathlib import Path

MIGRATIONS = Path(__file__).parent / "migrations"
FILE = "sivrel.db"


def connect(data: Path) -> sqlite3.Connection:
    """Open the database of the folder `data`, made and brought up to date where needed.

    A connection serves one thread at a time; it may move between threads. Statements commit by themselves; use
    `with transaction(db):` where several belong together.
    """
    data.mkdir(parents=True, exist_ok=True)
    db = sqlite3.connect(data / FILE, timeout=10.0, isolation_level=None, check_same_thread=False)
    db.row_factory = sqlite3.Row
    db.execute("PRAGMA journal_mode = WAL")
    db.execute("PRAGMA synchronous = NORMAL")
    db.execute("PRAGMA foreign_keys = ON")
    _migrate(db)
    return db


class transaction:  # noqa: N801 (reads as a statement)
    """Several statements as one, taking the write lock at once."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self.db = db

    def __enter__(self) -> sqlite3.Connection:
        self.db.execute("BEGIN IMMEDIATE")
        return self.db

    def __exit__(self, kind, *_: object) -> None:
        self.db.execute("COMMIT" if kind is None else "ROLLBACK")


def _migrate(db: sqlite3.Connection) -> None:
    steps = sorted(MIGRATIONS.glob("[0-9]*.sql"))
    if db.execute("PRAGMA user_version").fetchone()[0] >= len(steps):
        return
    with transaction(db):
        at = db.execute("PRAGMA user_version").fetchone()[0]  # another process may have been first
        for number, step in enumerate(steps[at:], start=at + 1):
            for statement in _statements(step.read_text()):
                db.execute(statement)
            db.execute(f"PRAGMA user_version = {number}")


def _statements(script: str) -> list[str]:
    """The statements of a script one by one: `executescript` would commit before it begins."""
    found, current = [], ""
    for line in script.splitlines(keepends=True):
        current += line
        if sqlite3.complete_statement(current):
            found.append(current)
            current = ""
    return found
