"""What the eye sees of a difference, in words; what a pin reads; how long a render will take."""

import unittest
from dataclasses import replace

import numpy as np

from sivrel.core.errors import InputError
from sivrel.core.measure.cost import Timed, forecast, guess_seconds, how_good
from sivrel.core.measure.difference import compare
from sivrel.core.measure.pins import LEAST_SIDE, read_pin
from sivrel.core.measure.verdict import judge, where_in
from sivrel.core.pictures.exr import Picture
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, with_values

OBJECTS = ["/Room/Wall", "/Room/Stair/Corner"]


def picture(level=0.2, size=(96, 64), patch=None, by=1.0, noise=0.0, seed=0, region=None) -> Picture:
    """A grey picture; its right half is the second object; `patch` (rows, columns) is brighter by a factor; grain of a standard error."""
    frame = Frame(*size, region)
    x0, y0, x1, y1 = frame.window
    beauty = np.ones((y1 - y0, x1 - x0, 4), np.float32)
    beauty[..., :3] = level
    if patch:
        beauty[(*patch, slice(0, 3))] *= by
    grain = np.random.default_rng(seed).normal(0.0, 1.0, beauty.shape[:2])[..., None]
    beauty[..., :3] = np.maximum(beauty[..., :3] + noise * grain, 0.0)
    numbers = np.zeros((*beauty.shape[:2], 1), np.float32)
    numbers[:, max(0, size[0] // 2 - x0) :] = 1
    variance = np.full((*beauty.shape[:2], 3), noise**2, np.float32)
    return Picture({"beauty": beauty, "object": numbers, "variance": variance}, frame, objects=OBJECTS)


class Verdicts(unittest.TestCase):
    def test_the_same_picture_is_seen_by_nobody(self):
        verdict = judge(picture(), picture())
        self.assertEqual((verdict.places, verdict.share, verdict.visible), ([], 0.0, 0.0))
        self.assertTrue(verdict.sentence.startswith("No visible difference"))

    def test_a_patch_is_placed_and_named_with_what_it_does_to_the_light(self):
        verdict = judge(picture(), picture(patch=(slice(48, 60), slice(78, 90)), by=1.5))
        place = verdict.places[0]
        self.assertEqual((place.name, place.where, place.grain), ("Corner", "lower right", False))
        self.assertIn("except here: Corner, lower right (+", verdict.sentence)
        left, top, right, bottom = place.box
        self.assertTrue(left <= 78 and top <= 48 and right >= 90 and bottom >= 60)
        self.assertLess(verdict.share, 0.1)

    def test_the_lighter_is_distinguished_from_the_darker(self):
        first, second = picture(), picture(level=0.1)
        darker, lighter = judge(first, second).places[0], judge(second, first).places[0]
        self.assertAlmostEqual(darker.light, 0.5, places=3)
        self.assertAlmostEqual(lighter.light, 2.0, places=3)
        self.assertEqual(darker.where, "over most of the picture")

    def test_grain_is_called_grain(self):
        verdict = judge(picture(noise=0.08, seed=1), picture(noise=0.08, seed=2))
        self.assertTrue(verdict.places)
        self.assertTrue(all(place.grain for place in verdict.places))
        self.assertIn("only by grain", verdict.sentence)

    def test_light_under_grain_is_not_called_grain(self):
        verdict = judge(picture(noise=0.02, seed=1), picture(level=0.26, noise=0.02, seed=2))
        self.assertFalse(verdict.places[0].grain)
        self.assertAlmostEqual(verdict.places[0].light, 1.3, delta=0.02)

    def rare(self, seed: int, found: float = 0.02, samples: int = 16) -> Picture:
        """A picture whose light few samples find, each much: standard errors are those of such a render."""
        rng = np.random.default_rng(seed)
        finds = rng.binomial(samples, found, (64, 96)).astype(float)
        value = 0.2 / found / samples
        made = picture()
        light = finds * value
        made.passes["beauty"][..., :3] = light[..., None]
        spread = np.maximum(finds * (value * samples) ** 2 / samples - light**2, 0.0) / (samples - 1)
        made.passes["variance"][:] = spread[..., None]
        made.passes["samples"] = np.full((64, 96, 1), samples, np.float32)
        return made

    def test_seeds_alone_are_never_a_change_however_rare_the_light(self):
        for seed in range(40):
            verdict = judge(self.rare(2 * seed, 0.02 if seed % 2 else 0.3), self.rare(2 * seed + 1, 0.02 if seed % 2 else 0.3))
            self.assertTrue(all(place.grain for place in verdict.places), (seed, verdict.sentence))

    def test_a_lamp_that_turns_orange_at_the_same_luminance(self):
        for noise in (0.0, 0.02, 0.08):
            before, after = picture(noise=noise, seed=1), picture(noise=noise, seed=2)
            after.passes["beauty"][..., :3] *= np.array([1.45, 0.9, 0.65]) / (np.array([1.45, 0.9, 0.65]) @ (0.2126, 0.7152, 0.0722))
            verdict = judge(before, after)
            self.assertFalse(verdict.places[0].grain, noise)
            self.assertIn("warmer", verdict.places[0].said)
            self.assertAlmostEqual(verdict.places[0].light, 1.0, delta=0.02)

    def test_a_pattern_that_is_lost_under_grain_at_the_same_light(self):
        """Chrome that is made matte: the object has the light that it had, distributed differently."""
        before, after = picture(noise=0.05, seed=1), picture(noise=0.05, seed=2)
        y, x = np.mgrid[:64, :96]
        checks = np.where((x // 8 + y // 8) % 2 == 0, 1.25, 0.75)[:, 48:, None]
        before.passes["beauty"][:, 48:, :3] *= checks
        verdict = judge(before, after)
        self.assertFalse(verdict.places[0].grain)
        self.assertEqual({place.name for place in verdict.places}, {"Corner"})
        self.assertIn("distributed differently", " ".join(place.said for place in verdict.places))

    def test_each_object_is_distinguished(self):
        before, after = picture(noise=0.02, seed=1), picture(noise=0.02, seed=2)
        after.passes["beauty"][:, :48, :3] *= 1.3
        after.passes["beauty"][:, 48:, :3] *= 0.7
        result = {place.name: place.light for place in judge(before, after).places}
        self.assertAlmostEqual(result["Wall"], 1.3, delta=0.03)
        self.assertAlmostEqual(result["Corner"], 0.7, delta=0.03)

    def test_an_object_that_is_gone_is_missed_however_alike_its_light_and_edges_that_jitter_are_not(self):
        before, after = picture(noise=0.08, seed=1), picture(noise=0.08, seed=2)
        before.passes["object"][20:36, 60:76] = 0
        verdict = judge(before, after)
        self.assertFalse(verdict.places[0].grain)
        self.assertEqual(verdict.places[0].name, "Corner")
        rng = np.random.default_rng(5)
        for made in (before, after):  # first samples fall on either side of an edge
            made.passes["object"][:] = 0
            made.passes["object"][:, 48:] = 1
            made.passes["object"][:, 46:50, 0] = rng.integers(0, 2, (64, 4))
        self.assertTrue(all(place.grain for place in judge(before, after).places))

    def test_an_object_whose_grain_is_another(self):
        before, after = picture(noise=0.02, seed=1), picture(noise=0.02, seed=2)
        for made in (before, after):
            made.passes["samples"] = np.full((64, 96, 1), 16, np.float32)
            made.passes["object"][:, :72] = 0
        after.passes["variance"][:, 72:] *= 9.0
        verdict = judge(before, after)
        self.assertEqual([place.name for place in verdict.places], ["Corner"])
        self.assertIn("its grain has changed", verdict.sentence)

    def test_grain_says_what_it_would_hide(self):
        verdict = judge(picture(noise=0.08, seed=1), picture(noise=0.08, seed=2))
        self.assertRegex(verdict.sentence, r"hide a change of light below about \d")

    def test_it_is_seen_as_the_camera_exposes_unless_set_otherwise(self):
        before, after = picture(level=0.004), picture(level=0.0012)
        self.assertEqual(judge(before, after).places, [], "black on black at no exposure")
        before.exposure = 6.0
        self.assertAlmostEqual(judge(before, after).places[0].light, 0.3, delta=0.01)
        self.assertEqual(judge(before, after, 0.0).places, [])

    def test_a_region_is_judged_against_the_whole_where_they_meet(self):
        whole = picture(patch=(slice(4, 14), slice(78, 90)), by=1.5)
        part = picture(region=(50, 0, 96, 40))
        verdict = judge(whole, part)
        self.assertEqual(verdict.window, (50, 0, 96, 40))
        self.assertAlmostEqual(verdict.places[0].light, 1 / 1.5, delta=0.15)  # the place reaches a little past the patch
        self.assertEqual(verdict.places[0].where, "upper right")
        self.assertAlmostEqual(compare(part, picture()).mean_light, 1.0)
        self.assertEqual(judge(part, picture(size=(48, 32))).window, (25, 0, 48, 20))  # of one shape: in the pixels of the coarser
        for other in (picture(region=(0, 50, 40, 60)), picture(size=(48, 40))):
            with self.assertRaisesRegex(InputError, "different pixels"):
                judge(part, other)

    def test_two_levels_of_255_are_not_seen(self):
        step = picture(patch=(slice(20, 44), slice(30, 60)), by=1.012)
        self.assertEqual(judge(picture(), step).places, [])

    def test_places_in_words(self):
        for at, words in (((0.1, 0.1), "upper left"), ((0.5, 0.5), "in the middle"), ((0.9, 0.5), "lower"), ((0.5, 0.9), "right")):
            self.assertEqual(where_in(*at, 0.01), words)


class Pins(unittest.TestCase):
    def test_a_box_is_the_mean_of_its_pixels(self):
        seen = picture(patch=(slice(16, 32), slice(24, 48)), by=3.0)
        inside = read_pin(seen, (0.25, 0.25, 0.5, 0.5))
        self.assertEqual(inside.pixels, 24 * 16)
        np.testing.assert_allclose(inside.colour, 0.6, rtol=1e-5)
        self.assertAlmostEqual(inside.luminance, 0.6, places=5)
        half = read_pin(seen, (0.25, 0.0, 0.5, 0.5))
        self.assertAlmostEqual(half.luminance, 0.4, places=5)

    def test_a_spot_is_read_as_a_few_pixels_and_noise_against_its_light(self):
        reading = read_pin(picture(noise=0.02), (0.5, 0.5, 0.5, 0.5))
        self.assertEqual(reading.pixels, LEAST_SIDE**2)
        self.assertAlmostEqual(reading.noise, 0.02 / reading.luminance, delta=0.002)
        self.assertIsNone(reading.visible)

    def test_what_lies_outside_the_region_is_not_read(self):
        part = picture(region=(0, 0, 40, 40))
        self.assertIsNone(read_pin(part, (0.6, 0.7, 0.8, 0.9)))
        self.assertEqual(read_pin(part, (0.25, 0.25, 0.75, 0.75)).pixels, (40 - 24) * (40 - 16))

    def test_the_visible_change_is_that_of_the_box_alone(self):
        before, after = picture(), picture(patch=(slice(40, 60), slice(60, 90)), by=1.6)
        changed = read_pin(after, (0.7, 0.7, 0.85, 0.85), before)
        still = read_pin(after, (0.1, 0.1, 0.2, 0.2), before)
        self.assertGreater(changed.visible, 0.15)
        self.assertAlmostEqual(still.visible, 0.0, places=4)


class Costs(unittest.TestCase):
    def timed(self, seconds: float, size=(100, 100), camera="c", **values) -> Timed:
        return Timed(with_values(Recipe(), {k.replace("__", "."): v for k, v in values.items()}), Frame(*size), camera, seconds)

    def test_time_grows_with_pixels_and_samples(self):
        past = [self.timed(2.0, sampling__max=10)]
        wanted = with_values(Recipe(), {"sampling.max": 40})
        self.assertAlmostEqual(guess_seconds(wanted, Frame(200, 100), "c", past), 16.0)
        self.assertAlmostEqual(guess_seconds(wanted, Frame(100, 100, (0, 0, 50, 100)), "c", past), 4.0)

    def test_the_most_alike_is_believed(self):
        past = [self.timed(1.0, gi__seen="off"), self.timed(8.0), self.timed(1.0, gi__seen="ambient")]
        self.assertAlmostEqual(guess_seconds(with_values(Recipe(), {"gi.seen": "off"}), Frame(100, 100), "c", past), 1.0)
        self.assertAlmostEqual(guess_seconds(Recipe(), Frame(100, 100), "c", [past[0]] * 5 + [past[1]] * 3), 8.0)

    def test_recipes_that_split_otherwise_are_made_up_for_by_rays(self):
        past = [self.timed(1.0)]
        more = forecast(with_values(Recipe(), {"sampling.gi_rays": 8}), Frame(100, 100), "c", past)
        self.assertTrue(2.0 < more.seconds < 9.0, more)
        self.assertEqual((more.apart, more.alike), (1, 1))
        self.assertGreater(more.high / more.low, 2.0, "one render of another recipe is little to go by")

    def test_the_band_is_that_of_past_forecasts(self):
        rng = np.random.default_rng(4)
        for spread in (0.02, 0.3):
            past = [self.timed(float(np.exp(rng.normal(0.0, spread)))) for _ in range(20)]
            result = forecast(Recipe(), Frame(100, 100), "c", past)
            inside = np.mean([result.low < seconds < result.high for seconds in np.exp(rng.normal(0.0, spread, 2000))])
            self.assertTrue(0.6 < inside, (spread, inside))
            self.assertAlmostEqual(result.seconds, 1.0, delta=2.5 * spread)
            self.assertLess(result.high / result.low, 1.3 if spread < 0.1 else 4.0)

    def test_a_noise_target_takes_as_the_square_of_it_and_a_time_takes_that_time(self):
        aimed = {"sampling__noise_target": 8.0, "sampling__max": 1024}
        past = [replace(self.timed(2.0, **aimed), samples=40.0, preparing=3.0)]
        half = with_values(past[0].recipe, {"sampling.noise_target": 4.0})
        self.assertAlmostEqual(forecast(half, Frame(100, 100), "c", past).seconds, 8.0 + 3.0, places=5)
        timed = with_values(Recipe(), {"sampling.seconds": 30.0})
        self.assertAlmostEqual(forecast(timed, Frame(100, 100), "c", [self.timed(1.0)]).seconds, 30.0)

    def test_what_a_recipe_has_made_ready_is_found_again(self):
        past = [replace(self.timed(2.0), preparing=30.0), replace(self.timed(2.0), preparing=0.5)]
        self.assertAlmostEqual(forecast(Recipe(), Frame(100, 100), "c", past).preparing, 0.5)
        other = forecast(with_values(Recipe(), {"gi.seen": "photon_map"}), Frame(100, 100), "c", past)
        self.assertGreater(other.preparing, 5.0, "of another recipe nothing may be kept")

    def test_nothing_timed_is_no_guess_and_guesses_are_judged(self):
        self.assertIsNone(guess_seconds(Recipe(), Frame(), "c", []))
        self.assertAlmostEqual(how_good([(1.0, 2.0), (3.0, 2.0), (2.0, 2.0), (4.0, 2.0)]), 0.5)
        self.assertIsNone(how_good([]))


if __name__ == "__main__":
    unittest.main()
