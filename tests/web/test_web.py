"""The pages over a real store; renders are left waiting, since no worker runs here."""

import io
import re
import struct
import tempfile
import time
import unittest
from pathlib import Path
from unittest.mock import patch

import numpy as np

from sivrel.core.render.film import FILM_COLUMNS
from sivrel.store import database, files, jobs, proofs, shots
from sivrel.web.app import create_app
from sivrel.work import openings
from tests import demo_data

SCENE = b"""#usda 1.0
(
    upAxis = "Y"
    metersPerUnit = 1
)
def Mesh "M"
{
    int[] faceVertexCounts = [3]
    int[] faceVertexIndices = [0, 1, 2]
    point3f[] points = [(0,0,0), (1,0,0), (1,1,0)]
}
"""


class WebTest(unittest.TestCase):
    key = None

    @classmethod
    def setUpClass(cls):
        cls.folder = tempfile.TemporaryDirectory()
        cls.data = Path(cls.folder.name)
        demo_data.fill(cls.data)
        cls.db = database.connect(cls.data)

    @classmethod
    def tearDownClass(cls):
        cls.db.close()
        cls.folder.cleanup()

    def setUp(self):
        app = create_app(self.data, access_key=self.key, hosts=frozenset({"localhost"}))
        self.client = app.test_client()

    def token(self) -> str:
        return re.search(r'name="csrf" content="([^"]+)"', self.client.get("/").text)[1]

    def prove(self, slug="slipway", htmx=True, **changed):
        form = {
            "gi.seen": "off", "gi.beyond": "brute_force", "limits.diffuse_bounces": "4", "limits.reflections": "4", "limits.ray_offset": "0",
            "sampling.max": "2", "camera": "landing", "width": "64", "height": "36", "region": "", "seed": "0", "parent": "",
        }  # fmt: skip
        headers = {"HX-Request": "true"} if htmx else {}
        return self.client.post(f"/shots/{slug}/prove", data={**form, "csrf_token": self.token(), **changed}, headers=headers)


class Pages(WebTest):
    def test_shots_and_bench_are_full_before_anything_is_compiled(self):
        page = self.client.get("/").text
        self.assertIn("Keeper&#39;s kitchen", page)
        bench = self.client.get("/shots/keepers-kitchen").text
        self.assertGreaterEqual(bench.count('class="card'), 6)
        self.assertIn('seen <span class="changed">nothing → brute force</span>', bench)
        self.assertIn("measured on a machine with", bench)

    def test_pages_load_nothing_from_outside(self):
        for address in ("/", "/shots/slipway"):
            text = self.client.get(address).text
            self.assertEqual(re.findall(r'(?:src|href)="(?:https?:)?//[^"]+"', text), [])
        style = self.client.get("/static/app.css").text
        self.assertNotRegex(style, r"url\((?:https?:)?//")

    def test_address_keeps_the_choice(self):
        ids = [p.id for p in proofs.of_shot(self.db, shots.find(self.db, "slipway").id)]
        text = self.client.get(f"/shots/slipway?proof={ids[1]}&with={ids[3]}").text
        self.assertIn(f'data-shot="slipway" data-proof="{ids[1]}" data-with="{ids[3]}"', text)
        # A number that is not there shows the newest proof instead.
        newest = [p.id for p in proofs.of_shot(self.db, shots.find(self.db, "slipway").id) if p.picture][-1]
        self.assertIn(f'data-proof="{newest}"', self.client.get("/shots/slipway?proof=99999").text)

    def test_unknown_addresses(self):
        for address in ("/shots/none", "/proofs/99999.json", "/pictures/none.half", "/thumbnails/..%2f..%2fsecret.png", "/views/x.lut"):
            self.assertEqual(self.client.get(address).status_code, 404, address)


class Proving(WebTest):
    def test_a_proof_waits_with_its_parent_and_change(self):
        parent = proofs.of_shot(self.db, shots.find(self.db, "slipway").id)[0]
        answer = self.prove(parent=str(parent.id), region="0,0,32,32")
        self.assertEqual(answer.status_code, 200)
        number = int(re.search(r'"proof": (\d+)', answer.headers["HX-Trigger-After-Settle"])[1])
        proof = proofs.get(self.db, number)
        self.assertEqual((proof.parent_id, proof.state, proof.frame.region), (parent.id, "waiting", (0, 0, 32, 32)))
        self.assertEqual(self.client.get(f"/proofs/{number}.json").json["tiles_total"], 1)
        self.assertEqual(self.prove(htmx=False).status_code, 302)

    def test_bad_numbers_get_a_sentence_and_make_nothing(self):
        before = len(proofs.of_shot(self.db, shots.find(self.db, "slipway").id))
        for changed, words in (
            ({"sampling.max": "0"}, "from 1 to 65536"),
            ({"limits.ray_offset": "wide"}, "give a number"),
            ({"gi.seen": "magic"}, "choose one of"),
            ({"width": "many"}, "whole number"),
            ({"width": "0"}, "pixels a side"),
            ({"region": "5,5,1,1"}, "does not lie"),
            ({"region": "here"}, "drag it"),
            ({"camera": "none"}, "no camera"),
            ({"seed": "-1"}, "seed"),
        ):
            answer = self.prove(**changed)
            self.assertEqual(answer.status_code, 422, changed)
            self.assertIn(words, answer.text)
            self.assertEqual(answer.text.count("<p"), 1)
        self.assertEqual(len(proofs.of_shot(self.db, shots.find(self.db, "slipway").id)), before)

    def test_forms_need_their_token(self):
        answer = self.client.post("/shots/slipway/prove", data={"camera": "landing"}, headers={"HX-Request": "true"})
        self.assertEqual(answer.status_code, 400)

    def test_cancel_while_waiting_and_go_on(self):
        number = int(re.search(r'"proof": (\d+)', self.prove().headers["HX-Trigger-After-Settle"])[1])
        headers = {"X-CSRFToken": self.token()}
        self.client.post(f"/proofs/{number}/cancel", headers=headers)
        self.assertEqual(self.client.get(f"/proofs/{number}.json").json["state"], "cancelled")
        self.client.post(f"/proofs/{number}/resume", headers=headers)
        self.assertEqual(self.client.get(f"/proofs/{number}.json").json["state"], "waiting")
        jobs.cancel(self.db, number)

    def test_tiles_arrive_in_their_order_with_their_pixels(self):
        number = int(re.search(r'"proof": (\d+)', self.prove().headers["HX-Trigger-After-Settle"])[1])
        tiles = files.Tiles(self.data, jobs.of_proof(self.db, number).id)
        boxes = proofs.get(self.db, number).frame.tiles()
        for index, value in ((2, 0.5), (0, 3.0)):
            x0, y0, x1, y1 = boxes[index]
            tiles.add(index, np.full((y1 - y0, x1 - x0, FILM_COLUMNS), value, np.float32))
        raw = self.client.get(f"/proofs/{number}/tiles?from=1").data
        self.assertEqual(struct.unpack("<5i", raw[:20]), (0, *boxes[0]))
        pixels = np.frombuffer(raw[20:], np.float16).reshape(-1, 4)
        np.testing.assert_array_equal(pixels[0], (6.0, 6.0, 6.0, 1.0))  # direct and indirect
        jobs.cancel(self.db, number)


class Pictures(WebTest):
    def test_linear_pixels_png_exr_and_difference(self):
        a, b = [p for p in proofs.of_shot(self.db, shots.find(self.db, "slipway").id) if p.picture][:2]
        raw = self.client.get(f"/pictures/{a.picture}.half").data
        self.assertEqual(len(raw), a.frame.width * a.frame.height * 8)
        self.assertEqual(self.client.get(f"/pictures/{a.picture}.png?exposure=1").data[:4], b"\x89PNG")
        self.assertEqual(self.client.get(f"/pictures/{a.picture}.exr").data[:4], b"\x76\x2f\x31\x01")
        result = self.client.get(f"/pictures/{a.picture}/{b.picture}/difference.json").json
        self.assertEqual(result["changed"], [["light.NoonSun.angle", None, 6.0]])
        self.assertGreater(result["visible"], 0.0)
        self.assertEqual(self.client.get(f"/pictures/{a.picture}.png?exposure=x").status_code, 422)


class Uploads(WebTest):
    def upload(self, *files_):
        data = {"csrf_token": self.token(), "files": [(io.BytesIO(body), name) for body, name in files_]}
        return self.client.post("/shots", data=data, content_type="multipart/form-data")

    def test_a_scene_opens_and_says_what_it_lacks(self):
        answer = self.upload((SCENE, "my room.usda"))
        self.assertEqual(answer.status_code, 302)
        page = self.client.get(answer.location).text
        self.assertIn("There is no camera in the scene", page)
        self.assertIn("no light", page)
        self.assertNotEqual(self.upload((SCENE, "my room.usda")).location, answer.location)

    def start(self, **fields) -> str:
        answer = self.client.post("/openings", data={"csrf_token": self.token(), **fields}, content_type="multipart/form-data")
        self.assertEqual(answer.status_code, 202, answer.text)
        return answer.json["key"]

    def inspected(self, key: str):
        """The answer about an opening once its inspection has ended."""
        for _ in range(600):
            answer = self.client.get(f"/openings/{key}.json", headers={"HX-Request": "true"})
            if answer.status_code != 200 or answer.json["done"]:
                return answer
            time.sleep(0.1)
        raise AssertionError("the inspection does not end")

    def test_a_scene_is_opened_in_the_background(self):
        key = self.start(files=[(io.BytesIO(SCENE), "yard.usda")])
        self.assertEqual(self.inspected(key).json["question"], "")
        page = self.client.post(f"/openings/{key}/open", data={"csrf_token": self.token()}).json["page"]
        self.assertEqual(self.client.get(page).status_code, 200)
        self.assertEqual(self.client.post(f"/openings/{key}/open", data={"csrf_token": self.token()}).status_code, 404)
        path = self.data / "beside.usda"
        path.write_bytes(SCENE)
        by_path = self.start(path=str(path))
        self.inspected(by_path)
        self.assertIn("beside", self.client.post(f"/openings/{by_path}/open", data={"csrf_token": self.token()}).json["page"])

    def test_a_large_scene_is_asked_about_and_a_cancelled_one_is_not_kept(self):
        before = set((self.data / "uploads").glob("*"))
        with patch.object(openings, "MUCH_MEMORY", 1):
            key = self.start(files=[(io.BytesIO(SCENE), "vast.usda")])
            asked = self.inspected(key).json["question"]
        self.assertRegex(asked, r"vast.usda has 1 triangles\. Until it can be rendered it takes about 0 s and 0.0 GB. Open it\?")
        self.client.post(f"/openings/{key}/cancel", data={"csrf_token": self.token()})
        self.assertEqual(self.client.get(f"/openings/{key}.json").status_code, 404)
        again = self.start(files=[(io.BytesIO(SCENE), "soon.usda")])
        self.client.post(f"/openings/{again}/cancel", data={"csrf_token": self.token()})
        for _ in range(100):
            if set((self.data / "uploads").glob("*")) == before:
                break
            time.sleep(0.1)
        self.assertEqual(set((self.data / "uploads").glob("*")), before)

    def test_a_file_that_can_not_be_opened_says_why_and_is_not_kept(self):
        before = set((self.data / "uploads").glob("*"))
        answer = self.inspected(self.start(files=[(io.BytesIO(b"hello"), "x.usda")]))
        self.assertEqual((answer.status_code, answer.text.count('class="problem"')), (422, 1))
        self.assertEqual(set((self.data / "uploads").glob("*")), before)
        lost = self.client.post("/openings", data={"csrf_token": self.token(), "path": "/nowhere/a.usda"})
        self.assertEqual(lost.status_code, 422)

    def test_what_is_no_scene_is_refused_and_not_kept(self):
        def kept() -> set:
            return set((self.data / "uploads").glob("*"))

        before = kept()
        for given in (((b"hello", "x.usda"),), ((b"hello", "x.png"),), ((SCENE.replace(b"def Mesh", b"def Xform"), "x.usda"),)):
            answer = self.upload(*given)
            self.assertEqual(answer.status_code, 422)
            self.assertEqual(answer.text.count('class="problem"'), 1)
        self.assertEqual(kept(), before)

    def test_a_name_can_not_leave_the_folder(self):
        self.upload((SCENE, "../../escape.usda"))
        self.assertFalse(list(self.data.glob("escape*")))
        reference = SCENE.replace(b"(\n", b"(\n    subLayers = [@/etc/hostname@]\n", 1)
        answer = self.upload((reference, "reach.usda"))
        self.assertEqual(answer.status_code, 422)
        self.assertIn("not given with it", answer.text)


class Door(WebTest):
    key = "right-key"

    def test_strangers_are_asked_for_the_key(self):
        for address in ("/", "/shots/slipway", "/status.json"):
            self.assertEqual(self.client.get(address).location, "/door")
        token = re.search(r'name="csrf_token" value="([^"]+)"', self.client.get("/door").text)[1]
        wrong = self.client.post("/door", data={"key": "wrong", "csrf_token": token})
        self.assertEqual(wrong.status_code, 422)
        self.client.post("/door", data={"key": "right-key", "csrf_token": token})
        self.assertEqual(self.client.get("/").status_code, 200)

    def test_other_names_are_refused(self):
        self.assertEqual(self.client.get("/door", headers={"Host": "elsewhere.example"}).status_code, 404)


if __name__ == "__main__":
    unittest.main()
