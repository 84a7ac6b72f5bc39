"""What pages ask of the worker, and what comes of it: questions, findings, tunings."""

import unittest

from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.errors import InputError
from sivrel.store import cameras, findings, moments, requests, tunings
from sivrel.store.requests import KEPT
from tests.store.test_store import StoreTest


class Questions(StoreTest):
    def test_the_newest_is_taken_first_and_by_one_alone(self):
        shot = self.shot()
        old, new = (requests.ask(self.db, "reach", shot.id, {"n": n}) for n in (1, 2))
        self.assertEqual(requests.take(self.db), (new, "reach", shot.id, {"n": 2}))
        self.assertEqual(requests.take(self.db)[0], old)
        self.assertIsNone(requests.take(self.db))

    def test_an_answer_comes_in_parts_and_then_whole(self):
        number = requests.ask(self.db, "survey", self.shot().id, {})
        self.assertEqual(requests.answered(self.db, number), (None, ""))
        self.assertTrue(requests.tell(self.db, number, {"share": 0.5}))
        self.assertEqual(requests.answered(self.db, number), ({"share": 0.5}, ""))
        requests.answer(self.db, number, {"findings": []})
        self.assertEqual(requests.answered(self.db, number), ({"findings": []}, ""))

    def test_what_is_called_off_is_neither_taken_nor_answered(self):
        number = requests.ask(self.db, "survey", self.shot().id, {})
        requests.call_off(self.db, number)
        self.assertIsNone(requests.take(self.db))
        self.assertFalse(requests.tell(self.db, number, {"share": 0.5}))
        requests.answer(self.db, number, {"findings": []})
        answer, problem = requests.answered(self.db, number)
        self.assertIsNone(answer)
        self.assertIn("Called off", problem)

    def test_a_problem_is_kept_and_old_questions_go(self):
        shot = self.shot()
        number = requests.ask(self.db, "reach", shot.id, {})
        requests.answer(self.db, number, None, "The lamp is gone.")
        self.assertEqual(requests.answered(self.db, number), (None, "The lamp is gone."))
        for _ in range(KEPT + 2):
            last = requests.ask(self.db, "reach", shot.id, {})
        self.assertIn("try again", requests.answered(self.db, number)[1])
        self.assertEqual(requests.answered(self.db, last), (None, ""))


class Findings(StoreTest):
    @staticmethod
    def diagnosis(*keys: str, **about) -> dict:
        return {"findings": [{"key": key, "title": f"{key} {k}"} for k, key in enumerate(keys)], "seconds": 2.0, **about}

    def test_worst_first_and_what_was_said_beside(self):
        proof = self.proof(self.shot())
        self.assertEqual(findings.of_proof(self.db, proof), (None, []))
        findings.keep(self.db, proof, self.diagnosis("grain", "leak", complete=True))
        about, kept = findings.of_proof(self.db, proof)
        self.assertEqual(about, {"seconds": 2.0, "complete": True})
        self.assertEqual([(f.key, f.place) for f in kept], [("grain", 0), ("leak", 1)])

    def test_what_is_found_again_keeps_its_number_and_its_remedies(self):
        shot = self.shot()
        proof, child = self.proof(shot), self.proof(shot)
        findings.keep(self.db, proof, self.diagnosis("grain", "leak", "leak"))
        _, (grain, leak, second) = findings.of_proof(self.db, proof)
        findings.add_retest(self.db, leak.id, child, {"says": "Thicken the wall."})
        findings.keep(self.db, proof, self.diagnosis("leak", "steps"))
        _, kept = findings.of_proof(self.db, proof)
        self.assertEqual([(f.key, f.id == leak.id) for f in kept], [("leak", True), ("steps", False)])
        self.assertEqual(kept[0].body["title"], "leak 0")
        for gone in (grain, second):
            self.assertIsNone(findings.get(self.db, gone.id))
        # A later look that does not find it leaves it to its retest.
        findings.keep(self.db, proof, self.diagnosis())
        self.assertEqual(findings.of_proof(self.db, proof)[1], [])
        self.assertIsNone(findings.get(self.db, leak.id).place)
        self.assertEqual(findings.retests_of_proof(self.db, child)[0].finding_id, leak.id)

    def test_what_is_dismissed_is_so_in_all_proofs_until_it_is_taken_back(self):
        shot = self.shot()
        findings.dismiss(self.db, shot.id, "grain whole", "it is film")
        findings.dismiss(self.db, shot.id, "leak wall", "x" * 999)
        dismissed = findings.dismissed(self.db, shot.id)
        self.assertEqual((dismissed["grain whole"], len(dismissed["leak wall"])), ("it is film", 300))
        findings.dismiss(self.db, shot.id, "grain whole", "")
        self.assertEqual(set(findings.dismissed(self.db, shot.id)), {"leak wall"})
        self.assertEqual(findings.dismissed(self.db, shot.id + 1), {})

    def test_predictions_stand_beside_what_came(self):
        shot = self.shot()
        proof, child = self.proof(shot), self.proof(shot)
        findings.keep(self.db, proof, self.diagnosis("grain"))
        (one,) = findings.of_proof(self.db, proof)[1]
        findings.add_retest(self.db, one.id, child, {"seconds": 9.0})
        self.assertEqual(findings.record(self.db), [])
        (retest,) = findings.retests_of_finding(self.db, one.id)
        findings.keep_result(self.db, retest.id, {"state": "gone"})
        (done,) = findings.record(self.db)
        self.assertEqual((done.remedy, done.result), ({"seconds": 9.0}, {"state": "gone"}))

    def test_small_pictures_are_known_by_what_mentions_them(self):
        proof = self.proof(self.shot())
        findings.keep(self.db, proof, {"findings": [{"key": "leak", "crop": "abc123"}]})
        self.assertTrue(findings.mentions(self.db, "abc123"))
        self.assertFalse(findings.mentions(self.db, "abc124"))


class Tunings(StoreTest):
    def test_what_came_so_far_stays_whatever_ends_it(self):
        proof = self.proof(self.shot())
        number = tunings.add(self.db, proof, "match", {"seconds": 20.0})
        tunings.set_question(self.db, number, 7)
        made = tunings.get(self.db, number)
        self.assertEqual((made.result, made.question, made.problem, made.asked), (None, 7, "", {"seconds": 20.0}))
        tunings.keep(self.db, number, {"entrants": [1]})
        tunings.end(self.db, number, "The disk is full.")
        made = tunings.get(self.db, number)
        self.assertEqual((made.result, made.question, made.problem), ({"entrants": [1]}, None, "The disk is full."))

    def test_newest_first_and_each_kind_for_itself(self):
        shot = self.shot()
        proof, other = self.proof(shot), self.proof(shot)
        one, two = (tunings.add(self.db, proof, "ladder", {"n": n}) for n in (1, 2))
        tunings.add(self.db, proof, "budget", {})
        tunings.add(self.db, other, "ladder", {})
        self.assertEqual([t.id for t in tunings.of_proof(self.db, proof, "ladder")], [two, one])
        self.assertIsNone(tunings.get(self.db, 999))

    def test_what_was_made_of_it_stands_with_its_prediction(self):
        shot = self.shot()
        proof, child = self.proof(shot), self.proof(shot)
        number = tunings.add(self.db, proof, "budget", {})
        tunings.apply(self.db, child, number, "budget: spread", {"seconds": 40.0})
        (applied,) = tunings.applied_of(self.db, number)
        self.assertEqual((applied.proof_id, applied.words, applied.predicted), (child, "budget: spread", {"seconds": 40.0}))


class Wishes(StoreTest):
    def test_of_many_pages_each_has_one_wish(self):
        shot = self.shot()
        first = moments.ask(self.db, "a", shot.id, {"n": 1})
        moments.ask(self.db, "b", shot.id, {"n": 2})
        again = moments.ask(self.db, "a", shot.id, {"n": 3})
        self.assertFalse(moments.is_latest(self.db, first))
        self.assertEqual((moments.take(self.db).body, moments.take(self.db).body), ({"n": 3}, {"n": 2}))
        self.assertIsNone(moments.take(self.db))
        moments.say(self.db, again, "compiling")
        self.assertEqual(moments.message(self.db, "a"), (again, "compiling"))
        moments.forget(self.db, "a")
        self.assertIsNone(moments.message(self.db, "a"))

    def test_a_kept_camera_is_never_written_over(self):
        shot = self.shot()
        close = with_edits(Edits(), {"camera.Close.at": "0,1,2"})
        cameras.keep(self.db, shot.id, "Close", close)
        with self.assertRaisesRegex(InputError, "another name"):
            cameras.keep(self.db, shot.id, "Close", Edits())
        self.assertEqual(cameras.of_shot(self.db, shot.id), {"Close": close})


if __name__ == "__main__":
    unittest.main()
