"""What the bench keeps: the order of the queue, names and stars, what is put aside, pins, recipes, cameras, wishes of the moment."""

import unittest

from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.errors import InputError
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.starting import FIRST, STARTING
from sivrel.store import cameras, jobs, moments, pins, proofs, recipes
from tests.store.test_store import StoreTest


class Queue(StoreTest):
    def waiting(self, count: int, **how) -> list[int]:
        shot = self.shot()
        numbers = [self.proof(shot) for _ in range(count)]
        for number in numbers:
            jobs.add(self.db, number, 4, **how)
        return numbers

    def order(self) -> list[int]:
        return [job.proof_id for job, _ in jobs.queue(self.db)]

    def test_waiting_jobs_are_moved_and_stay_within_the_queue(self):
        a, b, c = self.waiting(3)
        jobs.move(self.db, c, -1)
        self.assertEqual(self.order(), [a, c, b])
        jobs.move(self.db, a, 99)
        self.assertEqual(self.order(), [c, b, a])
        jobs.move(self.db, c, -5)
        self.assertEqual(self.order(), [c, b, a])
        self.assertEqual(jobs.take(self.db).proof_id, c)

    def test_held_jobs_are_passed_over_and_a_held_queue_gives_none(self):
        a, b = self.waiting(2)
        jobs.hold(self.db, a, True)
        jobs.hold_all(self.db, True)
        self.assertIsNone(jobs.take(self.db))
        jobs.hold_all(self.db, False)
        self.assertEqual(jobs.take(self.db).proof_id, b)
        self.assertIsNone(jobs.take(self.db))
        jobs.hold(self.db, a, False)
        self.assertEqual(jobs.take(self.db).proof_id, a)

    def test_what_gives_way_comes_last_and_stands_back_while_another_waits(self):
        final, test = self.waiting(2)
        jobs.give_way(self.db, final, True)
        jobs.hold(self.db, test, True)
        job = jobs.take(self.db)
        self.assertEqual(job.proof_id, final)
        self.assertFalse(jobs.stands_back(self.db, job.id))
        jobs.hold(self.db, test, False)
        self.assertTrue(jobs.stands_back(self.db, job.id))
        jobs.stand_back(self.db, job.id)
        self.assertEqual(jobs.take(self.db).proof_id, test)
        self.assertEqual(jobs.take(self.db).proof_id, final)

    def test_guesses_are_kept_beside_what_it_took(self):
        (number,) = self.waiting(1, guess=3.0)
        job = jobs.take(self.db)
        jobs.progress(self.db, job.id, 4, 5.0, 4.0)
        jobs.end(self.db, job.id, "done")
        self.assertEqual(jobs.guesses(self.db), [(3.0, 5.0)], "a guess is of the whole render")
        proofs.finish(self.db, number, "p", 5.0, 0.1, 0.2, 0)
        timed = proofs.timed(self.db, proofs.get(self.db, number).shot_id)
        self.assertEqual([(one.seconds, one.preparing) for one in timed], [(4.0, 1.0)])


class Aside(StoreTest):
    def test_what_is_put_aside_comes_back_and_is_gone_only_when_dropped(self):
        shot = self.shot()
        a = self.proof(shot)
        b = self.proof(shot, a)
        c = self.proof(shot, b)
        for number, digest in ((a, "one"), (b, "two"), (c, "one")):
            proofs.finish(self.db, number, digest, 1.0, 0.1, 0.1, 0)
        moment = proofs.delete(self.db, [b])
        self.assertEqual([p.id for p in proofs.of_shot(self.db, shot.id)], [a, c])
        self.assertEqual(proofs.restore(self.db, shot.id, moment), 1)
        self.assertEqual([p.id for p in proofs.of_shot(self.db, shot.id)], [a, b, c])
        proofs.delete(self.db, [a, b])
        self.assertEqual(proofs.deleted(self.db, shot.id), 2)
        self.assertEqual(proofs.empty(self.db, shot.id), ["two"], "a picture that another proof has is kept")
        self.assertIsNone(proofs.get(self.db, c).parent_id)
        self.assertEqual(proofs.restore(self.db, shot.id), 0)

    def test_a_proof_dropped_between_leaves_its_children_with_its_parent(self):
        shot = self.shot()
        a = self.proof(shot)
        b = self.proof(shot, a)
        c = self.proof(shot, b)
        proofs.delete(self.db, [b])
        proofs.empty(self.db, shot.id)
        self.assertEqual(proofs.get(self.db, c).parent_id, a)

    def test_names_notes_and_stars(self):
        number = self.proof(self.shot())
        proofs.say_name(self.db, number, "  dusk  ", "warmer")
        proofs.star(self.db, number, True)
        proofs.set_focus(self.db, number, (0.1, 0.2, 0.3, 0.4))
        proof = proofs.get(self.db, number)
        self.assertEqual((proof.name, proof.note, proof.starred, proof.focus), ("dusk", "warmer", True, (0.1, 0.2, 0.3, 0.4)))


class StoredFinding(StoreTest):
    def test_pins_and_what_was_read_go_together(self):
        shot = self.shot()
        number, pin = self.proof(shot), pins.add(self.db, shot.id, "stair", (0.1, 0.1, 0.2, 0.3), "c")
        pins.keep_reading(self.db, pin, number, {"luminance": 0.5})
        pins.rename(self.db, pin, "stair corner")
        self.assertEqual([(p.name, p.box) for p in pins.of_shot(self.db, shot.id)], [("stair corner", (0.1, 0.1, 0.2, 0.3))])
        self.assertEqual(pins.readings(self.db, shot.id, [number]), {(pin, number): {"luminance": 0.5}})
        pins.remove(self.db, pin)
        self.assertEqual(pins.readings(self.db, shot.id, [number]), {})

    def test_a_named_recipe_is_never_written_over(self):
        first = with_values(Recipe(), {"sampling.max": 7})
        number = recipes.name(self.db, "Dusk", "for the blue hour", first)
        with self.assertRaisesRegex(InputError, "already a recipe"):
            recipes.name(self.db, "Dusk", "", Recipe())
        with self.assertRaises(InputError):
            recipes.name(self.db, "  ", "", Recipe())
        self.assertEqual(recipes.get(self.db, number).recipe, first)
        self.assertEqual(recipes.default(self.db), STARTING[FIRST].recipe())
        recipes.set_default(self.db, number)
        self.assertEqual(recipes.default(self.db), first)
        self.assertEqual(recipes.default(self.db, lights=48), first)
        self.assertEqual(recipes.default(self.db, lights=49), with_values(first, {"lights.seen": "chosen"}))
        recipes.remove(self.db, number)
        self.assertEqual(recipes.default(self.db), STARTING[FIRST].recipe())

    def test_the_picture_of_a_named_recipe_outlives_its_proof(self):
        shot = self.shot()
        number = self.proof(shot)
        proofs.finish(self.db, number, "seen", 1.0, 0.1, 0.1, 0)
        recipes.name(self.db, "Dusk", "", Recipe(), "seen")
        proofs.delete(self.db, [number])
        self.assertEqual(proofs.empty(self.db, shot.id), [])
        self.assertTrue(proofs.has_picture(self.db, "seen"))

    def test_kept_cameras_bring_their_edits(self):
        shot = self.shot()
        edits = with_edits(Edits(), {"camera.door.at": "0,1,2", "camera.door.towards": "0,1,0"})
        cameras.keep(self.db, shot.id, "door", edits)
        self.assertEqual(cameras.of_shot(self.db, shot.id), {"door": edits})
        with self.assertRaisesRegex(InputError, "already"):
            cameras.keep(self.db, shot.id, "door", edits)

    def test_of_a_page_only_the_latest_wish_counts(self):
        shot = self.shot()
        first = moments.ask(self.db, "aa", shot.id, {"k": 1})
        self.assertEqual(moments.take(self.db).number, first)
        self.assertTrue(moments.is_latest(self.db, first))
        second = moments.ask(self.db, "aa", shot.id, {"k": 2})
        third = moments.ask(self.db, "aa", shot.id, {"k": 3})
        self.assertFalse(moments.is_latest(self.db, first))
        self.assertGreater(third, second)
        self.assertEqual(moments.take(self.db).body, {"k": 3})
        self.assertIsNone(moments.take(self.db))
        moments.forget(self.db, "aa")
        self.assertFalse(moments.is_latest(self.db, third), "a page that has gone wants nothing")
        self.assertGreater(moments.ask(self.db, "aa", shot.id, {"k": 4}), third, "a number is never given twice")


if __name__ == "__main__":
    unittest.main()
