"""The store's connection of a request."""

import sqlite3
from pathlib import Path

from flask import current_app, g

from ..store import database


def data() -> Path:
    return current_app.config["DATA"]


def db() -> sqlite3.Connection:
    if "db" not in g:
        g.db = database.connect(data())
    return g.db


def close_database(_error: object = None) -> None:
    connection = g.pop("db", None)
    if connection is not None:
        connection.close()
