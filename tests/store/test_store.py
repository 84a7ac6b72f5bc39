"""The store: migrations, lineage, jobs and the tiles on their way."""

import sqlite3
import tempfile
import unittest
from pathlib import Path

import numpy as np

from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.store import database, files, jobs, proofs, shots


class StoreTest(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.data = Path(folder.name)
        self.db = database.create(self.data)
        self.addCleanup(self.db.close)

    def shot(self, slug="room"):
        return shots.add(self.db, slug, "Room", "", Path("/none/room.usda"), [{"name": "c", "exposure": 0.5}], 12, ["a note"])

    def proof(self, shot, parent=None, **values):
        recipe = with_values(Recipe(), {k.replace("__", "."): v for k, v in values.items()})
        return proofs.add(self.db, shot.id, parent, recipe, "c", Frame(64, 36, (0, 0, 32, 32), 5))


class Database(StoreTest):
    def test_opening_again_changes_nothing(self):
        self.shot()
        again = database.create(self.data)
        self.assertEqual(len(shots.listed(again)), 1)
        again.close()

    def test_a_failed_transaction_leaves_no_trace(self):
        with self.assertRaises(sqlite3.IntegrityError), database.transaction(self.db):
            self.shot()
            self.db.execute("INSERT INTO jobs (proof_id, state) VALUES (999, 'waiting')")
        self.assertEqual(shots.listed(self.db), [])


class Lineage(StoreTest):
    def test_proofs_keep_their_recipe_frame_and_parent(self):
        shot = self.shot()
        first = self.proof(shot)
        second = self.proof(shot, first, sampling__max=99)
        got = proofs.get(self.db, second)
        self.assertEqual((got.parent_id, got.recipe.sampling.max, got.frame), (first, 99, Frame(64, 36, (0, 0, 32, 32), 5)))
        self.assertEqual([p.id for p in proofs.of_shot(self.db, shot.id)], [first, second])
        self.assertIsNone(got.picture)

    def test_a_shot_brought_up_to_date_keeps_its_proofs(self):
        shot = self.shot()
        self.proof(shot)
        self.assertEqual(self.shot().id, shot.id)
        self.assertEqual(shots.listed(self.db)[0][1], 1)


class Jobs(StoreTest):
    def test_oldest_first_and_never_twice(self):
        shot = self.shot()
        numbers = [self.proof(shot) for _ in range(2)]
        for number in numbers:
            jobs.add(self.db, number, 4)
        taken = [jobs.take(self.db), jobs.take(self.db), jobs.take(self.db)]
        self.assertEqual([t and t.proof_id for t in taken], [*numbers, None])

    def test_a_killed_workers_job_waits_again(self):
        number = self.proof(self.shot())
        jobs.add(self.db, number, 4)
        job = jobs.take(self.db)
        jobs.progress(self.db, job.id, 3, 1.5, 1.0)
        self.assertEqual(jobs.requeue(self.db), 1)
        again = jobs.take(self.db)
        self.assertEqual((again.id, again.tiles_done, again.seconds), (job.id, 3, 1.5))

    def test_cancel_and_go_on(self):
        number = self.proof(self.shot())
        jobs.add(self.db, number, 4)
        jobs.cancel(self.db, number)
        self.assertEqual(proofs.get(self.db, number).state, "cancelled")
        self.assertIsNone(jobs.take(self.db))
        jobs.resume(self.db, number)
        job = jobs.take(self.db)
        jobs.cancel(self.db, number)
        self.assertTrue(jobs.is_cancelled(self.db, job.id))
        self.assertEqual(jobs.counts(self.db), (1, 0, 0))


class Tiles(StoreTest):
    def test_what_a_crash_leaves_is_found(self):
        tiles = files.Tiles(self.data, 7)
        self.assertEqual((tiles.order(), tiles.recover()), ([], []))
        for index in (5, 2):
            tiles.add(index, np.full((2, 2), index, np.float32))
        # Killed between a tile and its listing, in the middle of a listing, and in the middle of a tile.
        np.save(tiles.folder / "9.npy", np.zeros((2, 2)))
        with open(tiles.folder / "order", "ab") as order:
            order.write(b"\x01\x00")
        (tiles.folder / ".4.npy").write_bytes(b"half")
        self.assertEqual(tiles.recover(), [5, 2, 9])
        self.assertEqual(tiles.order(), [5, 2, 9])
        self.assertEqual(tiles.load(2)[0, 0], 2)

    def test_files_are_named_by_their_contents(self):
        folder = self.data / "kept"
        names = [files.keep(folder, ".txt", lambda path, text=text: path.write_text(text)) for text in ("a", "a", "b")]
        self.assertEqual(names[0], names[1])
        self.assertEqual(sorted(f.name for f in folder.iterdir()), sorted({f"{n}.txt" for n in names}))

    def test_a_failed_write_leaves_nothing(self):
        def fail(path):
            raise OSError("disk full")

        with self.assertRaises(OSError):
            files.keep(self.data / "kept", ".txt", fail)
        self.assertEqual(list((self.data / "kept").iterdir()), [])


if __name__ == "__main__":
    unittest.main()
