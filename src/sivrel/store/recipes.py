"""Recipes: each kept once under its hash; some of them named, with a reason and a picture."""

import functools
import hashlib
import sqlite3
from dataclasses import dataclass

from ..core.errors import InputError
from ..core.render.recipe import Recipe, from_json, to_json
from .database import transaction
from .shots import now


@dataclass(frozen=True)
class Named:
    """A named recipe. picture: hash of a proof's picture made with it, None without; is_default: new shots begin with it."""

    id: int
    name: str
    reason: str
    recipe: Recipe
    picture: str | None
    is_default: bool


read = functools.lru_cache(8192)(from_json)
"""The recipe of a stored text, read once for all that share it; nobody changes a recipe."""


def readable(body: str) -> Recipe | None:
    """The recipe of a stored text, None where this program can't read it."""
    try:
        return read(body)
    except InputError:
        return None


def _named(row: sqlite3.Row) -> Named:
    """A named recipe; one that can't be read has the default settings, and says so."""
    if readable(row["body"]) is None:
        reason = "This recipe can't be read by this version, so it stands at the defaults."
        return Named(row["id"], row["name"], reason, Recipe(), row["picture"], False)
    return Named(row["id"], row["name"], row["reason"], read(row["body"]), row["picture"], bool(row["is_default"]))


_SELECT = "SELECT named_recipes.*, recipes.body AS body FROM named_recipes JOIN recipes ON recipes.id = recipe_id"


def keep(db: sqlite3.Connection, recipe: Recipe) -> int:
    """Keep a recipe, once; returns its number."""
    body = to_json(recipe)
    digest = hashlib.sha256(body.encode()).hexdigest()
    db.execute("INSERT OR IGNORE INTO recipes (digest, body) VALUES (?, ?)", (digest, body))
    return int(db.execute("SELECT id FROM recipes WHERE digest = ?", (digest,)).fetchone()["id"])


def name(db: sqlite3.Connection, name: str, reason: str, recipe: Recipe, picture: str | None = None) -> int:
    """Name a recipe. Raises InputError for a name that is taken: nothing is written over."""
    name = " ".join(name.split())
    if not 1 <= len(name) <= 80:
        raise InputError("A recipe's name has 1 to 80 letters; give it one that says what it is for.")
    if find(db, name) is not None:
        raise _taken(name)
    try:
        with transaction(db):
            cursor = db.execute(
                "INSERT INTO named_recipes (name, reason, recipe_id, picture, created_at) VALUES (?, ?, ?, ?, ?)",
                (name, reason.strip()[:2000], keep(db, recipe), picture, now()),
            )
    except sqlite3.IntegrityError:  # another browser was first
        raise _taken(name) from None
    assert cursor.lastrowid is not None
    return cursor.lastrowid


def _taken(name: str) -> InputError:
    return InputError(f"There is a recipe “{name}” already, and it is not written over; choose another name, or delete that one first.")


def find(db: sqlite3.Connection, name: str) -> Named | None:
    row = db.execute(f"{_SELECT} WHERE name = ?", (name,)).fetchone()
    return _named(row) if row else None


def get(db: sqlite3.Connection, number: int) -> Named | None:
    row = db.execute(f"{_SELECT} WHERE named_recipes.id = ?", (number,)).fetchone()
    return _named(row) if row else None


def listed(db: sqlite3.Connection) -> list[Named]:
    return [_named(row) for row in db.execute(f"{_SELECT} ORDER BY name COLLATE NOCASE")]


def remove(db: sqlite3.Connection, number: int) -> None:
    db.execute("DELETE FROM named_recipes WHERE id = ?", (number,))


def set_default(db: sqlite3.Connection, number: int | None) -> None:
    """Let new shots begin with a named recipe; None: with the program's own."""
    db.execute("UPDATE named_recipes SET is_default = (id = ?)", (number or 0,))


def default(db: sqlite3.Connection) -> Recipe:
    """The recipe that a shot without proofs begins with."""
    row = db.execute(f"{_SELECT} WHERE is_default").fetchone()
    return _named(row).recipe if row else Recipe()
