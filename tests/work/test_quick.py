"""Quick pictures: coarse at once, then finer; and pins read off finished proofs."""

import struct
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np

from sivrel.core.errors import Cancelled
from sivrel.core.measure.noise import LUMINANCE
from sivrel.core.pictures.exr import read_exr
from sivrel.core.render.film import ALBEDO, DIRECT, FILM_COLUMNS, NORMAL
from sivrel.core.render.filter import PARTS, learned_filter
from sivrel.core.render.frame import Frame
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.scene.model import Scene
from sivrel.core.task import Cancel, Task
from sivrel.store import database, files, pins, proofs, shots
from sivrel.store.moments import Moment
from sivrel.work.intake import add_demo_shots
from sivrel.work.live import LivePicture
from sivrel.work.moments import keep_picture as keep_moment
from sivrel.work.pins import read_pins
from sivrel.work.quick import coarser, finer_and_finer, spread, step_for, without_caches
from tests.scenes import floor, lambert, looking_down, sky


class Steps(unittest.TestCase):
    def test_a_coarser_frame_covers_the_region(self):
        frame = Frame(101, 57, (10, 11, 55, 40), 3)
        for step in (2, 4, 8):
            of = coarser(frame, step)
            x0, y0, x1, y1 = of.window
            self.assertTrue(x0 * step <= 10 and y0 * step <= 11 and x1 * step >= 55 and y1 * step >= 40)
            coarse = np.random.default_rng(0).random((y1 - y0, x1 - x0, 3))
            fine = spread(coarse, of, frame, step)
            self.assertEqual(fine.shape, (29, 45, 3))
            np.testing.assert_array_equal(fine[0, 0], coarse[11 // step - y0, 10 // step - x0])
            np.testing.assert_array_equal(fine[-1, -1], coarse[39 // step - y0, 54 // step - x0])

    def test_a_smooth_spread_is_linear_between_middles(self):
        frame, step = Frame(24, 16), 4
        of = coarser(frame, step)
        rows, columns = np.mgrid[0:4, 0:6]
        fine = spread((2.0 * rows + 3.0 * columns)[..., None].astype(np.float32), of, frame, step, smooth=True)[..., 0]
        expected = 2.0 * np.clip((np.arange(16) + 0.5) / 4 - 0.5, 0, 3)[:, None] + 3.0 * np.clip((np.arange(24) + 0.5) / 4 - 0.5, 0, 5)
        np.testing.assert_allclose(fine, expected, rtol=1e-6)

    def test_the_step_is_the_least_that_is_coarse_enough(self):
        self.assertEqual([step_for(Frame(100, 100), most) for most in (10_000, 9_999, 2_500, 600, 1)], [1, 2, 2, 8, 16])


class WithoutCaches(unittest.TestCase):
    def test_only_what_must_be_made_is_left_out(self):
        for given, expected in (
            ({}, {}), ({"gi.seen": "off"}, {}), ({"gi.seen": "ambient", "gi.beyond": "radiance_cache"}, {}),
            ({"gi.seen": "irradiance_cache", "gi.beyond": "photon_map", "limits.total": 3}, {"limits.total": 3, "gi.seen": "brute_force"}),
            ({"bidirectional.on": "yes", "guiding.on": "yes", "caustics.on": "yes"}, {}),
            ({"gi.seen": "off", "caustics.on": "yes"}, {"gi.seen": "off"}),
        ):  # fmt: skip
            plain = without_caches(with_values(Recipe(), given))
            self.assertEqual(plain.preparing(), [])
            for key, value in expected.items():
                self.assertEqual(getattr(plain.of(key.split(".")[0]), key.split(".")[1]), value)
        self.assertEqual(without_caches(Recipe()), Recipe())


class Kept(unittest.TestCase):
    def test_a_preview_says_whether_it_is_filtered(self):
        with tempfile.TemporaryDirectory() as folder:
            for filtered in (False, True):
                moment = Moment("0123abcd", 1, 7, {})
                keep_moment(Path(folder), moment, Frame(4, 3), 0.25, filtered, np.ones((3, 4, 3), np.float32))
                kept = files.moment_path(Path(folder), "0123abcd").read_bytes()
                self.assertEqual(struct.unpack_from("<7ifi", kept), (7, 4, 3, 0, 0, 4, 3, 0.25, filtered))
                self.assertEqual(len(kept), 36 + 3 * 4 * 4 * 2)


class Finer(unittest.TestCase):
    def setUp(self):
        scene = Scene("lit", [floor(2.0)], [lambert(0.5)], [sky(1.0)], cameras=[replace(looking_down(half_width=0.5), name="c")])
        self.recipe = with_values(Recipe(), {"gi.seen": "off", "sampling.max": 24})
        self.ready = prepare(scene, self.recipe)

    def pictures(self, cancel=None, step=4):
        rates = []
        found = list(finer_and_finer(self.ready, self.recipe, Frame(40, 24, (8, 4, 40, 20)), step, 2, Task(cancel=cancel), rates.append))
        return found, rates

    def test_samples_rise_to_the_recipes_and_the_mean_is_right(self):
        found, rates = self.pictures()
        self.assertEqual([samples for _, samples in found], [1 / 16, 1 / 4, 1, 2, 4, 8, 16, 24])
        for picture, _ in found:
            self.assertEqual(picture.shape, (16, 32, 3))
        # A floor of albedo 0.5 under an even sky of radiance 1 sends 0.5.
        np.testing.assert_allclose(found[-1][0].mean(), 0.5, rtol=0.01)
        self.assertLess(found[-1][0].std(), 0.5 * found[2][0].std() + 1e-6)
        self.assertTrue(all(rate > 0 for rate in rates))

    def test_it_ends_when_another_wish_comes(self):
        cancel = Cancel()
        cancel.set()
        with self.assertRaises(Cancelled):
            self.pictures(cancel)

    def test_a_held_render_goes_on_when_it_is_let_go_or_ended(self):
        cancel = Cancel()
        cancel.hold(True)
        cancel.hold(False)
        cancel.wait()
        cancel.hold(True)
        cancel.set()
        cancel.wait()


@unittest.skipUnless(learned_filter(), "the learned filter does not run here")
class Live(unittest.TestCase):
    """A picture while it is rendered: no tile is lost, and grain goes."""

    def setUp(self):
        self.random, self.shown, self.frame = np.random.default_rng(4), [], Frame(80, 64, (8, 0, 72, 64))
        self.live = LivePicture(self.frame, self.shown.append)

    def film(self, box):
        x0, y0, x1, y1 = box
        film = np.zeros((y1 - y0, x1 - x0, FILM_COLUMNS), np.float32)
        film[..., DIRECT : DIRECT + 3] = self.random.exponential(0.5, film.shape[:2])[..., None]
        film[..., ALBEDO : ALBEDO + 3], film[..., NORMAL + 2] = 0.5, 1.0
        return film

    def test_a_coarse_look_gives_way_to_tiles(self):
        self.live.begin(np.full((16, 18, PARTS), 0.25, np.float32), 4)
        self.assertEqual(self.shown[0].shape, (64, 64, 3))
        for box in self.frame.tiles():
            self.live.due = 0.0
            self.live.add(box, self.film(box))
        self.assertEqual(len(self.shown), 1 + len(self.frame.tiles()))
        last = self.shown[-1][..., 1]
        self.assertAlmostEqual(float(last.mean()), 0.5, delta=0.05)
        self.assertLess(last.std(), 0.2)  # each pixel's own is 0.5

    def test_a_filter_that_fails_ends_no_render(self):
        with mock.patch("sivrel.work.live.filter_quickly", side_effect=RuntimeError("no memory")), self.assertLogs("sivrel.work.live", "ERROR"):
            self.live.begin(np.zeros((16, 18, PARTS), np.float32), 4)
            for box in self.frame.tiles():
                self.live.add(box, self.film(box))
        self.assertEqual(self.shown, [])

    def test_it_takes_little_of_the_time(self):
        for box in self.frame.tiles():
            self.live.add(box, self.film(box))
        self.assertEqual(len(self.shown), 1)


class Pins(unittest.TestCase):
    def test_each_proof_of_the_view_is_read_once(self):
        with tempfile.TemporaryDirectory() as folder:
            data, db = Path(folder), database.create(Path(folder))
            self.addCleanup(db.close)
            add_demo_shots(db, data)
            shot = shots.find(db, "slipway")
            all_proofs = proofs.of_shot(db, shot.id)
            first, other = all_proofs[0], next(p for p in all_proofs if p.view != all_proofs[0].view)
            pin = pins.add(db, shot.id, "stones", (0.25, 0.5, 0.5, 0.75), first.view)
            numbers = [first.id, other.id]
            self.assertEqual(read_pins(data, db, shot, numbers), 2)
            self.assertEqual(read_pins(data, db, shot, numbers), 0)
            known = pins.readings(db, shot.id, proofs.finished(db, shot.id))
            picture = read_exr(files.picture_path(data, first.picture)).beauty
            rows, columns = picture.shape[:2]
            part = picture[rows // 2 : round(rows * 0.75), columns // 4 : columns // 2, :3].reshape(-1, 3)
            self.assertAlmostEqual(known[pin, first.id]["luminance"], float((part @ LUMINANCE).mean()), delta=0.01 * float((part @ LUMINANCE).mean()))
            self.assertIsNone(known[pin, other.id], "another camera does not see it")


if __name__ == "__main__":
    unittest.main()
