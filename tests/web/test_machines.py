"""The page of machines: limits of this machine, helpers, and the times that count them."""

import dataclasses
import threading
import time
from unittest import mock

from sivrel.core import machine
from sivrel.core.machine import Limits
from sivrel.store import jobs, machines, proofs
from sivrel.work.helpers import Helpers
from sivrel.work.worker import Worker
from tests.web.test_lights import WithWorker
from tests.web.test_web import WebTest

ONE = machines.Helper("tls://render1:40000", "render1", 24, False, "", "renders tiles", 1234, 2, 1.31, 5 << 30, 64 << 30, 0.97)
OLD = dataclasses.replace(ONE, address="tls://render2:40000", name="render2", threads=8, problem="runs another version of Sivrel")


class Page(WebTest):
    def tearDown(self):
        machines.set_limits(self.db, None)
        machines.set_elsewhere(self.db, "", "")

    def set(self, **fields):
        return self.client.post("/machines", data={"csrf_token": self.token(), **fields})

    def test_limits_are_set_and_taken_back(self):
        self.assertEqual(machines.limits(self.db), machine.of_environment())
        self.assertEqual(self.set(threads="3", memory="6.5", nice="12").status_code, 302)
        self.assertEqual(machines.limits(self.db), Limits(3, 6.5, 12))
        page = self.client.get("/machines").text
        for words in ('value="3"', 'value="6.5"', 'value="12"', "As it was started"):
            self.assertIn(words, page)
        self.client.post("/machines?reset=1", data={"csrf_token": self.token()})
        self.assertFalse(machines.are_set(self.db))
        self.assertNotIn("As it was started", self.client.get("/machines").text)

    def test_what_can_not_be_used_is_a_sentence_and_nothing_changes(self):
        wrong = {"threads": ("0x2", "-1", "2000", "1.5"), "memory": ("0.1", "nan", "much", "1e9"), "nice": ("20", "-5")}
        for name, values in wrong.items():
            for value in values:
                answer = self.set(**{name: value})
                self.assertEqual(answer.status_code, 422, (name, value))
                self.assertRegex(answer.text, "can&#39;t be used; give|must be numbers")
        self.assertFalse(machines.are_set(self.db))

    def test_says_where_things_run(self):
        alone = self.client.get("/machines").text
        self.assertIn("Everything is rendered on this machine", alone)
        self.assertIn("sivrel serve --scheduler", alone)
        self.assertEqual(self.client.get("/status.json").json["helpers"], 0)
        machines.set_elsewhere(self.db, "tls://render0:8786", "", [OLD, ONE])
        part = self.client.get("/machines/helpers").text
        for words in ("1 helper of", "24 threads in all", "renders tiles", "97 %", "× 1.31", "1 234", "not used: it runs another version of Sivrel"):
            self.assertIn(words, part)
        self.assertLess(part.index("render1"), part.index("render2"), "those that are used come first")
        self.assertEqual(self.client.get("/status.json").json["helpers"], 1)
        machines.set_elsewhere(self.db, "tls://render0:8786", "The scheduler tls://render0:8786 has gone.")
        gone = self.client.get("/machines").text
        self.assertIn("has gone.", gone)
        self.assertIn("Start one with <code>sivrel helper tls://render0:8786</code>", gone)

    def test_the_queue_counts_the_helpers(self):
        self.prove()
        job = jobs.queue(self.db)[-1][0]
        self.db.execute("UPDATE jobs SET guess = 240.0, guess_threads = 2 WHERE id = ?", (job.id,))
        machines.set_elsewhere(self.db, "tls://render0:8786", "", [ONE])
        self.assertIn("about 20 s", self.client.get("/queue").text)
        self.assertIn("The queue takes about 20 s on them", self.client.get("/machines/helpers").text)
        machines.set_limits(self.db, Limits(threads=1))
        machines.set_elsewhere(self.db, "", "")
        self.assertIn("about 8 min", self.client.get("/queue").text)
        jobs.cancel(self.db, job.proof_id)


class Timing(WithWorker):
    def test_a_proof_says_what_it_took_and_forecasts_follow_the_threads(self):
        self.prove(**{"sampling.max": "4"})
        self.worker._render(jobs.take(self.worker.db))
        proof = self.newest()
        spent = proof.meters["spent"]
        self.assertEqual((spent["where"], spent["threads"]), ("this machine", machine.threads()))
        self.assertGreater(spent["processor"], 0.0)
        self.assertIn("of all processors, on", " ".join(self.client.get(f"/proofs/{proof.id}.json").json["meters"]))
        before = [one.seconds for one in proofs.timed(self.db, proof.shot_id)]
        machines.set_elsewhere(self.db, "tls://render0:8786", "", [ONE])
        after = [one.seconds for one in proofs.timed(self.db, proof.shot_id)]
        machines.set_elsewhere(self.db, "", "")
        for one, other in zip(before, after, strict=True):
            self.assertAlmostEqual(other / one, machine.threads() / ONE.threads)

    def test_the_worker_ends_when_limits_change_and_the_job_is_kept(self):
        with mock.patch("sivrel.work.worker.Worker._compile_rest"):  # for other tests
            self.worker.ending.set()
            worker = Worker(self.data)
            self.prove(**{"sampling.max": "4000"})
            ended = threading.Thread(target=worker.run, daemon=True)
            ended.start()
            for _ in range(600):
                if jobs.counts(self.db)[0]:
                    break
                time.sleep(0.1)
            machines.set_limits(self.db, Limits(threads=1))
            ended.join(60.0)
            self.assertFalse(ended.is_alive())
            worker.ending.set()
        self.assertEqual(jobs.counts(self.db)[:2], (0, 1), "it waits for the next worker")
        machines.set_limits(self.db, None)

    def test_a_scheduler_that_is_not_there_is_said(self):
        with mock.patch.dict("os.environ", {"SIVREL_SCHEDULER": "tcp://127.0.0.1:9"}):
            helpers = Helpers(self.data, ending := threading.Event())
            helpers.start()
            for _ in range(100):
                if "There is no scheduler" in machines.elsewhere(self.db).says:
                    break
                time.sleep(0.1)
            ending.set()
        self.assertIn("There is no scheduler at tcp://127.0.0.1:9", self.client.get("/machines").text)
        self.assertIsNone(helpers.elsewhere)
        machines.set_elsewhere(self.db, "", "")
