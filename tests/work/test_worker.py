"""The worker as a real process: killed in the middle, it loses nothing but the tiles in flight."""

import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

import numpy as np

from sivrel.core.edits.edits import Edits
from sivrel.core.edits.edits import to_json as edits_to_json
from sivrel.core.pictures.exr import read_exr
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, to_json, with_values
from sivrel.demo.shots import SHOTS
from sivrel.store import database, files, jobs, moments, proofs, sequences, shots
from sivrel.work.intake import add_demo_shots, add_shot_at, check_upload_names, slug_of
from sivrel.work.supervisor import Supervisor
from tests import demo_data
from tests.moving import write_usda

PATIENCE = 400.0
THREADS = """
import sys, threading
def loaded(event, about):
    if event == "import" and about[0] == "pxr.Tf._tf":
        print("loaded by", threading.active_count(), "thread", flush=True)
sys.addaudithook(loaded)
"""
"""Says how many threads there are when the USD library is loaded."""
SERVER = "from pathlib import Path; from sivrel.web.server import run; run('127.0.0.1', 0, Path({data!r}), False)"


def wait_for(condition, what: str):
    end = time.monotonic() + PATIENCE
    while time.monotonic() < end:
        got = condition()
        if got:
            return got
        time.sleep(0.02)
    raise AssertionError(f"waited in vain for {what}")


class WorkerTest(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.data = Path(folder.name)
        demo_data.fill(self.data)
        self.db = database.connect(self.data)
        self.addCleanup(self.db.close)

    def start(self) -> subprocess.Popen:
        worker = subprocess.Popen([sys.executable, "-m", "sivrel.work", str(self.data)], stderr=subprocess.DEVNULL)
        self.addCleanup(lambda: (worker.kill(), worker.wait()))
        return worker

    def queue(self, slug="slipway", **values) -> int:
        recipe = with_values(Recipe(), {k.replace("__", "."): v for k, v in values.items()})
        frame = Frame(240, 135)
        shot = shots.find(self.db, slug)
        number = proofs.add(self.db, shot.id, None, recipe, shot.cameras[0]["name"], frame)
        jobs.add(self.db, number, len(frame.tiles()))
        return number

    def workers(self) -> list[int]:
        found = subprocess.run(["pgrep", "-f", f"sivrel.work {self.data}"], capture_output=True, text=True)
        return [int(pid) for pid in found.stdout.split()]

    def picture(self, number: int) -> str:
        return wait_for(lambda: proofs.get(self.db, number).picture, "the picture")


class Looks(WorkerTest):
    def test_there_is_a_picture_before_the_caches_are_made(self):
        self.start()
        number = self.queue(gi__seen="irradiance_cache", caustics__on="yes", caustics__count=400_000, sampling__max=2)
        tiles = files.Tiles(self.data, jobs.of_proof(self.db, number).id)
        wait_for(tiles.sketch.is_file, "the first look")
        self.assertEqual(jobs.of_proof(self.db, number).tiles_done, 0)
        self.assertNotEqual(jobs.worker(self.db).phase, "rendering")
        first = tiles.sketch.read_bytes()
        wait_for(lambda: jobs.worker(self.db).phase == "making", "caches")
        self.picture(number)
        self.assertGreater(np.frombuffer(first, np.float16).astype(float).max(), 0.01)

    def test_a_live_preview_does_not_wait_for_the_caches_of_a_render(self):
        self.start()
        number = self.queue(gi__seen="photon_map", photon_map__count=2_000_000, sampling__max=2)
        wait_for(lambda: jobs.worker(self.db).phase == "making", "caches")
        shot = shots.find(self.db, "slipway")
        body = {"recipe": to_json(Recipe()), "edits": edits_to_json(Edits()), "camera": None, "width": 96, "height": 54, "region": None, "seed": 1}
        for page in ("first", "second"):
            moments.ask(self.db, page, shot.id, body)
            wait_for(files.moment_path(self.data, page).is_file, "the preview")
            self.assertEqual(jobs.worker(self.db).phase, "making")
        jobs.cancel(self.db, number)
        wait_for(lambda: jobs.of_proof(self.db, number).state == "cancelled", "the cancel")
        self.picture(self.queue(gi__seen="photon_map", photon_map__count=20_000, sampling__max=1))


class Libraries(WorkerTest):
    def test_the_usd_library_is_loaded_before_any_thread_can_load_another(self):
        """Else both wait for each other for ever, now and then: see `scenes.load_usd`."""
        for program in (f"from sivrel.work.worker import main; main({str(self.data)!r})", SERVER.format(data=str(self.data))):
            running = subprocess.Popen([sys.executable, "-c", THREADS + program], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
            self.addCleanup(lambda running=running: (running.terminate(), running.communicate()))
            self.assertEqual(running.stdout.readline(), "loaded by 1 thread\n")


class Killed(WorkerTest):
    def test_goes_on_from_its_tiles_and_ends_with_the_same_bytes(self):
        self.start()
        whole = self.picture(self.queue(sampling__max=64))
        number = self.queue(sampling__max=64)
        job = jobs.of_proof(self.db, number)
        tiles = files.Tiles(self.data, job.id)
        wait_for(lambda: len(tiles.order()) >= 3, "three tiles")
        for pid in self.workers():
            os.kill(pid, signal.SIGKILL)
        had = len(tiles.order())
        self.assertLess(had, job.tiles_total, "it was done before it could be killed")
        kept = {f.name: f.stat().st_mtime_ns for f in tiles.folder.glob("[0-9]*.npy")}
        self.start()
        wait_for(lambda: len(tiles.order()) > had, "another tile")
        for name, at in kept.items():
            if (tiles.folder / name).exists():
                self.assertEqual((tiles.folder / name).stat().st_mtime_ns, at, "a finished tile was rendered again")
        self.assertEqual(self.picture(number), whole)
        wait_for(lambda: not tiles.folder.exists(), "the tiles to go")

    def test_a_sequence_killed_three_times_has_the_same_bytes_and_its_flicker(self):
        shot = add_shot_at(self.db, write_usda(self.data / "walk.usda", frames=4))
        recipe = with_values(Recipe(), {"sampling.max": 96, "motion.blur": "on"})
        whole, killed = (
            sequences.add(self.db, shot.id, recipe, Edits(), "Eye", Frame(96, 54), (1.0, 2.0, 3.0), 24.0, name=name) for name in ("whole", "killed")
        )

        def pictures(number: int) -> list[str | None]:
            return [proof.picture for proof in sequences.frames_of(self.db, number)]

        for done in range(3):
            self.start()
            wait_for(lambda done=done: sum(map(bool, pictures(whole) + pictures(killed))) > 2 * done, "a frame")
            for pid in self.workers():
                os.kill(pid, signal.SIGKILL)
        self.start()
        wait_for(lambda: all(pictures(whole) + pictures(killed)), "all frames")
        self.assertEqual(pictures(whole), pictures(killed))
        self.assertEqual(len(set(pictures(whole))), 3)
        wait_for(lambda: sequences.flickers(self.db, killed, False), "the flicker of the frame in the middle")

    def test_a_render_with_a_time_goes_on_from_its_rounds_and_ends_evenly(self):
        self.start()
        number = self.queue(sampling__seconds=3)
        tiles = files.Tiles(self.data, jobs.of_proof(self.db, number).id)
        count = jobs.of_proof(self.db, number).tiles_total
        wait_for(lambda: len(tiles.order()) > count + 2, "the second round")
        self.assertLess(jobs.of_proof(self.db, number).tiles_done, count, "what is done is the time, not the round")
        for pid in self.workers():
            os.kill(pid, signal.SIGKILL)
        self.start()
        samples = read_exr(files.picture_path(self.data, self.picture(number))).passes["samples"]
        self.assertEqual(samples.min(), samples.max())
        self.assertGreater(samples.min(), 1.0)
        self.assertAlmostEqual(proofs.get(self.db, number).meters["samples"], float(samples.min()))

    def test_tiles_of_an_older_version_are_rendered_anew(self):
        number = self.queue(sampling__max=2)
        tiles = files.Tiles(self.data, jobs.of_proof(self.db, number).id)
        tiles.add(0, np.zeros((32, 32, 7), np.float32))
        self.start()
        self.assertEqual(self.picture(number), self.picture(self.queue(sampling__max=2)))

    def test_the_supervisor_starts_it_again(self):
        supervisor = Supervisor(self.data)
        supervisor.start()
        self.addCleanup(supervisor.stop)
        first = wait_for(lambda: supervisor.process, "the first worker").pid
        os.kill(first, signal.SIGKILL)
        wait_for(lambda: supervisor.process.pid != first and supervisor.process.poll() is None, "the second worker")


class Ends(WorkerTest):
    def test_cancel_stops_at_once_and_keeps_what_is_done(self):
        self.start()
        number = self.queue(sampling__max=4096)
        job = jobs.of_proof(self.db, number)
        tiles = files.Tiles(self.data, job.id)
        wait_for(lambda: jobs.of_proof(self.db, number).state == "rendering", "the render")
        jobs.cancel(self.db, number)
        wait_for(lambda: jobs.of_proof(self.db, number).state == "cancelled", "the cancel")
        self.assertLess(len(tiles.order()), job.tiles_total)
        quick = self.queue(sampling__max=1)
        self.assertTrue(self.picture(quick))

    def test_a_scene_that_is_gone_fails_in_a_sentence(self):
        shot = shots.add(self.db, "gone", "Gone", "", self.data / "gone.usda", [{"name": "c", "exposure": 0}], 0, [])
        number = proofs.add(self.db, shot.id, None, Recipe(), "c", Frame(8, 8))
        jobs.add(self.db, number, 1)
        self.start()
        job = wait_for(lambda: (j := jobs.of_proof(self.db, number)).state == "failed" and j, "the failure")
        self.assertIn("gone.usda", job.message)


class Intake(WorkerTest):
    def test_demo_shots_come_with_their_proofs(self):
        for demo in SHOTS:
            shot = shots.find(self.db, demo.name)
            shipped = proofs.of_shot(self.db, shot.id)
            self.assertGreaterEqual(len(shipped), 5)
            self.assertEqual(sum(p.parent_id is None for p in shipped), 1)
            for proof in shipped:
                self.assertEqual(read_exr(files.picture_path(self.data, proof.picture)).recipe, proof.recipe)
                self.assertTrue(files.thumbnail_path(self.data, proof.picture).is_file())
                self.assertTrue(proof.made_on)
            self.assertEqual(shot.notes, [])
            self.assertGreater(shot.triangles, 30_000)
        before = len(proofs.of_shot(self.db, shot.id))
        add_demo_shots(self.db, self.data)
        self.assertEqual(len(proofs.of_shot(self.db, shot.id)), before)

    def test_names(self):
        self.assertEqual(slug_of("My Scène (final)!"), "my-sc-ne-final")
        self.assertEqual(check_upload_names(["a.png", "b.USDC"]), "b.USDC")


if __name__ == "__main__":
    unittest.main()
