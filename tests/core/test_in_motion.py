"""Ladders, matches and advice of a moving shot, judged by its flicker."""

import tempfile
import unittest
from pathlib import Path

import sivrel
from sivrel.core.errors import InputError
from sivrel.core.tune.candidates import candidate, usual
from tests.moving import write_usda

VIEW = {"size": (96, 54)}


class InMotion(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.folder.cleanup)
        cls.path = write_usda(Path(cls.folder.name) / "walk.usda", frames=8)
        cls.shot = sivrel.open(cls.path, frame=4.0)

    def test_flicker_falls_as_grain_does_and_the_ladder_says_where_it_is_hidden(self):
        made = self.shot.ladder({"sampling.max": [4, 16, 64]}, {"shadows.rays": 2}, seconds=8.0, in_motion=True, **VIEW)
        levels = [rung.flicker.level for rung in made.rungs]
        for few, more in zip(levels, levels[1:], strict=False):  # grain's standard deviation halves with four times the samples
            self.assertAlmostEqual(few / more, 2.0, delta=0.4)
        self.assertFalse(made.rungs[0].flicker.hidden)
        self.assertIsNone(made.take)  # what flickers is not enough, however alike the stills look
        self.assertRegex(made.says, r"In motion it flickers [\d.]+ times what is just seen")
        self.assertAlmostEqual(made.as_dict()["rungs"][1]["flicker"]["level"], levels[1], places=3)

    def test_a_region_whose_contents_leave_it_is_refused_and_not_called_calm(self):
        with self.assertRaisesRegex(InputError, "choose a larger region"):
            self.shot.ladder({"sampling.max": [2, 4]}, {"gi.seen": "off"}, seconds=2.0, in_motion=True, **VIEW, region=(2, 2, 5, 5))

    def test_a_still_ladder_measures_none(self):
        made = self.shot.ladder({"sampling.max": [4, 8]}, {"gi.seen": "off"}, seconds=2.0, **VIEW)
        self.assertIsNone(made.rungs[0].flicker)
        self.assertNotIn("flicker", made.says)

    def test_a_match_tells_shared_caches_from_those_of_each_frame(self):
        recipe = {"irradiance_cache.rays": 32, "shadows.rays": 4, "motion.keys": 3}
        made = self.shot.match(["brute_force", "irradiance_cache", "irradiance_cache+shared"], recipe, seconds=2.0, in_motion=True, **VIEW)
        of = {one.candidate.name: one for one in made.entrants}
        self.assertLess(of["irradiance_cache+shared"].flicker.level, 0.6 * of["irradiance_cache"].flicker.level)
        self.assertTrue(of["irradiance_cache"].each_frame)
        self.assertFalse(of["irradiance_cache+shared"].each_frame)
        self.assertIn("In motion its flicker is", made.says)

    def test_advice_for_the_moving_shot_comes_from_trials(self):
        made = self.shot.advise({"motion.keys": 3}, seconds=4.0, **VIEW).recipes[2]
        self.assertEqual(made.purpose, "Moving shot")
        self.assertIn("and its flicker is", made.says)
        self.assertIn("In three neighbouring frames", made.choices[0].because)
        self.assertGreater(made.values["sampling.max"], 0)

    def test_candidates_name_how_caches_go_through_time(self):
        one = candidate("irradiance_cache/radiance_cache+kept", sivrel.Recipe())
        self.assertEqual(one.values["motion.caches"], "kept")
        self.assertIn("irradiance_cache+shared", usual(moves=True))
        self.assertNotIn("irradiance_cache+shared", usual())

    def test_a_shot_that_stands_still_is_refused_in_a_sentence(self):
        still = Path(self.folder.name) / "still.usda"
        still.write_text(self.path.read_text().replace("endTimeCode = 8", "endTimeCode = 1"))
        with self.assertRaisesRegex(InputError, "stands still"):
            sivrel.open(still).ladder({"sampling.max": [2, 4]}, seconds=2.0, in_motion=True, **VIEW)
