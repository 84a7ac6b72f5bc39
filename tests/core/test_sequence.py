"""Frames of a moving shot: their names, their grain, what they share, why they flicker, and films of them."""

import tempfile
import unittest
from pathlib import Path

import av
import numpy as np

from sivrel.core.errors import InputError
from sivrel.core.measure.flicker import screen_luminance
from sivrel.core.pictures.video import write_video
from sivrel.core.render.filter import filter_noise
from sivrel.core.render.frame import Frame, seed_of_samples
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.through_time import around, spread
from sivrel.core.scene.model import FrameRange
from sivrel.core.sequence.cause import find_cause
from sivrel.core.sequence.filter_in_time import join_filtered
from sivrel.core.sequence.frames import every_frame, frames_in_words, parse_frames
from sivrel.core.sequence.predict import predict
from sivrel.core.sequence.promise import level_in, promise_in_words, promise_of
from sivrel.core.sequence.trials import MotionTrials, boxes_of
from tests.moving import judged, levels, sequence

OF = FrameRange(1.0, 96.0)
RECORDS = {"gi.seen": "irradiance_cache", "irradiance_cache.rays": 16, "sampling.max": 32, "shadows.rays": 4}


class Names(unittest.TestCase):
    def test_ranges_steps_and_lists_are_read_and_written_back(self):
        for text, numbers in (
            ("1-4", [1, 2, 3, 4]),
            ("1-96x40", [1, 41, 81]),
            ("7", [7]),
            ("3, 7,20-22", [3, 7, 20, 21, 22]),
            ("5,5,4-6", [4, 5, 6]),
        ):
            found = parse_frames(text, OF)
            self.assertEqual(list(found), [float(n) for n in numbers])
            self.assertEqual(parse_frames(frames_in_words(found)), found)
        self.assertEqual(parse_frames("", OF), every_frame(OF))
        self.assertEqual(parse_frames("-2-2"), (-2.0, -1.0, 0.0, 1.0, 2.0))

    def test_what_can_not_be_is_refused_in_a_sentence(self):
        for text, says in (("1-", "can't be read"), ("a", "can't be read"), ("9-3", "backwards"), ("1-5x0", "backwards"), ("90-97", "frames 1 to 96"),
                           ("0", "frames 1 to 96"), ("1-9999999", "frames 1 to 96")):  # fmt: skip
            with self.assertRaisesRegex(InputError, says):
                parse_frames(text, OF)
        with self.assertRaisesRegex(InputError, "more than"):
            parse_frames("1-9999999")

    def test_frames_spread_and_neighbours(self):
        self.assertEqual(spread((1.0, 2.0, 3.0, 4.0, 5.0), 3), [1.0, 3.0, 5.0])
        self.assertEqual(spread((1.0, 2.0, 3.0), 8), [1.0, 2.0, 3.0])
        self.assertEqual(spread((1.0, 2.0, 3.0), 1), [2.0])
        self.assertEqual(around((1.0, 2.0, 3.0), 3.0), [2.0, 3.0])


class Grain(unittest.TestCase):
    def test_each_frame_has_its_own_unless_it_is_held(self):
        new, held = Recipe(), with_values(Recipe(), {"motion.grain": "held"})
        seeds = {seed_of_samples(new, Frame(seed=3, time=time)) for time in (1.0, 2.0, 3.0)}
        self.assertEqual(len(seeds), 3)
        self.assertEqual({seed_of_samples(held, Frame(seed=3, time=time)) for time in (1.0, 2.0, None)}, {3})
        self.assertEqual(seed_of_samples(new, Frame(seed=3)), 3)

    def test_a_frame_is_the_same_whatever_was_rendered_before_it(self):
        values = {**RECORDS, "sampling.max": 4, "motion.caches": "shared", "motion.keys": 2}
        alone = sequence(values, pan=0.02).render(3.0).picture.beauty
        after = sequence(values, pan=0.02)
        for time in (2.0, 1.0):
            after.render(time)
        np.testing.assert_array_equal(after.render(3.0).picture.beauty, alone)


class Shared(unittest.TestCase):
    def notes(self, values: dict, frames=(1, 2, 3)):
        shot = sequence({**RECORDS, "sampling.max": 1, **values}, frames=frames, pan=0.02)
        return [{note.way: note for note in shot.prepared(time).ways} for time in shot.frames]

    def test_shared_records_are_the_same_in_every_frame_and_say_so(self):
        made = self.notes({"motion.caches": "shared", "motion.keys": 2})
        self.assertEqual(len({one["irradiance_cache"].digest for one in made}), 1)
        self.assertIn("gathered from the frames 1, 3", made[0]["irradiance_cache"].through)

    def test_each_frame_makes_its_own_where_nothing_else_is_said(self):
        made = self.notes({})
        self.assertEqual(len({one["irradiance_cache"].digest for one in made}), 3)
        self.assertEqual({one["irradiance_cache"].through for one in made}, {""})

    def test_blended_ones_are_those_of_the_frame_and_its_neighbours(self):
        own = [one["irradiance_cache"].count for one in self.notes({})]
        made = [one["irradiance_cache"].count for one in self.notes({"motion.caches": "blended"})]
        self.assertEqual(made, [own[0] + own[1], sum(own), own[1] + own[2]])

    def test_joined_photons_carry_the_light_of_one_frame(self):
        photons = {"gi.seen": "photon_map", "photon_map.final_gather_rays": 0, "photon_map.count": 60_000, "photon_map.radius": 0.25}
        values = {**photons, "sampling.max": 16}
        for lamp in (0.0, 0.002):  # where nothing moves they are the same; else they are joined
            light = [sequence({**values, "motion.caches": caches}, lamp=lamp).render(2.0) for caches in ("each", "blended", "shared")]
            np.testing.assert_allclose([one.mean_light for one in light], light[0].mean_light, rtol=1e-9 if lamp == 0.0 else 0.02)
            counts = [note.count for one in light for note in one.ready.ways]
            self.assertEqual(counts[1] > 2 * counts[0], lamp > 0.0)

    def test_a_bake_is_that_of_one_frame(self):
        baked = {"gi.seen": "baked", "baked.max_edge": 1.0, "baked.shots": 2000, "baked.samples": 1, "motion.caches": "shared", "motion.keys": 3}
        made = self.notes(baked)
        self.assertEqual(len({one["baked"].digest for one in made}), 1)
        self.assertIn("made for frame 2", made[0]["baked"].through)


class Causes(unittest.TestCase):
    def cause(self, values: dict, **motion: float):
        shot = sequence(values, frames=range(1, 8), size=(64, 48), **motion)
        trials = MotionTrials(shot, 4.0, [(8, 4, 56, 44)], rate=24.0, exposure=0.0, first=1.0, last=7.0, count=4)
        return find_cause(trials, 1.0)

    def test_grain_is_named_and_more_samples_foretold(self):
        found = self.cause({"sampling.max": 16}, pan=0.01)
        self.assertEqual(found.first.key, "grain")
        self.assertGreater(found.first.share, 0.8)
        more = next(one for one in found.remedies if "samples" in one.title)
        self.assertAlmostEqual(more.seconds, more.changes["sampling.max"] / 16.0, delta=0.5)
        self.assertLess(more.level, found.level)

    def test_records_made_anew_are_named_and_shared_ones_offered(self):
        found = self.cause(RECORDS, pan=0.02)
        self.assertEqual(found.first.key, "caches")
        self.assertEqual({one.key: one.state for one in found.suspects}["grain"], "struck")
        shared = next(one for one in found.remedies if one.changes.get("motion.caches") == "shared")
        self.assertLess(shared.level, 0.6 * found.level)
        self.assertIn("made anew for each frame", found.says)

    def test_what_is_steady_has_no_cause(self):
        found = self.cause({"gi.seen": "off", "sampling.max": 256, "shadows.rays": 16, "motion.grain": "held"})
        self.assertIsNone(found.first)
        self.assertIn("not seen", found.says)


class Predicted(unittest.TestCase):
    def test_boxes_are_as_many_as_asked_and_lie_in_the_picture(self):
        for width, height in ((320, 180), (64, 36), (20, 10)):
            boxes = boxes_of(width, height, 3)
            self.assertTrue(boxes)
            for x0, y0, x1, y1 in boxes:
                self.assertTrue(0 <= x0 < x1 <= width and 0 <= y0 < y1 <= height)

    def test_it_is_what_the_whole_frames_do(self):
        shot = sequence({"sampling.max": 16}, frames=range(1, 6), size=(128, 96), pan=0.01)
        trials = MotionTrials(shot, 3.0, boxes_of(128, 96, 1), rate=24.0, exposure=0.0, first=1.0, last=5.0, count=3)
        made = predict(trials)
        self.assertAlmostEqual(made.level / float(np.sqrt((levels(shot) ** 2).mean())), 1.0, delta=0.35)
        self.assertGreater(made.samples, 1.0)


class InTime(unittest.TestCase):
    def test_still_frames_stay_as_sharp_and_their_grain_falls(self):
        shot = sequence({"sampling.max": 8}, frames=range(1, 6))
        passes = [shot.render(time).passes for time in shot.frames]
        alone = [filter_noise(one) for one in passes]
        joined = join_filtered(passes, alone, 2)
        sharp = [float(np.abs(np.diff(screen_luminance(one.image, 0.0), axis=1)).mean()) for one in (alone[2], joined)]
        self.assertAlmostEqual(sharp[1] / sharp[0], 1.0, delta=0.1)
        reference = sequence({"sampling.max": 1024}, frames=(3,)).render(3.0).picture.beauty[..., :3]
        errors = [float(np.sqrt(np.mean((screen_luminance(one.image, 0.0) - screen_luminance(reference, 0.0)) ** 2))) for one in (alone[2], joined)]
        self.assertLess(errors[1], errors[0])
        self.assertLess(joined.level, alone[2].level)

    def test_moving_frames_flicker_less(self):
        shot = sequence({"sampling.max": 8}, frames=range(1, 7), pan=0.03)
        alone, in_time = [one.flicker for one in judged(shot) if one.flicker], [one.flicker for one in judged(shot, filtered=True) if one.flicker]
        self.assertLess(np.mean([one.level for one in in_time]), 0.3 * np.mean([one.level for one in alone]))


class Films(unittest.TestCase):
    def test_a_film_has_all_frames_in_order_at_its_rate(self):
        greys = (30, 90, 150, 210)
        pictures = [np.full((36, 64, 3), grey, np.uint8) for grey in greys]
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "film.webm"
            self.assertEqual(write_video(path, pictures, 24.0), 4)
            with av.open(str(path)) as film:
                self.assertIn("vp9", film.streams.video[0].codec_context.name)
                shown = [frame.to_ndarray(format="rgb24").mean() for frame in film.decode(video=0)]
                self.assertAlmostEqual(float(film.streams.video[0].average_rate), 24.0, places=3)
        np.testing.assert_allclose(shown, greys, atol=4.0)
        for name, frames, says in (("film.mp4", pictures, "WebM"), ("film.webm", [], "no frames")):
            with self.assertRaisesRegex(InputError, says):
                write_video(Path("/tmp") / name, frames, 24.0)


class Promises(unittest.TestCase):
    PROMISED = promise_of({"level": 8.0, "time": 3.0, "box": [0, 0, 4, 4]}, {"level": 2.0, "seconds": 5.0})

    def test_what_became_of_a_remedy_is_reported_in_words(self):
        expected = {1.9: ("kept", "as promised"), 1.2: ("better", "better than promised"), 4.0: ("short", "less than promised"),
                    7.9: ("failed", "did not help")}  # fmt: skip
        for level, (state, words) in expected.items():
            said = promise_in_words(self.PROMISED, level, 6.0)
            self.assertEqual(said["state"], state)
            self.assertIn(words, said["says"])
            self.assertIn("6 s a frame instead of 5 s", said["says"])
        self.assertEqual(promise_in_words(self.PROMISED, None, None)["state"], "open")
        hidden = promise_in_words({**self.PROMISED, "level": 0.5}, 0.9, None)
        self.assertEqual(hidden["state"], "kept")  # both are not seen

    def test_the_level_is_that_of_the_place(self):
        seen = np.zeros((8, 8), np.float16)
        seen[:4, :4], seen[4:] = 3.0, 9.0
        seen[0, 0] = 0.0  # not judged
        self.assertAlmostEqual(level_in(seen, [0, 0, 4, 4]), 3.0)
        self.assertIsNone(level_in(seen, [4, 0, 8, 4]))


class Kept(unittest.TestCase):
    """Caches of which each frame renews what its light changes."""

    VALUES = {"gi.seen": "irradiance_cache", "irradiance_cache.rays": 64, "sampling.max": 8, "motion.caches": "kept", "motion.keys": 3}

    def test_where_only_the_camera_moves_they_are_the_shared_ones(self):
        kept, shared = (sequence({**self.VALUES, "motion.caches": how}, range(1, 6), pan=0.03).render(3.0) for how in ("kept", "shared"))
        np.testing.assert_array_equal(kept.film, shared.film)
        self.assertIn("shared by all frames", kept.ready.ways[0].through)

    def test_records_by_what_moves_are_made_anew_and_the_others_stay(self):
        shot = sequence(self.VALUES, range(1, 6), slide=0.05)
        notes = [shot.render(time).ready.ways[0].through for time in (1.0, 4.0)]
        for note in notes:
            self.assertRegex(
                note, r"^\d+ of \d+ records kept in all frames, since light there stays the same while Block moves; \d+ made for this frame$"
            )
        kept, of = map(int, notes[0].split(" records")[0].split(" of "))
        self.assertTrue(0 < kept < of)
        self.assertEqual(notes[0].split(";")[0], notes[1].split(";")[0])  # what stays is the same in every frame

    def test_they_follow_what_moves_and_flicker_less_than_those_of_each_frame(self):
        values = {**self.VALUES, "sampling.max": 16, "shadows.rays": 4}
        kept, each = (levels(sequence({**values, "motion.caches": how}, range(1, 6), pan=0.02, slide=0.02)).mean() for how in ("kept", "each"))
        self.assertLess(kept, 0.8 * each)

    def test_ways_that_have_no_rows_are_made_for_each_frame_where_something_moves(self):
        made = sequence({"gi.seen": "photon_map", "photon_map.count": 2000, "sampling.max": 2, "motion.caches": "kept"}, range(1, 4), slide=0.05)
        self.assertEqual(made.render(2.0).ready.ways[0].through, "")
