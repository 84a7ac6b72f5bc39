"""Ladder, budget, match and advice over HTTP: asked, refused in a sentence, shown, taken away, and proven with what they predicted."""

import re
import unittest

from sivrel.core.render.recipe import Recipe
from sivrel.store import jobs, proofs, requests, shots, tunings
from tests.web.test_web import WebTest

ERROR = {"noise": 0.05, "bias": 0.03, "bias_error": 0.002, "total": 0.06, "light": 0.98}
RUNG = {
    "seconds": 1.0,
    "prepares": 0.0,
    "frame_seconds": 16.0,
    "samples": 8.0,
    "error": ERROR,
    "seen": {"next": 0.2, "last": 0.2, "reference": 0.3},
    "flip": {},
    "enough": False,
    "skipped": "",
    "picture": None,
}
LADDER = {
    "varied": [{"key": "sampling.max", "values": [8, 16, 32], "name": "samples", "unit": ""}],
    "region": [0, 0, 64, 36],
    "per_degree": 67.0,
    "rungs": [
        {**RUNG, "values": {"sampling.max": 8}},
        {**RUNG, "values": {"sampling.max": 16}, "frame_seconds": 30.0, "seen": {"next": 0.0, "last": 0.0}, "enough": True},
        {**RUNG, "values": {"sampling.max": 32}, "error": None, "skipped": "would take about 60 s, and 9 s were left"},
    ],
    "fits": {"seconds": {"floor": 2.0, "scale": 1.75, "power": 1.0, "spread": 0.1}},
    "reference_error": 0.01,
    "reference_seconds": 4.0,
    "take": {"sampling.max": 16},
    "says": "Samples from 16 on: no visible difference.",
    "complete": True,
}
PLAN = {
    "name": "even raise",
    "does": "more samples",
    "values": {"sampling.max": 90, "sampling.stop": "gain"},
    "edits": {},
    "seconds": 39.0,
    "noise": 0.05,
    "samples": 90.0,
    "preparing": 0.0,
}
BUDGET = {
    "size": [64, 36],
    "seconds": 40.0,
    "noise": None,
    "pixels": 512,
    "sources": [{"name": "Sky", "key": "light.Sky.shadows.rays", "now": 1, "noise": 0.4, "time": 0.1}],
    "plans": [PLAN, {**PLAN, "name": "split", "edits": {"light.Sky.shadows.rays": 3}, "seconds": 41.0, "noise": 0.03}],
    "chosen": 1,
    "gain": 2.5,
    "check": {"seconds": 42.0, "noise": 0.031, "predicted_seconds": 41.0, "predicted_noise": 0.03, "seconds_off": -0.02, "noise_off": -0.03},
    "why": ["Sky makes 40 % of the noise."],
    "says": "Rays for what is grainy.",
    "complete": True,
}
ENTRANT = {
    "name": "brute_force",
    "title": "brute force",
    "values": {"gi.seen": "brute_force"},
    "prepares": 0.0,
    "each_frame": False,
    "to_reach": 12.0,
    "pays_from": None,
    "out": "",
    "picture": None,
    "points": [{"seconds": t, "samples": t, **ERROR, "total": 0.2 / t} for t in (1, 2, 4)],
    "error": ERROR,
    "frame_seconds": {"1": 12.0},
}
MATCH = {
    "seconds": 12.0,
    "region": [0, 0, 64, 36],
    "size": [64, 36],
    "level": ["baked"],
    "goal": 0.06,
    "reference_error": 0.01,
    "reference_seconds": 9.0,
    "entrants": [
        {**ENTRANT, "name": "baked", "title": "a bake", "values": {"gi.seen": "baked"}, "prepares": 6.0, "to_reach": 3.0, "pays_from": 2},
        ENTRANT,
    ],
    "reference_picture": None,
    "says": "In 12 s a frame a bake is first.",
    "complete": True,
}
CHOICE = {"key": "gi.seen", "value": "brute_force", "shown": "brute force", "because": "Bounced light is little.", "unless": "a closed room."}
ADVICE = {
    "recipes": [
        {
            "purpose": "Final still",
            "says": "Brute force.",
            "way": "brute_force",
            "seconds": 60.0,
            "values": {"gi.seen": "brute_force", "limits.diffuse_bounces": 2},
            "choices": [CHOICE],
            "match": ["brute_force", "brute_force+caustics"],
            "guesses": [],
        }
    ],
    "facts": [{"name": "open", "value": "70 %", "means": "of the rays leave the scene: outside."}],
    "seconds": 60.0,
    "ways": [
        {"name": "brute_force", "title": "brute force", "noise": 0.04, "bias": 0.0, "spread": 0.0, "prepares": 0.0, "rate": 0.2, "total": 0.04},
        {"name": "baked", "title": "a bake", "noise": 0.03, "bias": 0.05, "spread": 0.01, "prepares": 9.0, "rate": 0.1, "total": 0.058},
    ],
    "seconds_taken": 3.0,
    "complete": True,
}
RESULTS = {"ladder": LADDER, "budget": BUDGET, "match": MATCH, "advice": ADVICE}


class Tune(WebTest):
    def setUp(self):
        super().setUp()
        shot = shots.find(self.db, "slipway")
        like = proofs.get(self.db, proofs.finished(self.db, shot.id)[0])
        self.proof = proofs.add(self.db, shot.id, like.id, Recipe(), like.camera, like.frame)
        proofs.finish(self.db, self.proof, like.picture, 2.0, 0.1, 0.3, 0)

    def post(self, address: str, **form):
        return self.client.post(address, data={"csrf_token": self.token(), **form}, headers={"HX-Request": "true"})

    def ask(self, kind: str, **form):
        usual = {
            "ladder": {"key": "sampling.max", "values": "4, 8", "seconds": "20", "per_degree": "67"},
            "budget": {"seconds": "40", "width": "64", "height": "36"},
            "match": {"seconds": "10", "ways": ["brute_force", "baked"]},
            "advice": {"seconds": "60"},
        }[kind]
        return self.post(f"/proofs/{self.proof}/{kind}", **{**usual, **form})

    def made(self, kind: str) -> int:
        number = tunings.add(
            self.db, self.proof, kind, {"seconds": 40.0, **({"vary": {"sampling.max": [8, 16, 32]}, "region": None} if kind == "ladder" else {})}
        )
        tunings.keep(self.db, number, RESULTS[kind])
        return number

    def test_what_is_asked_is_put_to_the_worker(self):
        for kind in RESULTS:
            with self.subTest(kind):
                outcome = self.ask(kind).json
                one = tunings.get(self.db, outcome["tuning"])
                self.assertEqual((one.kind, one.proof_id, one.question), (kind, self.proof, outcome["question"]))
                self.assertEqual(requests.answered(self.db, outcome["question"]), (None, ""))
        self.assertEqual(tunings.of_proof(self.db, self.proof, "ladder")[0].asked["vary"], {"sampling.max": [4, 8]})

    def test_bad_input_is_refused_in_one_sentence(self):
        for kind, form, says in (
            ("ladder", {"values": "many"}, "numbers by commas"),
            ("ladder", {"key": "gi.seen", "values": ""}, "make a match"),
            ("ladder", {"key": ""}, "Choose a setting"),
            ("ladder", {"key2": "sampling.max", "values2": "2,4"}, "The two settings are the same"),
            ("ladder", {"region": "0,0,9999,9"}, "does not lie in"),
            ("ladder", {"per_degree": "0"}, "viewing distance"),
            ("budget", {"seconds": "soon"}, "The time can"),
            ("budget", {"noise": "900"}, "The noise in per cent"),
            ("match", {"ways": ["brute_force"]}, "two ways or more"),
            ("match", {"ways": ["brute_force", "wishes"]}, "no way"),
            ("advice", {"seconds": "0"}, "The time can"),
        ):
            with self.subTest(kind=kind, form=form):
                answer = self.ask(kind, **form)
                self.assertEqual(answer.status_code, 422)
                self.assertIn(says, answer.text)
        self.assertEqual(tunings.of_proof(self.db, self.proof, "ladder"), [])

    def test_pages_show_what_came_and_offer_it(self):
        for kind, words in (("ladder", "no visible difference"), ("budget", "Sky makes 40"), ("match", "a bake is first"), ("advice", "outside")):
            with self.subTest(kind):
                empty = self.client.get(f"/proofs/{self.proof}/{kind}")
                self.assertEqual(empty.status_code, 200)
                self.assertNotIn(words, empty.text)
                number = self.made(kind)
                page = self.client.get(f"/proofs/{self.proof}/{kind}")
                self.assertIn(words, page.text)
                self.assertIn(words, self.client.get(f"/tunings/{number}/part").text)
                if kind in ("ladder", "match"):
                    self.assertIn('<svg class="logchart"', page.text)
                csv = self.client.get(f"/tunings/{number}.csv").text.splitlines()
                self.assertGreater(len(csv), 1)
                self.assertEqual(len({line.count(",") for line in csv if '"' not in line}), 1)
                self.assertEqual(self.client.get(f"/tunings/{number}.json").json["result"], RESULTS[kind])

    def test_what_the_facts_do_not_decide_is_asked_of_a_match(self):
        self.made("advice")
        page = self.client.get(f"/proofs/{self.proof}/advice").text
        self.assertIn("a bake", page)
        link = re.search(r'href="([^"]*/match[?][^"]*)"', page).group(1).replace("&amp;", "&")
        asked = self.client.get(link).text
        # What the usual match does not have is there as well, and chosen.
        chosen = re.findall(r'name="ways" value="([^"]*)" checked', asked)
        self.assertEqual(chosen, ["brute_force", "brute_force+caustics"])

    def test_what_is_offered_becomes_a_child_with_its_prediction(self):
        for kind, offer, key, value in (
            ("ladder", 1, "sampling.max", 16),
            ("match", 0, "gi.seen", "baked"),
            ("advice", 0, "limits.diffuse_bounces", 2),
        ):
            number = self.made(kind)
            outcome = self.post(f"/tunings/{number}/prove", offer=offer).json
            child = proofs.get(self.db, outcome["proof"])
            self.assertEqual((child.parent_id, child.recipe.flat()[key]), (self.proof, value))
            self.assertIn(str(child.id), outcome["bench"])
        number = self.made("budget")
        child = self.post(f"/tunings/{number}/prove", offer=1).json["proof"]
        self.assertEqual(proofs.get(self.db, child).edits.flat(), {"light.Sky.shadows.rays": 3})
        self.assertEqual(jobs.of_proof(self.db, child).guess, 41.0)
        proofs.finish(self.db, child, proofs.get(self.db, self.proof).picture, 50.0, 0.03, 0.3, 0)
        page = self.client.get(f"/proofs/{self.proof}/budget").text
        self.assertIn("-18 %", page)  # predicted against what it took
        self.assertEqual(self.post(f"/tunings/{number}/prove", offer=9).status_code, 422)
        self.assertEqual(self.client.get("/tunings/999999/part").status_code, 404)


del WebTest


if __name__ == "__main__":
    unittest.main()
