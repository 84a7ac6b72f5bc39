"""The caches page over a real store and a real worker: what is listed, marked, exported, refused, stale and why, and drawn."""

import io
import shutil
import time

from sivrel.core.caches import CacheFolder
from sivrel.store import jobs, proofs, requests, shots
from tests.web.test_lights import WithWorker

PHOTONS = {
    "gi.seen": "photon_map",
    "photon_map.count": "2000",
    "photon_map.final_gather_rays": "0",
    "sampling.max": "1",
    "width": "48",
    "height": "27",
}


class Caches(WithWorker):
    def setUp(self):
        super().setUp()
        shutil.rmtree(self.data / "caches", ignore_errors=True)
        self.worker.caches.held.clear()

    def proven(self, **fields) -> proofs.Proof:
        self.assertEqual(self.prove(**{**PHOTONS, **fields}).status_code, 200)
        proof = self.newest()
        self.worker._render(jobs.take(self.worker.db))
        return proofs.get(self.db, proof.id)

    def answer(self, address: str, **fields) -> dict:
        number = self.client.post(address, data={"csrf_token": self.token(), **fields}, headers={"HX-Request": "true"}).json["question"]
        for _ in range(4000):
            result, problem = requests.answered(self.db, number)
            self.assertEqual(problem, "")
            if result is not None:
                return result
            time.sleep(0.1)
        raise AssertionError("no answer came")

    def page(self) -> str:
        return self.client.get("/caches").text

    def form(self, **fields) -> dict:
        return {**PHOTONS, "camera": shots.find(self.db, "slipway").cameras[0]["name"], "seed": "0", "edits": "{}", **fields}

    def test_from_a_first_proof_to_a_stale_cache(self):
        self.assertIn("There are no caches yet", self.page())
        before = self.answer("/shots/slipway/ways", **self.form())["ways"]
        self.assertEqual([(row["way"], row["ready"], row["seconds"]) for row in before], [("photon_map", False, None)])
        first = self.proven()
        note = first.meters["ways"][0]
        self.assertTrue(note["made"])
        self.assertGreater(note["check"]["spots"], 10)
        result = self.client.get(f"/proofs/{first.id}.json").json
        self.assertIn("Photon map: ", " ".join(result["meters"]))
        self.assertIn("Against brute force", " ".join(result["meters"]))
        self.assertIn("served", result["passes"])
        page = self.page()
        self.assertIn("photon map", page)
        self.assertIn(f"proof={first.id}", page)
        ready = self.answer("/shots/slipway/ways", **self.form())["ways"][0]
        self.assertEqual((ready["ready"], ready["count"]), (True, note["count"]))
        fresh = self.answer("/shots/slipway/caches")["caches"][note["digest"]]
        self.assertEqual((fresh["fresh"], fresh["because"]), (True, ""))
        # Another camera uses it again; a light that is changed makes it stale, and is named.
        other = shots.find(self.db, "slipway").cameras[1]["name"]
        self.assertFalse(self.proven(camera=other).meters["ways"][0]["made"])
        stale = self.answer("/shots/slipway/ways", **self.form(edits='{"light.NoonSun.exposure": 1}'))["ways"][0]
        self.assertEqual((stale["ready"], stale["because"]), (False, "light NoonSun"))
        self.proven(edits='{"light.NoonSun.exposure": 1}')
        state = self.answer("/shots/slipway/caches")["caches"][note["digest"]]
        self.assertEqual((state["fresh"], state["because"]), (False, "light NoonSun"))
        shown = self.answer(f"/proofs/{first.id}/preview", digest=note["digest"])
        self.assertEqual(shown["shape"], "dots")
        self.assertGreater(len(shown["marks"]), 20)
        self.assertTrue(all(-1 <= x <= 49 and -1 <= y <= 28 for x, y, *_ in shown["marks"]))
        self.assertEqual(self.client.post(f"/proofs/{first.id}/preview", data={"csrf_token": self.token(), "digest": "0" * 32}).status_code, 404)

    def test_keep_lock_export_import_delete_and_take_back(self):
        note = self.proven().meters["ways"][0]
        digest, folder = note["digest"], CacheFolder(self.data / "caches")

        def act(address: str, **more):
            return self.client.post(f"/caches/{digest}/{address}", data={"csrf_token": self.token(), **more})

        for mark in ("kept", "locked"):
            act(mark)
            self.assertTrue(folder.marked(digest, mark))
        self.assertEqual(act("delete").status_code, 422)
        act("locked?off=")
        self.assertFalse(folder.marked(digest, "locked"))
        exported = self.client.get(f"/caches/{digest}.cache")
        self.assertEqual(exported.status_code, 200)
        act("delete")
        self.assertEqual(folder.headers(), [])
        self.client.post("/caches/undelete", data={"csrf_token": self.token()})
        self.assertEqual([path.stem for path, _ in folder.headers()], [digest])
        act("delete")
        for data, status, part in ((exported.data, 302, ""), (exported.data[:-9], 422, "is damaged"), (b"no", 422, "not a cache of this program")):
            answer = self.client.post("/caches", data={"csrf_token": self.token(), "file": (io.BytesIO(data), "x.cache")})
            self.assertEqual(answer.status_code, status)
            self.assertIn(part, answer.text)
        self.assertEqual([path.stem for path, _ in folder.headers()], [digest])
