"""Findings over HTTP: kept, dismissed, proven as children, reported; and pictures from elsewhere."""

import io
import unittest

import numpy as np
from PIL import Image

from sivrel.core.render.recipe import Recipe
from sivrel.store import files, findings, jobs, proofs, shots
from tests.web.test_web import WebTest

FINDING = {
    "kind": "grain",
    "about": "Lamp",
    "key": "grain:Lamp",
    "title": "Grain over half of the picture.",
    "why": "Lamp brings most of it.",
    "box": [0, 0, 24, 18],
    "share": 0.5,
    "seen": 6.0,
    "threshold": 3.0,
    "measure": "noise",
    "amount": 0.06,
    "where": "in the middle",
    "contrast": 0.06,
    "size": 1.0,
    "sign": 1,
    "weak": False,
    "evidence": {},
    "suspects": [],
    "trials": [],
    "cause": "the soft shadow of Lamp",
    "cause_key": "source Lamp",
    "confidence": 0.95,
    "remedies": [
        {
            "words": "Take 64 samples a pixel.",
            "values": {"sampling.max": 64},
            "edits": {},
            "amount": 0.03,
            "amount_error": 0.003,
            "seen": 3.0,
            "seconds": 4.0,
            "basis": "law",
            "costs": "",
        },
        {
            "words": "Or filter it (N).",
            "values": {},
            "edits": {},
            "amount": None,
            "amount_error": None,
            "seen": None,
            "seconds": None,
            "basis": "outside",
            "costs": "",
        },
    ],
    "settles": [],
    "note": "",
    "path": [],
    "fed": None,
    "mask": {"rows": 3, "columns": 4, "edges": [0, 5]},
    "pictures": {},
}
OUTCOME = {"findings": [FINDING], "withdrawn": [], "complete": True, "seconds": {}, "first": 0.3}


class FindingsTest(WebTest):
    def post(self, address: str, **form):
        return self.client.post(address, data={"csrf_token": self.token(), **form})

    def proven(self) -> int:
        """A finished proof of the slipway, with the picture of one that ships with it."""
        self.shot = shots.find(self.db, "slipway")
        like = proofs.get(self.db, proofs.finished(self.db, self.shot.id)[0])
        number = proofs.add(self.db, self.shot.id, like.id, Recipe(), like.camera, like.frame)
        proofs.finish(self.db, number, like.picture, 2.0, 0.1, 0.3, 0)
        return number


class Findings(FindingsTest):
    def setUp(self):
        super().setUp()
        self.proof = self.proven()
        findings.keep(self.db, self.proof, OUTCOME)

    def listed(self):
        return self.client.get(f"/proofs/{self.proof}/findings.json").json

    def test_findings_come_with_their_numbers(self):
        outcome = self.listed()
        self.assertTrue(outcome["diagnosed"])
        self.assertEqual([f["title"] for f in outcome["findings"]], [FINDING["title"]])
        number = outcome["findings"][0]["id"]
        findings.keep(self.db, self.proof, OUTCOME)  # found again: the same number
        self.assertEqual(self.listed()["findings"][0]["id"], number)
        findings.keep(self.db, self.proof, {**OUTCOME, "findings": []})
        self.assertEqual(self.listed()["findings"], [])

    def test_dismissed_with_a_reason_in_the_whole_shot(self):
        number = self.listed()["findings"][0]["id"]
        self.post(f"/findings/{number}/dismiss", reason="wanted grain")
        other = self.proven()
        findings.keep(self.db, other, OUTCOME)
        outcome = self.client.get(f"/proofs/{other}/findings.json").json
        self.assertEqual(outcome["findings"][0]["dismissed"], "wanted grain")
        self.post(f"/findings/{number}/dismiss", reason="")
        self.assertEqual(self.listed()["findings"][0]["dismissed"], "")

    def test_a_remedy_is_proven_as_a_child(self):
        number = self.listed()["findings"][0]["id"]
        child = self.post(f"/findings/{number}/prove", remedy=0).json["proof"]
        made = proofs.get(self.db, child)
        self.assertEqual((made.parent_id, made.recipe.sampling.max, made.note), (self.proof, 64, "Take 64 samples a pixel."))
        self.assertIsNotNone(jobs.of_proof(self.db, child))
        waits = findings.retests_of_proof(self.db, child)
        self.assertEqual(waits[0].remedy["amount"], 0.03)
        self.assertIsNone(self.listed()["findings"][0]["retests"][0]["result"])
        for wrong in (1, 7):
            self.assertEqual(self.post(f"/findings/{number}/prove", remedy=wrong).status_code, 422)

    def test_a_remedy_is_proven_only_about_its_finding(self):
        found = self.listed()["findings"][0]
        child = self.post(f"/findings/{found['id']}/prove", remedy=0, region="yes").json["proof"]
        whole, frame = proofs.get(self.db, self.proof).frame, proofs.get(self.db, child).frame
        x0, y0, x1, y1 = frame.window
        self.assertEqual((frame.width, frame.height), (whole.width, whole.height))
        left, top, right, bottom = FINDING["box"]
        self.assertTrue(x0 <= left < right <= x1 and y0 <= top < bottom <= y1, (frame.window, FINDING["box"]))
        self.assertAlmostEqual(found["share_of_region"], (x1 - x0) * (y1 - y0) / (whole.width * whole.height), places=3)

    def test_the_report_has_all_of_it(self):
        number = self.listed()["findings"][0]["id"]
        child = self.post(f"/findings/{number}/prove", remedy=0).json["proof"]
        result = {
            "verdict": "smaller",
            "before": 0.06,
            "after": 0.031,
            "error": 0.001,
            "seen": 3.1,
            "predicted": 0.03,
            "seconds": 4.4,
            "predicted_seconds": 4.0,
            "said": "It is 48 % smaller.",
        }
        findings.keep_result(self.db, findings.retests_of_proof(self.db, child)[0].id, result)
        page = self.client.get(f"/proofs/{self.proof}/report").text
        for text in (FINDING["title"], "the soft shadow of Lamp", "Take 64 samples", "48 % smaller", "of which 1 helped", "9.1 % in the middle"):
            self.assertIn(text, page)
        table = self.client.get(f"/shots/{self.shot.slug}/predictions.csv").text.splitlines()
        self.assertEqual(len(table), 2)
        self.assertIn("smaller,0.06,0.03,0.031,4,4.4", table[1])

    def test_the_report_shows_the_picture_that_was_judged(self):
        path = files.filtered_path(self.data, proofs.get(self.db, self.proof).picture)
        path.parent.mkdir(exist_ok=True)
        path.touch()
        self.addCleanup(path.unlink)
        for filtered in (False, True):
            findings.keep(self.db, self.proof, {**OUTCOME, "filtered": filtered})
            self.assertEqual("pass=filtered" in self.client.get(f"/proofs/{self.proof}/report").text, filtered)

    def test_bad_input_is_refused_in_a_sentence(self):
        self.assertEqual(self.post(f"/proofs/{self.proof}/diagnose", seconds=1).status_code, 422)
        self.assertEqual(self.client.get("/trials/..%2f..%2fsecret.png").status_code, 404)
        self.assertEqual(self.client.get(f"/trials/{'0' * 64}.png").status_code, 404)
        self.assertEqual(self.post("/findings/999/prove", remedy=0).status_code, 404)


class Outside(FindingsTest):
    def png(self, seed: int, size=(96, 54)) -> io.BytesIO:
        rng = np.random.default_rng(seed)
        data = io.BytesIO()
        Image.fromarray((120 + rng.normal(0, 25, (size[1], size[0], 3))).clip(0, 255).astype(np.uint8)).save(data, "PNG")
        data.seek(0)
        return data

    def judge(self, *files, **fields):
        return self.client.post("/shots", data={"csrf_token": self.token(), **fields, "files": list(files)}, content_type="multipart/form-data")

    def test_pictures_become_a_shot_with_a_lineage(self):
        answer = self.judge((self.png(1), "before.png"), (self.png(2), "after.png"), seconds="12.5", notes="clamp off")
        self.assertEqual(answer.status_code, 302)
        shot = shots.find(self.db, "before")
        self.assertTrue(shot.outside)
        first, second = proofs.of_shot(self.db, shot.id)
        self.assertEqual((first.name, second.name, second.parent_id, second.seconds, second.note), ("before", "after", first.id, 12.5, "clamp off"))
        page = self.client.get("/shots/before").text
        self.assertIn("data-outside", page)
        difference = self.client.get(f"/pictures/{first.picture}/{second.picture}/difference.json").json
        self.assertIn("verdict", difference)
        more = self.client.post(
            "/shots/before/pictures", data={"csrf_token": self.token(), "files": [(self.png(3), "third.png")]}, content_type="multipart/form-data"
        )
        self.assertEqual(more.status_code, 302)
        self.assertEqual(len(proofs.of_shot(self.db, shot.id)), 3)

    def test_there_is_nothing_to_render(self):
        self.judge((self.png(1), "still.png"))
        proof = proofs.of_shot(self.db, shots.find(self.db, "still").id)[0]
        for address in ("/shots/still/prove", "/shots/still/survey", "/shots/still/section"):
            self.assertEqual(self.post(address, camera="picture", width=96, height=54, seed=0).status_code, 422, address)
        self.assertEqual(self.client.get("/shots/still/survey").status_code, 422)
        self.assertEqual(self.client.get(f"/proofs/{proof.id}.json").status_code, 200)

    def test_what_is_no_picture_is_refused_and_nothing_is_kept(self):
        before = len(shots.listed(self.db))
        broken = self.judge((io.BytesIO(b"not a picture"), "broken.png"))
        self.assertEqual(broken.status_code, 422)
        self.assertIn("broken.png", broken.text)
        small = self.judge((self.png(1, (8, 8)), "tiny.png"))
        self.assertIn("16 pixels", small.text)
        self.assertEqual(self.judge((self.png(1), "good.png"), (io.BytesIO(b"\x76\x2f\x31\x01junk"), "bad.exr")).status_code, 422)
        self.assertEqual(len(shots.listed(self.db)), before)


del WebTest, FindingsTest


if __name__ == "__main__":
    unittest.main()
