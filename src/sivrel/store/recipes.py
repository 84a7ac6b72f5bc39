"""Recipes: each stored once by its hash; some are named, with a reason and a picture."""

import functools
import hashlib
import sqlite3
from dataclasses import dataclass

from ..core.errors import InputError
from ..core.render.recipe import Recipe, from_json, to_json
from ..core.render.starting import FIRST, STARTING, for_lights
from .database import transaction
from .shots import now


@dataclass(frozen=True)
class Named:
    """A named recipe. picture: hash of a proof's picture made with it, or None; is_default: new shots start with it."""

    id: int
    name: str
    reason: str
    recipe: Recipe
    picture: str | None
    is_default: bool


read = functools.lru_cache(8192)(from_json)
"""The recipe of a stored text, parsed once and shared; recipes are immutable."""


def readable(body: str) -> Recipe | None:
    """The recipe of a stored text, None if this program can't read it."""
    try:
        return read(body)
    except InputError:
        return None


def _named(row: sqlite3.Row) -> Named:
    """A named recipe; an unreadable one has default settings and a note."""
    if readable(row["body"]) is None:
        reason = "This version can't read this recipe, so it shows the defaults."
        return Named(row["id"], row["name"], reason, Recipe(), row["picture"], False)
    return Named(row["id"], row["name"], row["reason"], read(row["body"]), row["picture"], bool(row["is_default"]))


_SELECT = "SELECT named_recipes.*, recipes.body AS body FROM named_recipes JOIN recipes ON recipes.id = recipe_id"


def keep(db: sqlite3.Connection, recipe: Recipe) -> int:
    """Store a recipe, once; returns its number."""
    body = to_json(recipe)
    digest = hashlib.sha256(body.encode()).hexdigest()
    db.execute("INSERT OR IGNORE INTO recipes (digest, body) VALUES (?, ?)", (digest, body))
    return int(db.execute("SELECT id FROM recipes WHERE digest = ?", (digest,)).fetchone()["id"])


def stored(db: sqlite3.Connection, number: int) -> Recipe:
    """A stored recipe by its number. Raises InputError."""
    row = db.execute("SELECT body FROM recipes WHERE id = ?", (number,)).fetchone()
    if row is None:
        raise InputError("This recipe no longer exists; choose another.")
    return read(row["body"])


def name(db: sqlite3.Connection, name: str, reason: str, recipe: Recipe, picture: str | None = None) -> int:
    """Name a recipe. Raises InputError if the name is taken: nothing is overwritten."""
    name = " ".join(name.split())
    if not 1 <= len(name) <= 80:
        raise InputError("A recipe's name has 1 to 80 characters; give it one that says what it is for.")
    if find(db, name) is not None:
        raise _taken(name)
    try:
        with transaction(db):
            cursor = db.execute(
                "INSERT INTO named_recipes (name, reason, recipe_id, picture, created_at) VALUES (?, ?, ?, ?, ?)",
                (name, reason.strip()[:2000], keep(db, recipe), picture, now()),
            )
    except sqlite3.IntegrityError:  # another browser took the name first
        raise _taken(name) from None
    assert cursor.lastrowid is not None
    return cursor.lastrowid


def _taken(name: str) -> InputError:
    return InputError(f"There is already a recipe “{name}”; choose another name, or delete that one first.")


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
    """Make a named recipe the default of new shots; None: the program's own."""
    db.execute("UPDATE named_recipes SET is_default = (id = ?)", (number or 0,))


def default(db: sqlite3.Connection, lights: int = 0) -> Recipe:
    """The recipe that a shot without proofs, with so many lights, starts with."""
    row = db.execute(f"{_SELECT} WHERE is_default").fetchone()
    return for_lights(_named(row).recipe if row else STARTING[FIRST].recipe(), lights)
