"""The lights panel and what hangs on it, over a real store; what a worker would answer is answered by one here."""

import html
import json
import re
import threading
import time

from sivrel.core.formats.exr_file import open_exr
from sivrel.core.measure.ledger import NOT_LIGHTS
from sivrel.core.scene.model import Light, Scene
from sivrel.store import files, proofs, requests, shots
from sivrel.store.database import transaction
from sivrel.web.lights.many import grouped
from sivrel.web.lights.panel import Line
from sivrel.work.facts import facts_of
from sivrel.work.handlers import handle_requests
from sivrel.work.worker import Worker
from tests.scenes import floor, lambert, looking_down
from tests.web.test_web import WebTest


class LightsTest(WebTest):
    def post(self, address: str, edits=None, **fields):
        data = {"csrf_token": self.token(), "edits": json.dumps(edits or {}), **fields}
        return self.client.post(address, data=data, headers={"HX-Request": "true"})

    def newest(self) -> proofs.Proof:
        return proofs.of_shot(self.db, shots.find(self.db, "slipway").id)[-1]


class Panel(LightsTest):
    def test_each_light_is_a_line_with_what_it_does(self):
        shot = shots.find(self.db, "keepers-kitchen")
        first = proofs.of_shot(self.db, shot.id)[0]
        page = self.post("/shots/keepers-kitchen/lights", proof=first.id).text
        for name in ("EveningSun", "Sky", "WindowSky", "Flame"):
            self.assertIn(f'data-open-light="{name}"', page)
        self.assertIn("only glows", page)
        self.assertGreaterEqual(page.count('class="mini"'), 3 * 4)

    def test_sentences_are_of_the_light_that_is_open(self):
        page = self.post("/shots/keepers-kitchen/lights", open="Flame").text
        self.assertIn('data-edit="light.Flame.radius" data-file="0.028"', page)
        self.assertNotIn('data-edit="light.Sky.intensity"', page)
        self.assertNotIn("light.Flame.shadows.resolution", page)
        mapped = self.post("/shots/keepers-kitchen/lights", {"light.Flame.shadows.way": "depth_map"}, open="Flame").text
        self.assertIn("light.Flame.shadows.resolution", mapped)

    def test_added_lights_cards_and_aimed_meshes(self):
        edits = {"light.Fill.kind": "rect", "card.Leaves.pattern": "leaves", "object./Kitchen/Stove/Fire.aimed": "on"}
        page = self.post("/shots/keepers-kitchen/lights", edits, open="Fill").text
        self.assertIn('data-remove="light.Fill"', page)
        self.assertIn('data-remove="card.Leaves"', page)
        self.assertIn('data-edit="light.Fill.width"', page)

    def test_many_lights_are_listed_in_groups_searched_and_sorted(self):
        lights = [
            Light(f"lamp{k}", "sphere", group=f"Town/street{k // 10}" if k < 100 else "Town/park", radius=0.1, exposure=k / 10.0) for k in range(103)
        ]
        quad = floor(1.0)
        facts = facts_of(Scene("town", [quad], [lambert(0.5)], lights, [looking_down()]))
        with transaction(self.db):
            shots.add(self.db, "town", "Town", "", self.data / "town.usda", **facts)
        page = self.post("/shots/town/lights").text
        self.assertEqual(page.count("data-group-name"), 11)
        self.assertNotIn('data-open-light="lamp', page)
        self.assertIn("103 shadow rays", page)
        opened = self.post("/shots/town/lights", group="Town/park").text
        self.assertEqual(re.findall(r'data-open-light="(\w+)"', opened), ["lamp100", "lamp101", "lamp102"])
        names = json.loads(html.unescape(re.search(r'data-group-name="Town/park"[^>]* data-lights="([^"]*)"', opened)[1]))
        self.assertEqual(names, [["lamp100", 10.0], ["lamp101", 10.1], ["lamp102", 10.2]])
        self.assertIn('data-edit="light.lamp57.radius"', self.post("/shots/town/lights", open="lamp57").text)
        found = self.post("/shots/town/lights", find="street5 lamp57").text
        self.assertEqual(re.findall(r'data-open-light="(\w+)"', found), ["lamp57"])
        self.assertIn("No light matches", self.post("/shots/town/lights", find="sun").text)

    def test_groups_are_in_the_order_of_what_they_bring(self):
        def line(name: str, place: str, light: float) -> Line:
            measure = {"light": light, "noise": 1.0 - light, "time": 0.1}
            return Line("light", name, "a sphere", True, False, measure, [], False, place=place)

        lines = [line("a", "x", 0.1), line("b", "x", 0.2), line("c", "y", 0.5), line("d", "", 0.05)]
        self.assertEqual([g.name for g in grouped(lines, {}, "file", "", False)], ["x", "y", "in no group"])
        self.assertEqual([g.name for g in grouped(lines, {}, "light", "", False)], ["y", "x", "in no group"])
        first = grouped(lines, {"lights in x": {"light": 0.9}}, "light", "b", False)[0]
        self.assertEqual((first.name, first.open, [one.name for one in first.lines]), ("x", True, ["b", "a"]))

    def test_bad_edits_are_a_sentence(self):
        answer = self.post("/shots/slipway/lights", {"light.NoonSun.angle": "wide"})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("give a number from 0 to 360", answer.text)
        answer = self.client.post("/shots/slipway/lights", data={"csrf_token": self.token(), "edits": "nonsense"})
        self.assertEqual(answer.status_code, 422)


class Proving(LightsTest):
    def test_edits_enter_the_proof_and_what_it_changed(self):
        parent = self.newest()
        answer = self.prove(edits=json.dumps({"light.NoonSun.angle": "5", "light.Sky.on": "off"}), parent=str(parent.id), **{"sampling.max": "2"})
        self.assertEqual(answer.status_code, 200)
        proof = self.newest()
        self.assertEqual(proof.edits.flat(), {"light.NoonSun.angle": 5.0, "light.Sky.on": False})
        self.assertIn("NoonSun angle <span", answer.text)
        again = self.client.get(f"/shots/slipway/recipe?proof={proof.id}").text
        self.assertIn("light.NoonSun.angle", again)

    def test_a_wrong_edit_proves_nothing(self):
        before = self.newest().id
        answer = self.prove(edits=json.dumps({"light.NoonSun.shadows.rays": "0"}))
        self.assertEqual((answer.status_code, self.newest().id), (422, before))
        self.assertIn("whole number from 1 to 256", answer.text)

    def test_layer_holds_the_edits(self):
        answer = self.post("/shots/slipway/layer", {"light.NoonSun.angle": "5", "light.NoonSun.solo": "on"})
        self.assertEqual(answer.status_code, 200)
        self.assertIn("inputs:angle = 5", answer.text)
        self.assertIn("# Of the light NoonSun, solo can't be expressed", answer.text)


class WithWorker(LightsTest):
    """With a worker that answers questions."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.worker = Worker(cls.data)
        threading.Thread(target=handle_requests, args=(cls.worker,), daemon=True).start()

    @classmethod
    def tearDownClass(cls):
        cls.worker.ending.set()
        time.sleep(0.2)
        super().tearDownClass()


class Answers(WithWorker):
    def answer(self, address: str, edits=None, **fields):
        asked = self.post(address, edits, **fields)
        self.assertEqual(asked.status_code, 200, asked.text)
        for _ in range(8000):
            result = self.client.get(f"/questions/{asked.json['question']}.json", headers={"HX-Request": "true"})
            if result.status_code != 200 or result.json["answer"]:
                return result
            time.sleep(0.05)
        raise AssertionError("no answer")

    def test_what_reaches_a_spot(self):
        result = self.answer("/shots/keepers-kitchen/reach", x=296, y=189, width=480, height=270).json["answer"]
        self.assertIn("Table", result["object"])
        by_name = {light["name"]: light for light in result["lights"]}
        self.assertGreater(by_name["Flame"]["brings"], 0.0)
        # The sky is walled off: something is named that stops it.
        self.assertLess(by_name["Sky"]["brings"], 0.2 * by_name["Sky"]["unhindered"])
        self.assertTrue(by_name["Sky"]["blockers"])
        unlinked = self.answer("/shots/keepers-kitchen/reach", {"light.Flame.link": "-Table"}, x=296, y=189, width=480, height=270).json["answer"]
        flame = next(light for light in unlinked["lights"] if light["name"] == "Flame")
        self.assertEqual((flame["brings"], flame["why"]), (0.0, "is linked to other objects"))

    def test_where_a_lamp_is_put_that_the_picture_was_clicked_for(self):
        at = {"x": 296, "y": 189, "width": 480, "height": 270}
        result = self.answer("/shots/keepers-kitchen/place", kind="sphere", **at).json["answer"]
        self.assertIn("Table", result["object"])
        place = [float(v) for v in result["values"]["at"].split(",")]
        edits = {"light.Lamp.kind": "sphere", "light.Lamp.at": result["values"]["at"], "light.Lamp.intensity": "50"}
        lamp = next(light for light in self.answer("/shots/keepers-kitchen/reach", edits, **at).json["answer"]["lights"] if light["name"] == "Lamp")
        self.assertGreater(lamp["brings"], 0.0)  # it lights what was clicked
        card = self.answer("/shots/keepers-kitchen/place", kind="slats", **at).json["answer"]["values"]
        self.assertGreater(place[1], float(card["at"].split(",")[1]))  # a lamp floats over the table, a card lies on it
        self.assertIn("towards", card)
        self.assertIn("not something that is put", self.post("/shots/keepers-kitchen/place", kind="dome", **at).text)

    def test_mattes_of_a_proof_as_a_file(self):
        proof = next(one for one in proofs.of_shot(self.db, shots.find(self.db, "slipway").id) if one.picture)
        asked = self.client.post(f"/proofs/{proof.id}/mattes", data={"csrf_token": self.token(), "by": "object"})
        for _ in range(2000):
            result = self.client.get(f"/questions/{asked.json['question']}.json").json["answer"]
            if result and result.get("made"):
                break
            time.sleep(0.05)
        answer = self.client.get(f"/proofs/{proof.id}/mattes-object.exr")
        self.assertIn(f"slipway-proof-{proof.id}-mattes-object.exr", answer.headers["Content-Disposition"])
        path = self.data / "mattes.exr"
        path.write_bytes(answer.data)
        answer.close()
        _, planes = open_exr(path, "mattes")
        covered = sum(plane for name, plane in planes.items() if name.startswith("matte."))
        self.assertEqual(covered.shape, (proof.frame.height, proof.frame.width))
        self.assertLessEqual(float(covered.max()), 1.0 + 1e-4)
        self.assertGreater(float(covered.mean()), 0.5)
        wrong = self.client.post(f"/proofs/{proof.id}/mattes", data={"csrf_token": self.token(), "by": "colour"})
        self.assertEqual(wrong.status_code, 422)
        self.assertEqual(self.client.get(f"/proofs/{proof.id}/mattes-surface.exr").status_code, 404)

    def test_plan_and_elevation(self):
        result = self.answer("/shots/slipway/plan", {"light.Lamp.kind": "sphere", "light.Lamp.at": "1,2,3"}).json["answer"]
        self.assertTrue(result["plan"]["picture"].startswith("data:image/png;base64,"))
        self.assertEqual([light["at"] for light in result["lights"] if light["name"] == "Lamp"], [[1.0, 2.0, 3.0]])
        up = result["elevation"]["up"]
        self.assertEqual(up, [0.0, 1.0, 0.0])

    def test_a_question_that_can_not_be_answered_says_why(self):
        result = self.answer("/shots/slipway/plan", {"light.Nobody.intensity": "1"})
        self.assertEqual(result.status_code, 422)
        self.assertIn("There is no light “Nobody”", result.text)
        self.assertEqual(self.post("/shots/slipway/reach", x="here").status_code, 422)
        self.assertEqual(self.client.get("/questions/999999.json").status_code, 422)

    def test_a_rendered_depth_map_is_kept_noted_and_shown(self):
        edits = {"light.NoonSun.shadows.way": "depth_map", "light.NoonSun.shadows.resolution": "64"}
        self.prove(edits=json.dumps(edits), width="32", height="18")
        proof = self.newest()
        from sivrel.store import jobs

        self.worker._render(jobs.take(self.worker.db))
        done = proofs.get(self.db, proof.id)
        self.assertEqual((done.maps[0]["light"], done.maps[0]["resolution"], done.maps[0]["made"]), ("NoonSun", 64, True))
        self.assertGreater(done.maps[0]["coarse"], 0.5)
        self.assertIn("texels", done.passes)
        self.assertIn("light.NoonSun", done.passes)
        self.assertAlmostEqual(sum(m["light"] for m in done.lights if m["name"] not in NOT_LIGHTS), 1.0, places=6)
        page = self.post("/shots/slipway/lights", edits, proof=done.id, open="NoonSun").text
        self.assertIn("fit it to the view", page)
        picture = self.client.get(f"/proofs/{done.id}/maps/{done.maps[0]['digest']}.png")
        self.assertEqual((picture.status_code, picture.data[:4]), (200, b"\x89PNG"))
        self.assertEqual(self.client.get(f"/proofs/{done.id}/maps/{'0' * 32}.png").status_code, 404)
        texels = self.client.get(f"/pictures/{done.picture}.half?pass=texels")
        self.assertEqual(len(texels.data), 32 * 18 * 8)
        self.assertTrue(files.picture_path(self.data, done.picture).is_file())


class StoredFinding(LightsTest):
    def test_old_questions_go(self):
        shot = shots.find(self.db, "slipway")
        first = requests.ask(self.db, "plan", shot.id, {})
        for _ in range(requests.KEPT + 2):
            requests.ask(self.db, "plan", shot.id, {})
        self.assertEqual(requests.answered(self.db, first), (None, "This request is no longer known; try again."))


if __name__ == "__main__":
    import unittest

    unittest.main()
