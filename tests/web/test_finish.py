"""Finishing over HTTP: PNGs, the shot's settings, white balance, the noise of a region, and the filter's question."""

import io

import numpy as np
from PIL import Image

from sivrel.core.finish.finishing import Finish, finished, measured_exposure
from sivrel.core.finish.view import to_bytes
from sivrel.core.pictures.exr import read_exr
from sivrel.store import files, proofs, requests, shots
from sivrel.work.picture_handlers import filter_picture
from sivrel.work.request import Request
from sivrel.work.worker import Worker
from tests.web.test_web import WebTest


class Finishing(WebTest):
    def setUp(self):
        super().setUp()
        self.shot = shots.find(self.db, "lamp-room")
        self.proof = next(p for p in proofs.of_shot(self.db, self.shot.id) if "position" in p.passes)
        self.picture = read_exr(files.picture_path(self.data, self.proof.picture))

    def png(self, **query) -> np.ndarray:
        answer = self.client.get(f"/pictures/{self.proof.picture}.png", query_string=query)
        self.assertEqual(answer.status_code, 200)
        return np.asarray(Image.open(io.BytesIO(answer.data)))

    def test_png_is_what_finishing_makes(self):
        settings = {"exposure": 2.0, "contrast": 1.2, "temperature": 4500.0, "sharpening": 0.5, "highlights": 0.3, "view": "plain"}
        np.testing.assert_array_equal(self.png(**settings), to_bytes(finished(self.picture.beauty, Finish(**settings))))

    def test_files_are_named_after_shot_and_proof(self):
        proofs.say_name(self.db, self.proof.id, "Brass / final", "")
        self.addCleanup(proofs.say_name, self.db, self.proof.id, "", "")
        kinds = {"png": "image/png", "jpg": "image/jpeg", "tif": "image/tiff", "exr": "image/x-exr"}
        for kind, media in kinds.items():
            answer = self.client.get(f"/proofs/{self.proof.id}/picture.{kind}?contrast=1.2")
            self.assertEqual((answer.status_code, answer.mimetype), (200, media))
            self.assertIn(f"lamp-room-proof-{self.proof.id}-Brass_final.{kind}", answer.headers["Content-Disposition"])
            answer.close()
        self.assertIn("use .png, .jpg or .tif", self.client.get(f"/proofs/{self.proof.id}/picture.webp").text)
        self.assertEqual(self.client.get("/proofs/99999/picture.png").status_code, 404)

    def test_a_wrong_setting_is_one_sentence(self):
        answer = self.client.get(f"/pictures/{self.proof.picture}.png?contrast=7", headers={"HX-Request": "true"})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("from 0.5 to 2", answer.text)

    def test_settings_stay_with_the_shot(self):
        form = {"csrf_token": self.token(), "contrast": "1.3", "view": "plain", "other": "x"}
        self.assertEqual(self.client.post("/shots/lamp-room/finish", data=form).status_code, 204)
        kept = shots.find(self.db, "lamp-room").finish
        self.assertEqual((kept["contrast"], kept["view"]), (1.3, "plain"))
        page = self.client.get("/shots/lamp-room").text
        self.assertIn('value="1.3" data-plain="1.0"', page)
        self.assertEqual(self.client.post("/shots/nowhere/finish", data=form).status_code, 404)

    def test_measured_exposure_and_white(self):
        result = self.client.get(f"/pictures/{self.proof.picture}/exposure.json").json
        self.assertEqual(result["exposure"], measured_exposure(self.picture.beauty))
        matrix = self.client.get("/white.json?temperature=6504&tint=0").json["matrix"]
        np.testing.assert_allclose(matrix, np.eye(3).reshape(-1), atol=1e-9)

    def test_filter_is_asked_for_and_its_picture_served(self):
        self.assertEqual(self.client.get(f"/pictures/{self.proof.picture}.half?pass=filtered").status_code, 404)
        number = self.client.post(f"/proofs/{self.proof.id}/filter", data={"csrf_token": self.token()}).json["question"]
        taken = requests.take(self.db)
        self.assertEqual(taken[:2], (number, "filter"))
        result = filter_picture(Request(Worker(self.data), self.db, taken[0], taken[2], taken[3]))
        self.assertLess(result["smeared"], 0.1)
        address = f"/pictures/{self.proof.picture}.exr?filtered"
        self.assertEqual(self.client.get(address).status_code, 404)
        self.assertEqual(filter_picture(Request(Worker(self.data), self.db, taken[0], taken[2], {**taken[3], "exr": True})), result)
        path = self.data / "taken.exr"
        path.write_bytes(self.client.get(address).data)
        self.assertIn("filtered", read_exr(path).passes)
        raw = self.client.get(f"/pictures/{self.proof.picture}.half?pass=filtered").data
        image = np.frombuffer(raw, np.float16).reshape(*self.picture.beauty.shape[:2], 4)
        self.assertLess(float(np.std(np.diff(image[..., 1].astype(float)))), float(np.std(np.diff(self.picture.beauty[..., 1].astype(float)))))
        self.assertEqual(self.client.get(f"/pictures/{self.proof.picture}.half?pass=smeared").status_code, 200)
        np.testing.assert_array_equal(self.png(**{"pass": "filtered"}), to_bytes(finished(image[..., :3].astype(np.float32), Finish())))

    def test_noise_of_a_region_adds_up(self):
        without = self.client.get(f"/proofs/{self.proof.id}/noise.json?region=0,0,100,100").json
        self.assertEqual(without["rows"], [])  # its noise passes do not ship

    def test_stand_ins_and_glass_are_reported_in_words(self):
        by_note = {p.note: p for p in proofs.of_shot(self.db, self.shot.id)}
        plain = self.client.get(f"/proofs/{by_note['plain stand-ins, to light by'].id}.json").json
        self.assertGreater(plain["stand_ins"], 5)
        self.assertTrue(any("stand-ins" in sentence for sentence in plain["meters"]))
        black = next(p for note, p in by_note.items() if note.startswith("glass is black"))
        result = " ".join(self.client.get(f"/proofs/{black.id}.json").json["meters"])
        self.assertIn("ended in glass", result)
        self.assertIn("2 crossings of glass", result)
