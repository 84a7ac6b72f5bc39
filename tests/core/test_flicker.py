"""Flicker: what it is of frames whose change is known, and what brings one frame onto another."""

import unittest
from dataclasses import replace

import numpy as np

from sivrel.core.errors import InputError
from sivrel.core.measure.flicker import flicker_of, measure_flicker, screen_luminance
from sivrel.core.measure.registration import onto
from sivrel.core.measure.temporal_contrast import sensitivity, weight_of_noise
from sivrel.core.sequence.judge import Judge, over_all
from sivrel.core.sequence.words import flicker_in_words
from tests.moving import at_time, judged, levels, sequence

GRAINY = {"sampling.max": 16}
RECORDS = {"gi.seen": "irradiance_cache", "irradiance_cache.rays": 16, "sampling.max": 64, "shadows.rays": 4}


class Eye(unittest.TestCase):
    def test_the_threshold_surface_is_kellys(self):
        """Equation 8 of Kelly 1979 with Daly's constants, written out at one point: 4 cycles a degree at 5 Hz."""
        v = 1.7 * 5.0 / 4.0
        turned = 0.67 * 2.0 * np.pi * 4.0
        by_hand = (6.1 + 7.3 * abs(np.log10(v / 3.0)) ** 3) * 1.14 * v * turned**2 * np.exp(-2.0 * turned * (v + 2.0) / 45.9)
        self.assertAlmostEqual(float(sensitivity(4.0, 5.0)), by_hand, places=9)

    def test_the_eye_is_best_at_a_few_cycles_and_blind_to_fine_or_fast_ones(self):
        cycles, hertz = np.meshgrid(np.geomspace(0.2, 60.0, 80), np.geomspace(0.3, 60.0, 80))
        seen = sensitivity(cycles, hertz)
        best = np.unravel_index(seen.argmax(), seen.shape)
        self.assertTrue(1.0 < cycles[best] < 6.0)
        self.assertTrue(150.0 < seen.max() < 600.0)
        self.assertLess(float(sensitivity(50.0, 6.0)), 1.0)
        self.assertLess(float(sensitivity(3.0, 55.0)), 1.0)

    def test_noise_is_weighed_as_the_sum_of_its_frequencies(self):
        """A fine sum over sines of random phase: each has its share of the variance, and twice that as its squared amplitude."""
        hertz = np.linspace(0.25, 12.0, 20_000)
        share = np.diff(hertz, append=hertz[-1]) / 12.0
        by_sum = np.sqrt((sensitivity(5.0, hertz) ** 2 * 2.0 * share).sum())
        self.assertAlmostEqual(weight_of_noise(5.0, 24.0) / by_sum, 1.0, places=2)


class OfKnownChange(unittest.TestCase):
    def measured(self, change: np.ndarray, per_degree: float = 30.0):
        grey = np.full(change.shape, 20.0)
        return flicker_of(change, grey, np.ones(change.shape, bool), 24.0, per_degree, np.zeros(change.shape), ["Wall"])

    def test_white_noise_has_its_own_contrast(self):
        random = np.random.default_rng(3)
        noise = 0.4 * random.standard_normal((3, 160, 200))
        flicker = self.measured(noise[1] - 0.5 * (noise[0] + noise[2]))
        self.assertAlmostEqual(flicker.contrast, 0.4 / 20.0, delta=0.0006)

    def test_what_is_seen_grows_with_the_change_and_with_its_size(self):
        random = np.random.default_rng(4)
        fine = random.standard_normal((128, 128))
        wide = np.kron(random.standard_normal((16, 16)), np.ones((8, 8)))
        once, twice, blotches = (self.measured(change).level for change in (fine, 2.0 * fine, wide))
        self.assertAlmostEqual(twice / once, 2.0, places=6)
        self.assertGreater(blotches, 1.2 * once)

    def test_a_place_is_named_by_its_object(self):
        change = np.zeros((120, 120))
        change[40:70, 30:80] = np.random.default_rng(5).standard_normal((30, 50)) * 4.0
        place = self.measured(change).places[0]
        x0, y0, x1, y1 = place.box
        self.assertTrue(x0 < 55 < x1 and y0 < 55 < y1)
        self.assertEqual(place.object, "Wall")


class OfRenders(unittest.TestCase):
    def test_a_still_camera_with_held_grain_does_not_flicker(self):
        found = judged(sequence({**GRAINY, "motion.grain": "held"}))
        self.assertEqual([one.flicker.level for one in found if one.flicker], [0.0])
        self.assertIn("does not flicker", flicker_in_words(over_all([(one.time, one.flicker.as_dict()) for one in found if one.flicker]), 24.0))

    def test_new_grain_flickers_as_its_noise_says(self):
        """The spread of a screen over eight seeds is an independent estimate of the contrast of one frame."""
        shot = sequence(GRAINY, frames=range(1, 9))
        made = [shot.render(time).picture for time in shot.frames]
        screens = np.stack([screen_luminance(one.beauty, one.exposure) for one in made])
        flicker = measure_flicker(*(one.passes for one in made[2:5]), exposure=made[0].exposure, per_degree=20.0)
        own = screens.std(axis=0, ddof=1)[flicker.known] / screens.mean(axis=0)[flicker.known]
        self.assertAlmostEqual(flicker.contrast / float(np.sqrt((own**2).mean())), 1.0, delta=0.15)

    def test_half_the_grain_is_half_the_flicker(self):
        few, many = (levels(sequence({"sampling.max": samples}, frames=(1, 2, 3, 4))).mean() for samples in (16, 64))
        self.assertAlmostEqual(few / many, 2.0, delta=0.35)

    def test_what_moves_evenly_is_no_flicker(self):
        """A camera that moves, a lamp that moves: against grain of as many samples the light itself changes smoothly."""
        clean = {"gi.seen": "off", "sampling.max": 64, "shadows.rays": 16}
        still = levels(sequence(clean)).mean()
        self.assertLess(levels(sequence(clean, pan=0.03)).mean(), still + 1.0)
        self.assertLess(levels(sequence(clean, lamp=0.02)).mean(), still + 1.5)

    def test_records_made_for_each_frame_flicker_and_shared_ones_do_not(self):
        each = levels(sequence(RECORDS, frames=(1, 2, 3, 4), pan=0.02)).mean()
        shared = levels(sequence({**RECORDS, "motion.caches": "shared", "motion.keys": 2}, frames=(1, 2, 3, 4), pan=0.02)).mean()
        blended = levels(sequence({**RECORDS, "motion.caches": "blended"}, frames=(1, 2, 3, 4), pan=0.02)).mean()
        self.assertLess(shared, 0.4 * each)
        self.assertLess(blended, 0.8 * each)

    def test_frames_that_do_not_follow_are_not_judged(self):
        self.assertEqual([one.flicker for one in judged(sequence(GRAINY, frames=(1, 3, 5)))], [None] * 3)
        self.assertIn("three frames", flicker_in_words(over_all([]), 24.0))

    def test_frames_without_motion_are_refused_in_a_sentence(self):
        made = sequence(GRAINY).render(1.0).passes
        plain = {name: plane for name, plane in made.items() if not name.startswith("motion")}
        with self.assertRaisesRegex(InputError, "lack the pass motion"):
            measure_flicker(plain, plain, plain)


class Registration(unittest.TestCase):
    def test_positions_of_the_other_frame_come_to_lie_on_this_ones(self):
        for moved in ({"pan": 0.05}, {"slide": 0.04}):
            with self.subTest(moved):
                shot = sequence({"gi.seen": "off", "sampling.max": 4}, size=(96, 54), **moved)
                one, other = (shot.render(time).passes for time in (1.0, 2.0))
                way = onto(one, other, later=True)
                self.assertGreater(way.known.mean(), 0.5)
                albedo = np.abs(way.bring(other["albedo"]) - one["albedo"])[way.known]
                self.assertLess(float(np.quantile(albedo, 0.99)), 0.01)
                if "pan" in moved:  # what stands still is where it was
                    apart = np.linalg.norm(way.bring(other["position"]) - one["position"], axis=2)[way.known]
                    self.assertLess(float(np.median(apart)), 0.03)  # a pixel

    def test_what_was_hidden_is_left_out(self):
        shot = sequence({"gi.seen": "off", "sampling.max": 4}, size=(96, 54), slide=0.15)
        one, other = (shot.render(time).passes for time in (1.0, 2.0))
        back = onto(other, one, later=False)
        walls = other["object"][..., 0] == 0
        # Behind where the block was, the wall comes into view: those pixels can't be known.
        came = walls & (one["object"][..., 0] == 1)
        self.assertGreater(came.sum(), 10)
        self.assertLess(float(back.known[came].mean()), 0.2)


class InOrder(unittest.TestCase):
    def test_each_frame_comes_back_once_also_over_a_gap(self):
        shot = sequence({"sampling.max": 2}, frames=(1, 2, 3, *range(7, 21)), size=(48, 27))
        for filtered in (False, True):
            found, judge = [], Judge(filtered=filtered)
            for time in shot.frames:
                found += judge.add(shot.render(time).picture)
            found += judge.finish()
            self.assertEqual([one.time for one in found], list(shot.frames))
            self.assertEqual([one.time for one in found if one.flicker is None], [1.0, 3.0, 7.0, 20.0])
            self.assertEqual([one.picture.frame.time for one in found], list(shot.frames))

    def test_the_scene_is_what_it_says(self):
        self.assertNotEqual(at_time(1.0, slide=0.1).meshes[1].vertices[0, 0, 0], at_time(2.0, slide=0.1).meshes[1].vertices[0, 0, 0])
        self.assertEqual(replace(at_time(3.0)).cameras[0].name, "Eye")
