"""Disk space: writes that fail on a full disk wait, and continue by themselves."""

import shutil
import sqlite3
import time
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from ..core.errors import InputError
from ..store.database import is_full

LEAST_ROOM = 16 << 20
"""Free bytes below which a disk counts as full."""
POLL = 0.5
FULL = "The disk is full: renders pause, and continue by themselves when there is space."
T = TypeVar("T")


def has_room(data: Path) -> bool:
    """Whether the disk of a folder has space; True if unknown."""
    try:
        return shutil.disk_usage(data).free >= LEAST_ROOM
    except OSError:
        return True


def when_there_is_room(act: Callable[[], T], goes_on: Callable[[], bool]) -> T:
    """The result of `act`; while it fails on a full disk, it is retried as long as `goes_on()`. Then the error is raised."""
    while True:
        try:
            return act()
        except (OSError, sqlite3.OperationalError) as error:
            if isinstance(error, InputError) or not is_full(error) or not goes_on():
                raise
            time.sleep(POLL)
