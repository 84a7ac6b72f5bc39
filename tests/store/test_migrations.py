"""A folder of any earlier version opens, with all that was kept in it."""

import sqlite3
import tempfile
import unittest
from pathlib import Path

from sivrel.core.errors import InputError
from sivrel.core.render.recipe import Recipe, to_json
from sivrel.store import database, proofs, shots
from sivrel.store.database import FILE, MIGRATIONS


def steps() -> list[Path]:
    return sorted(MIGRATIONS.glob("[0-9]*.sql"))


class MigrationTest(unittest.TestCase):
    def folder(self) -> Path:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        return Path(folder.name)

    def made_by(self, version: int) -> Path:
        """A folder as the program of that version left it, with a shot and a proof in it."""
        data = self.folder()
        db = sqlite3.connect(data / FILE)
        for step in steps()[:version]:
            db.executescript(step.read_text())
        db.execute(f"PRAGMA user_version = {version}")
        self.fill(db, "shots", slug="pier", title="Pier", path="/none/pier.usda")
        self.fill(db, "recipes", body=to_json(Recipe()))
        self.fill(db, "proofs", shot_id=1, recipe_id=1, camera="c")
        db.commit()
        db.close()
        return data

    def fill(self, db: sqlite3.Connection, table: str, **values) -> None:
        """A row with these values, and with something in each further column that must have it."""
        usual = {"INTEGER": 1, "REAL": 1.0, "TEXT": "[]"}
        for _, name, kind, must, default, key in db.execute(f"PRAGMA table_info({table})"):
            if must and default is None and not key and name not in values:
                values[name] = usual[kind]
        names = {row[1] for row in db.execute(f"PRAGMA table_info({table})")}
        values = {name: value for name, value in values.items() if name in names}
        db.execute(f"INSERT INTO {table} ({', '.join(values)}) VALUES ({', '.join('?' * len(values))})", list(values.values()))

    def test_each_earlier_version_is_brought_up_to_date(self):
        for version in range(1, len(steps()) + 1):
            with self.subTest(version=version):
                db = database.create(self.made_by(version))
                self.addCleanup(db.close)
                self.assertEqual(db.execute("PRAGMA user_version").fetchone()[0], len(steps()))
                self.assertEqual(shots.find(db, "pier").title, "Pier")
                proof = proofs.get(db, 1)
                self.assertEqual((proof.camera, proof.recipe, proof.state), ("c", Recipe(), "done"))
                self.assertEqual(db.execute("PRAGMA foreign_key_check").fetchall(), [])
                self.assertEqual(db.execute("PRAGMA integrity_check").fetchone()[0], "ok")

    def test_all_ways_end_in_the_same_tables(self):
        def shape(db: sqlite3.Connection) -> dict[str, list[tuple]]:
            tables = [row[0] for row in db.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%' ORDER BY name")]
            return {table: sorted(tuple(row)[1:] for row in db.execute(f"PRAGMA table_info({table})")) for table in tables}

        new = database.create(self.folder())
        self.addCleanup(new.close)
        for version in range(1, len(steps())):
            old = database.create(self.made_by(version))
            self.addCleanup(old.close)
            self.assertEqual(shape(old), shape(new))

    def test_a_step_that_fails_leaves_the_folder_as_it_was(self):
        data = self.made_by(1)
        db = sqlite3.connect(data / FILE)
        # A table that is in the way of a later step.
        later = next(line.split()[2] for step in steps()[1:] for line in step.read_text().splitlines() if line.startswith("CREATE TABLE"))
        db.execute(f"CREATE TABLE {later} (other INTEGER)")
        db.commit()
        with self.assertRaisesRegex(InputError, "already exists"):
            database.create(data)
        self.assertEqual(db.execute("PRAGMA user_version").fetchone()[0], 1)
        self.assertEqual(db.execute("SELECT count(*) FROM proofs").fetchone()[0], 1)
        db.close()


if __name__ == "__main__":
    unittest.main()
