"""The pages of moving shots: sequences made, stopped, deleted and exported; renders are left waiting, since no worker runs here."""

import numpy as np

from sivrel.core.pictures.exr import write_exr
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.store import files, jobs, proofs, requests, sequences, shots, tunings
from sivrel.web.pictures.routes import flicker_tones
from sivrel.web.sequences.views import whole_flicker
from sivrel.work.sequence_handlers import judge_later, needed
from tests.moving import sequence as frames_of_room
from tests.web.test_web import WebTest

FLICKER = {
    "judged": 0.8,
    "level": 3.0,
    "share": 0.5,
    "contrast": 0.1,
    "places": [{"box": [0, 0, 9, 9], "seen": 5.0, "share": 0.1, "object": "/A/Wall"}],
}


class SequencesTest(WebTest):
    def post(self, address: str, **form):
        return self.client.post(address, data={"csrf_token": self.token(), **form}, headers={"HX-Request": "true"})

    @property
    def shot(self) -> shots.Shot:
        return shots.find(self.db, "stairwell")

    def made(self, **form) -> int:
        whole = {"frames": "10-14", "from": "start:mood-draft", "width": "64", "height": "36", **form}
        answer = self.post("/shots/stairwell/sequences", **whole)
        self.assertEqual(answer.status_code, 200, answer.text)
        return answer.json["sequence"]


class Making(SequencesTest):
    def test_a_sequence_is_a_proof_for_each_frame_behind_all_other_renders(self):
        number = self.made(**{"motion.caches": "shared", "sampling.max": "7", "name": " A  name "})
        made, frames = sequences.get(self.db, number), sequences.frames_of(self.db, number)
        self.assertEqual([proof.frame.time for proof in frames], [10.0, 11.0, 12.0, 13.0, 14.0])
        self.assertEqual((made.recipe.motion.caches, made.recipe.sampling.max, made.name, made.in_words), ("shared", 7, "A name", "10-14"))
        self.assertEqual((made.rate, made.camera, made.frame.width), (24.0, "climb", 64))
        self.assertTrue(all(jobs.of_proof(self.db, proof.id).gives_way for proof in frames))
        # They are no part of the lineage, nor of what is compared or pinned.
        lineage = {proof.id for proof in proofs.of_shot(self.db, self.shot.id)}
        self.assertFalse(lineage & {proof.id for proof in frames})
        self.assertNotIn(str(frames[0].id), self.client.get("/shots/stairwell/lineage").text.split('data-proof="')[1:][0][:6])

    def test_it_starts_from_a_proof_a_sequence_or_a_recipe(self):
        proof = proofs.of_shot(self.db, self.shot.id)[1]
        first = self.made(**{"from": f"proof:{proof.id}"})
        self.assertEqual(sequences.get(self.db, first).recipe, proof.recipe)
        second = self.made(**{"from": f"sequence:{first}", "motion.grain": "held"})
        self.assertEqual(sequences.get(self.db, second).recipe, with_values(proof.recipe, {"motion.grain": "held"}))
        self.assertEqual(sequences.get(self.db, second).parent_id, first)
        self.assertIn("grain in motion new → the same", self.client.get(f"/shots/stairwell/sequences?show={second}&with={first}").text)

    def test_a_time_for_all_is_shared_out(self):
        self.assertEqual(sequences.get(self.db, self.made(all="20")).recipe.sampling.seconds, 4.0)
        self.assertEqual(sequences.get(self.db, self.made(each="3")).recipe.sampling.seconds, 3.0)

    def test_what_can_not_be_is_said_in_a_sentence_and_nothing_is_made(self):
        before = len(sequences.of_shot(self.db, self.shot.id))
        whole = {"frames": "10-14", "from": "start:mood-draft", "width": "64", "height": "36"}
        for wrong, says in (
            ({"frames": "90-200"}, "frames 1 to 96"), ({"frames": "x"}, "can&#39;t be read"), ({"from": "proof:99999"}, "Choose a proof"),
            ({"width": "wide"}, "whole number of pixels"), ({"width": "0"}, "can&#39;t be rendered"), ({"each": "soon"}, "give seconds"),
            ({"camera": "crow"}, "no camera"), ({"sampling.max": "0"}, "sampling.max"), ({"motion.caches": "some"}, "choose one of"),
        ):  # fmt: skip
            with self.subTest(wrong):
                answer = self.post("/shots/stairwell/sequences", **{**whole, **wrong})
                self.assertEqual(answer.status_code, 422)
                self.assertIn(says, answer.text)
        self.assertEqual(len(sequences.of_shot(self.db, self.shot.id)), before)

    def test_a_shot_that_stands_still_has_none(self):
        self.assertIn("stands still", self.client.get("/shots/slipway/sequences").text)
        self.assertEqual(self.post("/shots/slipway/sequences", frames="1-2").status_code, 422)
        self.assertNotIn('id="to-sequences" hidden', self.client.get("/shots/stairwell").text)
        self.assertIn("hidden", self.client.get("/shots/slipway").text.split('id="to-sequences"')[0][-60:] + " hidden")

    def test_stopped_resumed_deleted_and_taken_back(self):
        number = self.made()
        self.post(f"/sequences/{number}/cancel")
        self.assertEqual({proof.state for proof in sequences.frames_of(self.db, number)}, {"cancelled"})
        self.assertTrue(self.client.get(f"/sequences/{number}.json").json["stopped"])
        self.post(f"/sequences/{number}/resume")
        self.assertEqual({proof.state for proof in sequences.frames_of(self.db, number)}, {"waiting"})
        self.post(f"/sequences/{number}/delete")
        self.assertEqual(self.client.get(f"/sequences/{number}.json").status_code, 404)
        self.post(f"/sequences/{number}/restore")
        self.assertEqual(self.client.get(f"/sequences/{number}.json").json["done"], 0)
        self.post(f"/sequences/{number}/delete")
        self.assertEqual(sequences.deleted(self.db, self.shot.id), 1)
        self.assertEqual(self.post("/shots/stairwell/empty").status_code, 200)
        self.assertEqual((sequences.deleted(self.db, self.shot.id), sequences.frames_of(self.db, number)), (0, []))

    def test_the_queue_shows_a_sequence_as_one_line(self):
        self.made(name="Long one")
        page = self.client.get("/queue").text
        self.assertEqual(page.count("Long one"), 1)
        self.assertIn("frame 10 and 4 more", page)


class InMotion(SequencesTest):
    def test_ladders_and_matches_of_a_moving_shot_can_be_judged_in_motion(self):
        still = proofs.of_shot(self.db, shots.find(self.db, "slipway").id)[0]
        moving = proofs.of_shot(self.db, self.shot.id)[0]
        for kind in ("ladder", "match"):
            self.assertIn("Judge them in motion", self.client.get(f"/proofs/{moving.id}/{kind}").text)
            self.assertNotIn("Judge them in motion", self.client.get(f"/proofs/{still.id}/{kind}").text)
            asked = {"key": "sampling.max", "values": "2,4", "seconds": "5", "per_degree": "67", "ways": ["brute_force", "off"], "in_motion": "yes"}
            answer = self.post(f"/proofs/{moving.id}/{kind}", **asked)
            self.assertEqual(answer.status_code, 200, answer.text)
            self.assertTrue(tunings.of_proof(self.db, moving.id, kind)[0].asked["in_motion"])


class Shown(SequencesTest):
    def test_a_remedy_is_held_to_what_it_promised(self):
        number = self.made()
        frames = sequences.frames_of(self.db, number)
        remedy = {"title": "share", "changes": {"motion.caches": "shared"}, "level": 2.0, "seconds": 5.0, "once": 0.0, "filtered": False}
        cause = {"level": 9.0, "time": 11.0, "box": [0, 0, 9, 9], "remedies": [remedy], "suspects": [], "says": ""}
        sequences.set_cause(self.db, number, cause, None)
        child = self.post(f"/sequences/{number}/remedy", remedy="0").json["sequence"]
        self.assertIn("Not measured yet", self.client.get(f"/sequences/{child}.json").json["promise"]["says"])
        proof = next(one for one in sequences.frames_of(self.db, child) if one.frame.time == 11.0)
        path = files.flicker_path(self.data, "map")
        path.parent.mkdir(parents=True, exist_ok=True)
        np.save(path, np.full((36, 64), 2.1, np.float16))
        sequences.keep_flicker(self.db, proof.id, False, FLICKER, "map")
        promise = self.client.get(f"/sequences/{child}.json").json["promise"]
        self.assertEqual(promise["state"], "kept")
        self.assertIn("9 → 2.1, promised 2: as promised", promise["says"])
        self.assertIsNone(self.client.get(f"/sequences/{number}.json").json["promise"])
        self.assertEqual(len(frames), 5)

    def test_the_shipped_ones_play_and_tell_their_flicker(self):
        shipped = [one for one in sequences.of_shot(self.db, self.shot.id) if one.in_words == "61-72"]
        self.assertEqual(len(shipped), 3)
        state = self.client.get(f"/sequences/{shipped[0].id}.json").json
        self.assertEqual(state["done"], len(state["frames"]))
        self.assertIn("frames a second its flicker", state["says"])
        frame = next(one for one in state["frames"] if one["flicker"])
        self.assertEqual(self.client.get(f"/pictures/{frame['picture']}.half?pass=flicker").status_code, 200)
        size = state["width"] * state["height"] * 8
        self.assertEqual(len(self.client.get(f"/pictures/{frame['picture']}.half").data), size)
        self.assertEqual(len(self.client.get(f"/pictures/{frame['picture']}.half?pass=in_time").data), size)
        self.assertEqual(self.client.get(f"/pictures/{frame['picture']}.half?pass=flicker_in_time").status_code, 200)
        self.assertLess(state["in_time"]["level"], 0.3 * state["flicker"]["level"])
        lines = self.client.get(f"/sequences/{shipped[0].id}.csv").text.splitlines()
        self.assertEqual(len(lines), len(state["frames"]) + 1)

    def test_the_map_grows_brighter_with_flicker_and_turns_from_grey_where_it_is_seen(self):
        tones = flicker_tones(np.array([[0.0, 0.5, 1.0, 3.0, 10.0, 40.0, 100.0, 500.0]], np.float16))[0]
        light = tones @ [0.2126, 0.7152, 0.0722]
        self.assertTrue((np.diff(light[:7]) > 0.0).all())
        np.testing.assert_array_equal(tones[6], tones[7])
        np.testing.assert_allclose(np.ptp(tones[:3], axis=1), 0.0, atol=1e-6)
        self.assertTrue((np.ptp(tones[3:6], axis=1) > 0.1).all())

    def test_the_whole_is_the_root_mean_square_of_its_frames_and_names_the_worst(self):
        number = self.made()
        frames = sequences.frames_of(self.db, number)
        for proof, level in zip(frames[1:3], (3.0, 4.0), strict=True):
            sequences.keep_flicker(self.db, proof.id, False, {**FLICKER, "level": level}, "m")
        whole = whole_flicker(frames, sequences.flickers(self.db, number, False))
        self.assertAlmostEqual(whole["level"], (12.5) ** 0.5)
        self.assertEqual((whole["worst"], whole["place"]["object"]), (12.0, "/A/Wall"))
        self.assertIsNone(whole_flicker(frames, {}))

    def test_only_frames_about_what_is_not_judged_are_read_again(self):
        number = self.made(frames="10-16")
        shot = frames_of_room({"sampling.max": 1}, frames=(10,), size=(8, 8))
        picture = shot.render(10.0).picture
        digest = files.keep(files.pictures(self.data), ".exr", lambda path: write_exr(path, picture))
        for proof in sequences.frames_of(self.db, number):
            proofs.finish(self.db, proof.id, digest, 1.0, None, 0.0, 0)
        frames = sequences.frames_of(self.db, number)
        known = {proof.id: sequences.FrameFlicker(FLICKER, "") for proof in frames if proof.frame.time in (11.0, 12.0, 13.0)}
        wanted = [proof.frame.time for proof in frames if needed(proof, frames, known)]
        self.assertEqual(wanted, [13.0, 14.0, 15.0, 16.0])
        judge_later(self.db, sequences.get(self.db, number))
        judge_later(self.db, sequences.get(self.db, number))
        count = self.db.execute("SELECT count(*) FROM questions WHERE kind = 'judge' AND body = ?", (f'{{"sequence": {number}}}',)).fetchone()[0]
        self.assertEqual(count, 1)

    def test_a_remedy_becomes_a_sequence_made_from_it(self):
        number = self.made()
        remedies = [
            {"title": "share them", "changes": {"motion.caches": "shared", "light.Flame01.shadows.way": "traced"}, "level": 0.5, "seconds": 1.0},
            {"title": "filtered", "changes": {}, "level": 0.5, "seconds": 1.0, "filtered": True},
        ]
        sequences.set_cause(
            self.db, number, {"remedies": remedies, "suspects": [], "says": "", "box": [0, 0, 8, 8], "time": 11.0, "level": 2.0}, None
        )
        child = sequences.get(self.db, self.post(f"/sequences/{number}/remedy", remedy="0").json["sequence"])
        self.assertEqual((child.parent_id, child.recipe.motion.caches, child.name), (number, "shared", "share them"))
        self.assertEqual(child.edits.flat(), {"light.Flame01.shadows.way": "traced"})
        for wrong in ("1", "2", "-1", "x"):
            self.assertEqual(self.post(f"/sequences/{number}/remedy", remedy=wrong).status_code, 422)

    def test_exports_are_asked_for_by_kind_and_names_lead_nowhere_else(self):
        number = self.made()
        self.assertEqual(self.post(f"/sequences/{number}/export", **{"as": "mp4"}).status_code, 422)
        question = self.post(f"/sequences/{number}/export", **{"as": "webm", "filtered": "1"}).json["question"]
        taken = requests.take(self.db)
        self.assertEqual((taken[0], taken[3]), (question, {"sequence": number, "filtered": True, "as": "webm"}))
        for name in ("../secret", "..", ".hidden", "a/b", "raw.webm"):
            self.assertEqual(self.client.get(f"/sequences/{number}/export/{name}").status_code, 404)
        self.assertIsNone(files.export_path(self.data, number, "../x"))

    def test_a_prediction_is_asked_with_the_forms_recipe(self):
        question = self.post("/shots/stairwell/sequences/predict", **{"frames": "1-9", "from": "start:exterior", "width": "32", "height": "18"})
        self.assertEqual(question.status_code, 200, question.text)
        taken = requests.take(self.db)
        self.assertEqual((taken[1], taken[3]["frames"], taken[3]["size"]), ("predict", "1-9", [32, 18]))

    def test_numbers_of_a_proof_of_a_moving_shot(self):
        answer = self.prove("stairwell", camera="climb", time="48")
        self.assertEqual(answer.status_code, 200, answer.text)
        newest = proofs.of_shot(self.db, self.shot.id)[-1]
        self.assertEqual(newest.frame.time, 48.0)
        self.assertIn("frame", self.client.get(f"/shots/stairwell/recipe?proof={newest.id}").text)
        self.assertEqual(self.prove("stairwell", camera="climb", time="soon").status_code, 422)

    def test_light_is_as_it_was_kept(self):
        path = files.flicker_path(self.data, "abc")
        path.parent.mkdir(parents=True, exist_ok=True)
        np.save(path, np.ones((2, 3), np.float16))
        self.assertEqual(self.client.get("/pictures/" + "a" * 64 + ".half?pass=flicker").status_code, 404)
        self.assertEqual(Recipe().motion.caches, "each")
