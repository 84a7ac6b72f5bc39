"""Faults of the worker and the machine: what a worker dies of ends after two attempts, what is behind it goes on, and nothing is left over."""

import io
import json
import os
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path

import numpy as np
from flask import Flask

from sivrel.core.errors import InputError
from sivrel.core.pictures.exr import read_exr
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe
from sivrel.demo.shots import SHOTS
from sivrel.store import database, files, jobs, proofs, requests, shots, tunings
from sivrel.web.app import create_app
from sivrel.work.recovery import MOST_ATTEMPTS, program_started, sweep, worker_died
from sivrel.work.supervisor import Supervisor, ended_how

from .test_worker import WorkerTest, wait_for

POISON_SECONDS = 60.0


class Supervised(WorkerTest):
    def setUp(self):
        super().setUp()
        self.supervisor = Supervisor(self.data)
        self.addCleanup(self.supervisor.stop)

    def kill_when(self, condition, what: str) -> None:
        """Kill the worker, as a crash would, as soon as something holds."""
        wait_for(condition, what)
        process = self.supervisor.process
        os.kill(process.pid, signal.SIGKILL)
        wait_for(lambda: self.supervisor.process is not process, "the next worker")


class Poison(Supervised):
    def test_a_job_that_kills_its_worker_fails_and_the_next_one_is_rendered(self):
        # It prepares for seconds before its first tile: killed then, it has not got on.
        poison = self.queue("keepers-kitchen", gi__seen="photon_map", photon_map__count=5_000_000)
        behind = self.queue(sampling__max=1)
        self.supervisor.start()
        for _ in range(MOST_ATTEMPTS):
            self.kill_when(lambda: jobs.worker(self.db).phase == "making" and jobs.of_proof(self.db, poison).state == "rendering", "the preparation")
        self.assertTrue(self.picture(behind))
        failed = jobs.of_proof(self.db, poison)
        self.assertEqual(failed.state, "failed")
        self.assertRegex(failed.message, r"ended twice \(SIGKILL\) while it was making the photon map\b.*resume it")
        jobs.resume(self.db, poison)  # the user may want it all the same
        wait_for(lambda: jobs.of_proof(self.db, poison).state == "rendering", "another attempt")

    def test_a_question_is_asked_again_once_and_then_has_failed(self):
        self.supervisor.start()
        wait_for(lambda: jobs.worker(self.db).phase == "idle", "the worker")
        shot = shots.find(self.db, "keepers-kitchen")
        body = {"recipe": json.dumps({"version": 1}), "edits": "{}", "camera": None}
        number = requests.ask(self.db, "survey", shot.id, body)

        def taken() -> bool:
            return bool(self.db.execute("SELECT 1 FROM questions WHERE id = ? AND taken AND NOT done", (number,)).fetchone())

        self.kill_when(taken, "the question to be taken")
        wait_for(taken, "the question to be taken again")
        self.assertEqual(requests.answered(self.db, number)[1], "")
        self.kill_when(taken, "the question to be taken again")
        problem = wait_for(lambda: requests.answered(self.db, number)[1], "the failure")
        self.assertIn("ended twice", problem)
        again = requests.ask(self.db, "plan", shot.id, body)
        self.assertIn("plan", wait_for(lambda: requests.answered(self.db, again)[0], "the next answer"))


class Attempts(WorkerTest):
    """What is counted, without the processes."""

    def test_a_job_that_gets_on_is_tried_for_ever(self):
        number = self.queue(sampling__max=4)
        for done in range(1, 6):
            job = jobs.take(self.db)
            jobs.progress(self.db, job.id, done, 1.0, 1.0)
            worker_died(self.db, "SIGKILL")
            self.assertEqual(jobs.of_proof(self.db, number).state, "waiting")
        for state in ("waiting", "failed"):
            jobs.take(self.db)
            worker_died(self.db, "SIGSEGV")
            self.assertEqual(jobs.of_proof(self.db, number).state, state)

    def test_a_tuning_ends_with_its_question(self):
        shot = shots.find(self.db, "slipway")
        proof = proofs.of_shot(self.db, shot.id)[0]
        tuning = tunings.add(self.db, proof.id, "ladder", {})
        question = requests.ask(self.db, "tune", shot.id, {"tuning": tuning})
        tunings.set_question(self.db, tuning, question)
        for _ in range(MOST_ATTEMPTS):
            self.assertEqual(tunings.get(self.db, tuning).question, question)
            requests.take(self.db)
            worker_died(self.db, "SIGSEGV")
        self.assertIsNone(tunings.get(self.db, tuning).question)
        self.assertIn("ended twice", tunings.get(self.db, tuning).problem)

    def test_after_a_restart_no_page_waits_for_an_answer_of_before(self):
        shot = shots.find(self.db, "slipway")
        asked = [requests.ask(self.db, kind, shot.id, {}) for kind in ("survey", "plan", "retest")]
        requests.take(self.db)
        done = requests.ask(self.db, "reach", shot.id, {})
        requests.answer(self.db, done, {"object": None})
        program_started(self.db, self.data)
        result = [requests.answered(self.db, number)[1] for number in (*asked, done)]
        self.assertEqual([bool(problem) for problem in result], [True, True, False, False])
        self.assertEqual(requests.take(self.db)[1], "retest")

    def test_exit_codes_in_words(self):
        self.assertEqual([ended_how(code) for code in (-11, -9, 1, -200)], ["SIGSEGV", "SIGKILL", "exit 1", "signal 200"])


class Orphans(WorkerTest):
    def test_a_worker_ends_with_a_parent_that_dies_at_once(self):
        script = (
            f"import pathlib, sys, time; from sivrel.work.supervisor import Supervisor; s = Supervisor(pathlib.Path({str(self.data)!r})); s.start()\n"
            "while s.process is None: time.sleep(0.001)\n"
            "print(s.process.pid, flush=True); time.sleep(1000)"
        )
        for wait in (0.0, 0.3, 1.0):
            with subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as parent:
                pid = int(parent.stdout.readline())
                time.sleep(wait)
                parent.kill()
            wait_for(lambda pid=pid: not Path(f"/proc/{pid}").exists() or "Z" in Path(f"/proc/{pid}/stat").read_text().split()[2], "its end")
        self.assertEqual(self.workers(), [])


class DamagedTiles(WorkerTest):
    def test_tiles_cut_short_or_altered_are_rendered_anew(self):
        self.start()
        whole = self.picture(self.queue(sampling__max=64))
        number = self.queue(sampling__max=64)
        tiles = files.Tiles(self.data, jobs.of_proof(self.db, number).id)
        wait_for(lambda: len(tiles.order()) >= 4, "four tiles")
        jobs.cancel(self.db, number)
        wait_for(lambda: jobs.of_proof(self.db, number).state == "cancelled", "the cancel")
        first, second, third, fourth = tiles.order()[:4]
        path = tiles.folder / f"{first}.npy"
        path.write_bytes(path.read_bytes()[:1000])
        path = tiles.folder / f"{second}.npy"
        result = bytearray(path.read_bytes())
        result[5000] ^= 1
        path.write_bytes(result)
        (tiles.folder / f"{third}.npy").write_bytes(b"")
        np.save(tiles.folder / f"{fourth}.npy", np.zeros((3, 3, 3), np.float32))
        (tiles.folder / "999999.npy").write_bytes(b"no such tile")
        with self.assertRaises(files.DamagedTile):
            tiles.load(second)
        jobs.resume(self.db, number)
        self.assertEqual(self.picture(number), whole)


class Intake(unittest.TestCase):
    def test_a_first_start_that_is_killed_leaves_shots_whole_or_absent(self):
        import tempfile

        with tempfile.TemporaryDirectory() as folder:
            data = Path(folder) / "data"
            script = (
                "import sys, pathlib; from sivrel.store import database; from sivrel.work.intake import add_demo_shots\n"
                f"data = pathlib.Path({str(data)!r}); db = database.create(data); print('begun', flush=True); add_demo_shots(db, data)"
            )
            counts: dict[str, set[int]] = {}
            for k in range(8):
                with subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, text=True) as process:
                    process.stdout.readline()
                    if k < 7:
                        time.sleep(0.15 * k)
                        process.kill()
                self.count(data, counts)
            for slug, seen in counts.items():
                self.assertLessEqual(len(seen - {0}), 1, f"{slug} had {seen} proofs")
            self.assertEqual(len(counts), len(SHOTS))

    @staticmethod
    def count(data: Path, counts: dict[str, set[int]]) -> None:
        db = database.create(data)
        for shot, number, _ in shots.listed(db):
            counts.setdefault(shot.slug, set()).add(number)
            for proof in proofs.of_shot(db, shot.id):
                assert proof.picture is None or read_exr(files.picture_path(data, proof.picture)).recipe == proof.recipe
        db.close()


class Sweeping(WorkerTest):
    def test_leftovers_go_and_what_is_kept_stays(self):
        cancelled, done = self.queue(sampling__max=2), self.queue(sampling__max=2)
        kept_jobs = {jobs.of_proof(self.db, cancelled).id}
        jobs.cancel(self.db, cancelled)
        self.db.execute("UPDATE jobs SET state = 'done' WHERE proof_id = ?", (done,))
        left = ["pictures/.new-1.exr", "caches/.new-2", "thumbnails/a.new", "filtered/.b.npz", "uploads/.new-ab/a.usda", "jobs/777/1.npy",
                f"jobs/{jobs.of_proof(self.db, done).id}/3.npy", "moments/ab.half"]  # fmt: skip
        kept = ["pictures/aa.exr", "caches/bb.cache", "uploads/cdef/a.usda", *(f"jobs/{number}/0.npy" for number in kept_jobs), "mine.txt"]
        for name in (*left, *kept):
            path = self.data / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(b"x")
        self.assertGreaterEqual(sweep(self.db, self.data), len(left))
        self.assertEqual([name for name in left if (self.data / name).exists()], [])
        self.assertEqual([name for name in kept if not (self.data / name).exists()], [])

    def test_nothing_is_swept_beside_another_worker(self):
        self.start()
        wait_for(lambda: jobs.worker(self.db).phase == "idle", "the worker")
        path = self.data / "caches" / ".new-being-written"
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(b"x")
        asked = requests.ask(self.db, "plan", shots.find(self.db, "slipway").id, {"recipe": "{}", "edits": "{}"})
        program_started(self.db, self.data)
        self.assertTrue(path.exists())
        self.assertNotIn("restarted", requests.answered(self.db, asked)[1])


def fill(ballast: Path) -> None:
    """Write a file until the disk is full."""
    with open(ballast, "wb", buffering=0) as file:
        try:
            while True:
                file.write(b"\0" * 4096)
        except OSError:
            pass


class FullDisk(unittest.TestCase):
    """On a disk of its own, of a few megabytes."""

    def test_a_render_pauses_and_goes_on_by_itself(self):
        import tempfile

        with tempfile.TemporaryDirectory() as folder:
            disk = Path(folder) / "disk"
            disk.mkdir()
            if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=40m", "tmpfs", str(disk)], capture_output=True).returncode:
                self.skipTest("this machine lets nobody mount a small disk")
            try:
                self.fill_and_free(disk)
            finally:
                subprocess.run(["umount", "-l", str(disk)], check=True)

    def fill_and_free(self, disk: Path) -> None:
        data = disk / "data"
        db = database.create(data)
        app = create_app(data)
        app.config["WTF_CSRF_ENABLED"] = False
        self.addCleanup(db.close)
        from sivrel.core.formats.scenes import read_scene
        from sivrel.work.facts import facts_of

        demo = next(demo for demo in SHOTS if demo.name == "slipway")
        shot = shots.add(db, demo.name, demo.title, demo.about, demo.path, **facts_of(read_scene(demo.path)))
        frame = Frame(320, 180)
        number = proofs.add(db, shot.id, None, Recipe(), "landing", frame)
        jobs.add(db, number, len(frame.tiles()))
        whole = proofs.add(db, shot.id, None, Recipe(), "landing", frame)
        worker = subprocess.Popen([sys.executable, "-m", "sivrel.work", str(data)], stderr=subprocess.DEVNULL)
        self.addCleanup(lambda: (worker.kill(), worker.wait()))
        tiles = files.Tiles(data, jobs.of_proof(db, number).id)
        wait_for(lambda: len(tiles.order()) >= 2, "two tiles")
        ballast = disk / "ballast"
        fill(ballast)
        self.pages_while_full(data, app)
        time.sleep(3.0)
        self.assertIsNone(worker.poll(), "the worker ended")
        self.assertEqual(jobs.of_proof(db, number).state, "rendering")
        ballast.unlink()
        picture = wait_for(lambda: proofs.get(db, number).picture, "the picture")
        jobs.add(db, whole, len(frame.tiles()))
        self.assertEqual(wait_for(lambda: proofs.get(db, whole).picture, "the same without a full disk"), picture)
        self.assertEqual(list((data / "pictures").glob(".*")), [])

    def pages_while_full(self, data: Path, app: Flask) -> None:
        """What cannot be kept is refused in a sentence and leaves nothing behind; what there is can be looked at."""
        client = app.test_client()
        for name in ("a.usda", "a.png"):
            form = {"files": (io.BytesIO(b"x" * (1 << 20)), name)}
            answer = client.post("/shots", data=form, content_type="multipart/form-data")
            self.assertEqual(answer.status_code, 507)
            self.assertIn("The disk is full, so nothing was saved", answer.text)
        self.assertEqual(list((data / "uploads").glob("*")), [])
        self.assertEqual([client.get(path).status_code for path in ("/", "/shots/slipway", "/caches", "/recipes")], [200] * 4)
        self.assertTrue(client.get("/status.json").json["full"])


class Folder(unittest.TestCase):
    """What is wrong with a data folder is said in one sentence."""

    def folder(self) -> Path:
        import tempfile

        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        return Path(made.name)

    def test_a_newer_a_damaged_and_a_missing_database(self):
        data = self.folder()
        database.create(data).execute("PRAGMA user_version = 999")
        with self.assertRaisesRegex(InputError, "newer Sivrel"):
            database.connect(data)
        data = self.folder()
        (data / database.FILE).write_bytes(b"This is no database. " * 1000)
        with self.assertRaisesRegex(InputError, "damaged"):
            database.create(data)
        with self.assertRaisesRegex(InputError, "is missing"):
            database.connect(self.folder() / "nowhere")

    def test_pages_of_a_database_that_are_overwritten(self):
        data = self.folder()
        db = database.create(data)
        for k in range(200):
            db.execute("INSERT INTO recipes (digest, body) VALUES (?, ?)", (str(k), "x" * 4000))
        db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        db.close()
        path = data / database.FILE
        result = bytearray(path.read_bytes())
        result[4096 * 20 : 4096 * 60] = b"\xa5" * (4096 * 40)
        path.write_bytes(result)
        with self.assertRaisesRegex(InputError, "damaged"):
            database.create(data)

    def test_a_transaction_that_fails_leaves_nothing_open(self):
        db = database.create(self.folder())
        with self.assertRaises(ValueError), database.transaction(db):
            db.execute("INSERT INTO recipes (digest, body) VALUES ('a', 'b')")
            raise ValueError
        with database.transaction(db):
            self.assertEqual(db.execute("SELECT count(*) FROM recipes").fetchone()[0], 0)


if __name__ == "__main__":
    unittest.main()
