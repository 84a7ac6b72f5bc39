"""Cache files: refused when damaged or foreign, marked, listed, and what has changed since one was made."""

import tempfile
import threading
import unittest
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path

import numpy as np

from sivrel.core.caches import Cache, CacheFolder, from_bytes, header_of, to_bytes
from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.errors import Cancelled, InputError
from sivrel.core.gi.ways import PREPARING, SEEN
from sivrel.core.render.frame import Frame
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.scene.model import Light, Scene
from sivrel.core.task import Task
from tests.scenes import box_inside, lambert, looking_down

CAMERA = looking_down(height=0.5, tilt=0.4, half_width=0.8)
LAMP = Light("lamp", "sphere", (30.0, 20.0, 10.0), (0.3, 0.2, 0.4), radius=0.1)
ROOM = Scene("room", [box_inside()], [lambert(0.5)], [LAMP], cameras=[CAMERA, replace(CAMERA, name="other", half_width=0.3)])
SMALL = {"photon_map.count": 2000, "baked.shots": 20_000, "baked.refine": 0, "baked.max_edge": 0.6}


class Files(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_damaged_and_foreign_files_are_refused_in_one_sentence(self):
        whole = to_bytes(Cache("bake", "room", {"geometry": "a"}, {"light": np.ones(9)}, {"seconds": 1.0}))
        self.assertEqual(from_bytes(whole, "x").arrays["light"].sum(), 9.0)
        head, _, body = whole.partition(b"\n")
        for data, part in (
            (b"PNG\r\n", "not a cache of this program"),
            (b'{"format": "sivrel cache", "version": 2}\n', "not a cache of this program"),
            (head.replace(b'"version": 2', b'"version": 9') + b"\n" + body, "of version 9"),
            (whole[:-3], "is damaged"),
            (head + b"\n" + body[:-1] + b"\x01", "is damaged"),
        ):
            with self.assertRaisesRegex(InputError, part):
                from_bytes(data, "a.cache")

    def test_marks_lists_and_deletion(self):
        keeper = CacheFolder(self.folder)
        cache = Cache("bake", "room", {"geometry": "a"}, {"light": np.ones(9)}, {"seconds": 1.0})
        keeper.keep(cache)
        (self.folder / "foreign.cache").write_bytes(b"no")
        ((path, about),) = keeper.headers()
        self.assertEqual((path.stem, about.kind, about.arrays), (cache.digest, "bake", {}))
        self.assertEqual(header_of(path).notes, {"seconds": 1.0})
        keeper.mark(cache.digest, "locked", True)
        again = CacheFolder(self.folder)
        self.assertEqual(again.locked("bake", "room").digest, cache.digest)
        self.assertIsNone(again.locked("bake", "hall"))
        again.mark(cache.digest, "locked", False)
        self.assertIsNone(again.locked("bake", "room"))
        again.delete(cache.digest)
        self.assertIsNone(again.find("bake", cache.depends))

    def test_it_is_used_again_after_a_restart_and_a_camera_move_and_says_what_made_it_stale(self):
        for key in ("photon_map", "baked"):
            recipe = with_values(Recipe(), {"gi.seen": key, **SMALL})

            def note(scene=ROOM, edits=None, camera="down", recipe=recipe, folder=self.folder / key):
                # A new folder object each time: nothing is remembered but the files.
                return prepare(scene, recipe, edits, camera, caches=CacheFolder(folder), frame=Frame(16, 16)).ways[0]

            with self.subTest(key):
                first = note()
                moved = note(camera="other")
                self.assertEqual((first.made, moved.made, moved.seconds), (True, False, first.seconds))
                for change, words in (
                    ({"scene": replace(ROOM, surfaces=[lambert(0.7)])}, "surface lambert"),
                    ({"edits": with_edits(Edits(), {"light.lamp.exposure": 1.0})}, "light lamp"),
                    ({"scene": replace(ROOM, meshes=[box_inside(1.1)])}, "object mesh"),
                ):
                    answer = note(**change)
                    self.assertEqual((answer.made, answer.because), (True, words))
                    note(**change)

    def test_a_locked_cache_serves_whatever_changes_and_says_so(self):
        recipe, keeper = with_values(Recipe(), {"gi.seen": "photon_map", **SMALL}), CacheFolder(self.folder)
        first = prepare(ROOM, recipe, caches=keeper, frame=Frame(16, 16)).ways[0]
        keeper.mark(first.digest, "locked", True)
        answer = prepare(replace(ROOM, surfaces=[lambert(0.7)]), recipe, caches=CacheFolder(self.folder), frame=Frame(16, 16)).ways[0]
        self.assertEqual((answer.digest, answer.made, answer.because), (first.digest, False, "surface lambert"))

    def test_one_looks_before_the_first_is_made_and_not_when_all_are_there(self):
        values = {"gi.seen": "photon_map", "bidirectional.on": "yes", **SMALL}
        recipe, keeper, looks = with_values(Recipe(), values), CacheFolder(self.folder), []

        def look(staged):
            looks.append((len(keeper.headers()), staged.camera.name, len(staged.ways)))

        for _ in range(2):
            prepare(ROOM, recipe, caches=keeper, frame=Frame(16, 16), look=look)
        self.assertEqual(looks, [(0, CAMERA.name, 0)])

    def test_of_two_threads_one_makes_the_cache_that_both_need_and_one_that_waits_can_be_cancelled(self):
        recipe, keeper = with_values(Recipe(), {"gi.seen": "photon_map", **SMALL}), CacheFolder(self.folder)
        begun, go_on = threading.Event(), threading.Event()

        def look(staged):
            begun.set()
            go_on.wait()

        def ways(task, **how):
            return prepare(ROOM, recipe, caches=keeper, frame=Frame(16, 16), task=task, **how).ways[0]

        with ThreadPoolExecutor(3) as pool:
            first = pool.submit(ways, Task(), look=look)
            begun.wait()
            second, impatient = pool.submit(ways, Task()), Task()
            third = pool.submit(ways, impatient)
            impatient.cancel.set()
            self.assertIsInstance(third.exception(), Cancelled)
            self.assertFalse(second.done())
            go_on.set()
            self.assertEqual(
                [(one.result().made, one.result().digest) for one in (first, second)], [(True, first.result().digest), (False, first.result().digest)]
            )

    def test_locked_caustics_of_an_older_version_are_refused(self):
        """They lack the directions that gloss needs."""
        old = {"points": np.zeros((0, 10), np.float32), "axes": np.zeros(0, np.uint8), "starts": np.zeros(2, np.int64)}
        keeper, cache = CacheFolder(self.folder), Cache("caustic photons", "room", {}, old, {"seconds": 1.0, "count": 0, "unit": "photons"})
        keeper.keep(cache)
        keeper.mark(cache.digest, "locked", True)
        with self.assertRaisesRegex(InputError, "unlock or delete"):
            prepare(ROOM, with_values(Recipe(), {"caustics.on": "yes"}), caches=CacheFolder(self.folder), frame=Frame(16, 16))

    def test_cancelled_while_it_is_made_nothing_is_kept(self):
        for key in PREPARING:
            values = {"gi.seen": key} if key in SEEN else {f"{key}.on": "yes"}
            keeper = CacheFolder(self.folder / key)
            task = Task(lambda what, share, result: task.cancel.set())  # noqa: B023  heard within this turn
            with self.assertRaises(Cancelled):
                prepare(ROOM, with_values(Recipe(), {**values, **SMALL}), caches=keeper, task=task, frame=Frame(16, 16))
            self.assertEqual(keeper.headers(), [])

    def test_every_cache_can_be_drawn_and_counted(self):
        for key, way in PREPARING.items():
            values = {"gi.seen": key} if key in SEEN else {f"{key}.on": "yes", "gi.seen": "off" if key == "caustics" else "brute_force"}
            keeper = CacheFolder(self.folder / key)
            note = prepare(ROOM, with_values(Recipe(), {**values, **SMALL}), caches=keeper, frame=Frame(16, 16)).ways[0]
            cache = keeper.find(way.kind, keeper.headers()[0][1].depends)
            shown = way.preview(cache.arrays)
            with self.subTest(key):
                self.assertEqual(len(shown.points), len(shown.sizes))
                if key != "caustics":  # nothing here throws any
                    self.assertGreater(note.count, 5)
                    self.assertTrue(np.isfinite(shown.points).all() and (np.abs(shown.points) < 1.5).all())


if __name__ == "__main__":
    unittest.main()
