"""The SQLite database of a data folder: connections and numbered migrations."""

import errno
import functools
import json
import sqlite3
from pathlib import Path
from typing import Any

from ..core.errors import InputError

MIGRATIONS = Path(__file__).parent / "migrations"
FILE = "sivrel.db"


def create(data: Path) -> sqlite3.Connection:
    """Open the database of the folder `data`, created if missing, migrated and checked. Raises InputError."""
    try:
        data.mkdir(parents=True, exist_ok=True, mode=0o700)
        path = data / FILE
        if not path.exists():
            path.touch(mode=0o600)
    except OSError as error:
        raise InputError(f"The data folder {data} can't be written ({error.strerror}); give another with --data.") from None
    db = connect(data)
    try:
        sound = db.execute("PRAGMA quick_check(1)").fetchone()[0] == "ok"
    except sqlite3.DatabaseError:
        sound = False
    if not sound:
        raise _damaged(path)
    return db


def connect(data: Path) -> sqlite3.Connection:
    """Open the database of the folder `data`, migrated if needed. Raises InputError if it is missing, damaged or too new.

    A connection serves one thread at a time; it may move between threads. Statements commit by themselves; use
    `with transaction(db):` where several belong together.
    """
    path = data / FILE
    if not path.is_file():
        raise InputError(f"The data folder {data} is missing, or has no {FILE}; restore it, or start Sivrel again with another --data.")
    try:
        db = sqlite3.connect(path, timeout=10.0, isolation_level=None, check_same_thread=False)
        db.row_factory = sqlite3.Row
        db.execute("PRAGMA journal_mode = WAL")
        db.execute("PRAGMA synchronous = NORMAL")
        db.execute("PRAGMA foreign_keys = ON")
        _migrate(db)
    except sqlite3.OperationalError as error:
        if is_full(error):
            raise
        raise InputError(f"The database {path} can't be opened or written ({error}); check its permissions, or give another --data.") from None
    except sqlite3.DatabaseError:
        raise _damaged(path) from None
    return db


def _damaged(path: Path) -> InputError:
    return InputError(f"The database {path} is damaged; restore a copy of it, or move it away to start afresh (pictures and caches stay).")


def is_full(error: BaseException) -> bool:
    """Whether a write failed because the disk, or the user's quota, is full."""
    if isinstance(error, sqlite3.OperationalError):
        return error.sqlite_errorcode & 0xFF == sqlite3.SQLITE_FULL
    return isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT)


class transaction:  # noqa: N801 (reads as a statement)
    """Several statements as one, taking the write lock at once."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self.db = db

    def __enter__(self) -> sqlite3.Connection:
        self.db.execute("BEGIN IMMEDIATE")
        return self.db

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        if kind is None:
            try:
                self.db.execute("COMMIT")
                return
            except sqlite3.Error:
                self._roll_back()
                raise
        self._roll_back()

    def _roll_back(self) -> None:
        if self.db.in_transaction:  # a full disk may have ended the transaction already
            self.db.execute("ROLLBACK")


def read_json(text: str | None, nothing: Any) -> Any:
    """A column's JSON value, or a copy of `nothing`, a list or dict, if it is empty, damaged, or of another type."""
    if not text or text in ("{}", "[]"):  # the common case, since many are read for one page
        return nothing.copy()
    try:
        value = json.loads(text)
    except (ValueError, RecursionError):
        return nothing.copy()
    return value if isinstance(value, type(nothing)) else nothing.copy()


@functools.cache
def _steps() -> list[Path]:
    """The migrations in their order. (Cached, since every request opens the database.)"""
    return sorted(MIGRATIONS.glob("[0-9]*.sql"))


def _migrate(db: sqlite3.Connection) -> None:
    steps = _steps()
    version = db.execute("PRAGMA user_version").fetchone()[0]
    if version > len(steps):
        raise InputError("The data folder was written by a newer Sivrel; start that version, or give another folder with --data.")
    if version == len(steps):
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
