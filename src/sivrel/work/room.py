"""Room on the disk: what can't be written for want of it waits, and goes on by itself."""

import shutil
import sqlite3
import time
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from ..core.errors import InputError
from ..store.database import is_full

LEAST_ROOM = 16 << 20
"""Bytes below which a disk counts as full: what is written next may not fit."""
POLL = 0.5
FULL = "The disk is full: renders pause, and go on by themselves when there is room."
T = TypeVar("T")


def has_room(data: Path) -> bool:
    """Whether the disk of a folder has room; True where nobody can tell."""
    try:
        return shutil.disk_usage(data).free >= LEAST_ROOM
    except OSError:
        return True


def when_there_is_room(act: Callable[[], T], goes_on: Callable[[], bool]) -> T:
    """What `act` returns; while it fails because the disk is full, it is tried again, as long as `goes_on()`. Then the error is raised."""
    while True:
        try:
            return act()
        except (OSError, sqlite3.OperationalError) as error:
            if isinstance(error, InputError) or not is_full(error) or not goes_on():
                raise
            time.sleep(POLL)
