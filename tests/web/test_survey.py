"""The survey's page and what it asks for; scenes that are opened by upload and by path."""

import io
import json
import re
import unittest

from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.edits.edits import to_json as edits_to_json
from sivrel.store import proofs, requests, shots
from tests.web.test_web import SCENE, WebTest

WALL = "object./Kitchen/Room/NorthWall.thickness"


class SurveyPage(WebTest):
    def post(self, address: str, **form):
        return self.client.post(address, data={"csrf_token": self.token(), **form})

    def test_the_page_marks_the_picture_of_its_camera(self):
        text = self.client.get("/shots/keepers-kitchen/survey").text
        self.assertIn('<img src="/pictures/', text)
        self.assertIn('data-camera="table"', text)
        self.assertIn("Not proven yet from shelf", self.client.get("/shots/keepers-kitchen/survey?camera=shelf").text)
        bad = self.client.get("/shots/keepers-kitchen/survey?camera=nowhere")
        self.assertEqual(bad.status_code, 422)
        self.assertIn("choose one of: table", bad.text)
        self.assertIn("/shots/slipway/survey", self.client.get("/").text)

    def test_questions_carry_edits_camera_and_places(self):
        answer = self.post("/shots/keepers-kitchen/survey", edits=json.dumps({WALL: 0.25}), camera="stove")
        number, kind, _, body = requests.take(self.db)
        self.assertEqual((number, kind, body["camera"]), (answer.json["question"], "survey", "stove"))
        self.assertEqual(body["edits"], edits_to_json(with_edits(Edits(), {WALL: 0.25})))
        self.post("/shots/keepers-kitchen/section", height="1.25", behind="-2")
        _, kind, _, body = requests.take(self.db)
        self.assertEqual((kind, body["height"], body["behind"]), ("plan", 1.25, -2.0))
        self.post("/shots/keepers-kitchen/standpoint", x="1", y="2", z="3")
        self.assertEqual(requests.take(self.db)[3]["z"], 3.0)
        for form in ({"x": "1", "y": "2"}, {"x": "1", "y": "2", "z": "nan"}, {"x": "1e30", "y": "0", "z": "0"}):
            self.assertEqual(self.post("/shots/keepers-kitchen/standpoint", **form).status_code, 422)

    def test_an_answer_comes_in_parts_and_can_be_called_off(self):
        number = self.post("/shots/slipway/survey").json["question"]
        self.assertTrue(requests.tell(self.db, number, {"share": 0.2, "done": False}))
        self.assertEqual(self.client.get(f"/questions/{number}.json").json["answer"]["share"], 0.2)
        self.post(f"/questions/{number}/call-off")
        self.assertFalse(requests.tell(self.db, number, {"share": 0.4, "done": False}))
        requests.answer(self.db, number, {"done": True})
        said = self.client.get(f"/questions/{number}.json")
        self.assertEqual(said.status_code, 422)
        self.assertIn("Called off", said.text)

    def test_mends_are_said_and_proven(self):
        edits = {WALL: "0.25", "card.C.at": "1,2,3", "card.C.width": "2", "card.C.height": "0.3", "card.C.depth": "0.06", "scene.whole.scale": "0.01"}
        said = self.post("/shots/keepers-kitchen/survey/words", edits=json.dumps(edits)).json
        words = {sentence for _, sentence in said}
        self.assertEqual(words, {"NorthWall: thickness 0.25 m", "a card 2.0 × 0.3 × 0.06 m at 1.00, 2.00, 3.00", "everything: scale 0.01"})
        self.assertEqual(sum(len(keys) for keys, _ in said), len(edits))
        parent = proofs.finished(self.db, shots.find(self.db, "keepers-kitchen").id)[-1]
        answer = self.post("/shots/keepers-kitchen/survey/prove", edits=json.dumps({WALL: "0.25"}), proof=str(parent), camera="table")
        self.assertEqual(answer.status_code, 302)
        child = proofs.get(self.db, int(answer.location.split("proof=")[1]))
        self.assertEqual((child.parent_id, child.edits.flat()), (parent, {WALL: 0.25}))
        self.assertEqual(child.recipe, proofs.get(self.db, parent).recipe)
        self.assertIn("NorthWall", self.client.get(f"/shots/keepers-kitchen?proof={child.id}").text)

    def test_the_whole_goes_out_as_gltf_and_the_mends_as_a_layer(self):
        whole = self.post("/shots/lamp-room/scene.glb", edits="{}")
        self.assertEqual(whole.data[:4], b"glTF")
        self.assertIn("lamp-room.glb", whole.headers["Content-Disposition"])
        layer = self.post("/shots/keepers-kitchen/layer", edits=json.dumps({WALL: "0.25"}))
        self.assertIn("metersPerUnit = 1", layer.text)
        self.assertIn("NorthWall", layer.text)


class Opening(WebTest):
    def post(self, **form):
        return self.client.post("/shots", data={"csrf_token": self.token(), **form}, content_type="multipart/form-data")

    def test_other_formats_with_the_files_that_they_name(self):
        files = [(io.BytesIO(b"mtllib my mat.mtl\nusemtl M\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"), "a thing.obj"),
                 (io.BytesIO(b"newmtl M\nKd 1 0 0\n"), "my mat.mtl")]  # fmt: skip
        answer = self.post(files=files)
        self.assertEqual(answer.status_code, 302, answer.text)
        shot = shots.find(self.db, "a-thing")
        self.assertEqual((shot.triangles, shot.confined), (1, True))
        self.assertFalse([note for note in shot.notes if "not given" in note], shot.notes)

    def test_names_stay_within_their_folder(self):
        for name in ("../../up.usda", "..", "a/b\\c.usda", "/etc/x.usda"):
            answer = self.post(files=[(io.BytesIO(SCENE), name)])
            self.assertIn(answer.status_code, (302, 422))
        self.assertFalse((self.data.parent / "up.usda").exists())
        for shot, _, _ in shots.listed(self.db):
            if shot.confined:
                self.assertTrue(shot.path.resolve().is_relative_to((self.data / "uploads").resolve()))

    def test_a_path_on_this_machine(self):
        path = self.data / "here.usda"
        path.write_bytes(SCENE)
        self.assertEqual(self.post(path=str(path)).status_code, 302)
        self.assertEqual(shots.find(self.db, "here").path, path)
        self.assertEqual(self.post(path=str(path)).location, "/shots/here")
        for bad in ("here.usda", str(self.data / "not.usda"), str(self.data / "secret")):
            said = self.post(path=bad)
            self.assertEqual(said.status_code, 422)
            self.assertRegex(said.text, "full path|not a scene file")


class FromElsewhere(WebTest):
    key = "letmein"

    def test_no_path_of_this_machine_is_opened(self):
        token = re.search(r'name="csrf_token" value="([^"]+)"', self.client.get("/door").text)[1]
        self.client.post("/door", data={"csrf_token": token, "key": self.key})
        text = self.client.get("/").text
        self.assertNotIn('id="path"', text)
        path = self.data / "there.usda"
        path.write_bytes(SCENE)
        said = self.client.post("/shots", data={"csrf_token": self.token(), "path": str(path)})
        self.assertEqual(said.status_code, 422)
        self.assertIn("choose the files themselves", said.text)
        self.assertIsNone(shots.find(self.db, "there"))


if __name__ == "__main__":
    unittest.main()
