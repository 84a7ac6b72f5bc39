"""Motion blur: what moves while the shutter is open, held to closed forms and to means of many instants."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from sivrel.core.edits.edits import Edits
from sivrel.core.formats.scenes import read_scene
from sivrel.core.render.film import film_beauty
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.shutter import Motion, motion_between, open_time
from sivrel.core.render.through_time import Moving
from sivrel.core.scene.model import Camera, Scene
from sivrel.core.sequence.render import Sequence
from sivrel.core.vector import LUMINANCE
from tests.moving import at_time, sequence, write_usda
from tests.scenes import lambert, quad

BLUR = {"motion.blur": "on", "motion.shutter": 1.0, "motion.steps": 32}
WIDTH, HALF = 32, 1.0
PIXEL = 2.0 * HALF / WIDTH


def square_in_the_dark(time: float, by_camera: bool) -> Scene:
    """A glowing strip of eight pixels before an orthographic camera; it, or the camera, moves by six pixels a frame."""
    way = 6.0 * PIXEL * time
    strip = quad((-4 * PIXEL, -2.0, 0.0), (4 * PIXEL, -2.0, 0.0), (4 * PIXEL, 2.0, 0.0), (-4 * PIXEL, 2.0, 0.0))
    strip = strip.changed(vertices=strip.vertices + np.float32([0.0 if by_camera else way, 0.0, 0.0]), double_sided=True)
    eye = np.column_stack([np.eye(3), [-way if by_camera else 0.0, 0.0, 1.0]])
    return Scene("strip", [strip], [lambert(0.0, (1.0, 1.0, 1.0))], [], [Camera("Eye", eye, HALF, orthographic=True)])


def profile(shift: float) -> np.ndarray:
    """What a row of pixels sees of the strip, moved by `shift` pixels, through the tent filter: the integral of the tent over it."""
    cumulated = lambda x: np.where(x < 0.0, 0.5 * np.clip(1.0 + x, 0.0, 1.0) ** 2, 1.0 - 0.5 * np.clip(1.0 - x, 0.0, 1.0) ** 2)  # noqa: E731
    middles = np.arange(WIDTH) + 0.5
    return cumulated(16.0 + 4.0 + shift - middles) - cumulated(16.0 - 4.0 + shift - middles)


class ClosedForms(unittest.TestCase):
    def row(self, by_camera: bool, **values) -> np.ndarray:
        moving = Moving(lambda time: square_in_the_dark(time, by_camera), (0.0,), f"strip {by_camera}")
        recipe = with_values(Recipe(), {"gi.seen": "off", **BLUR, **values})
        made = Sequence(moving, recipe, Edits(), None, Frame(WIDTH, 4), threads=2).render(0.0)
        return (made.picture.beauty[..., :3] @ LUMINANCE).mean(axis=0)

    def test_what_moves_evenly_leaves_a_ramp(self):
        expected = np.mean([profile(6.0 * (k + 0.5) / 600) for k in range(600)], axis=0)
        for by_camera in (True, False):
            seen = self.row(by_camera, **{"sampling.max": 1024})
            np.testing.assert_allclose(seen, expected, atol=0.02, err_msg=f"by camera: {by_camera}")

    def test_few_samples_see_all_of_the_time(self):
        """One sample a pixel, and more spans than samples: over many seeds the mean is that of the whole time."""
        expected = np.mean([profile(6.0 * (k + 0.5) / 600) for k in range(600)], axis=0)
        moving = Moving(lambda time: square_in_the_dark(time, False), (0.0,), "strip few")
        for samples in (1, 3):
            recipe = with_values(Recipe(), {"gi.seen": "off", **BLUR, "sampling.max": samples})
            rows = [
                (Sequence(moving, recipe, Edits(), None, Frame(WIDTH, 16, seed=seed)).render(0.0).picture.beauty[..., 0]).mean(axis=0)
                for seed in range(40)
            ]
            error = np.std(rows, axis=0) / len(rows) ** 0.5
            self.assertLess(np.abs((np.mean(rows, axis=0) - expected) / (error + 0.004)).max(), 4.0, samples)

    def test_a_shorter_shutter_blurs_less(self):
        sharp = self.row(True, **{"motion.blur": "off", "sampling.max": 256})
        for share in (0.25, 0.5):
            expected = np.mean([profile(6.0 * share * (k + 0.5) / 600) for k in range(600)], axis=0)
            np.testing.assert_allclose(self.row(True, **{"motion.shutter": share, "sampling.max": 1024}), expected, atol=0.02)
        np.testing.assert_allclose(sharp, profile(0.0), atol=0.02)


class OfShots(unittest.TestCase):
    def test_what_stands_still_has_the_same_bytes(self):
        sharp = sequence({"sampling.max": 4}, frames=(1,)).render(1.0)
        blurred = sequence({"sampling.max": 4, **BLUR}, frames=(1,)).render(1.0)
        np.testing.assert_array_equal(sharp.film, blurred.film)
        self.assertIn("nothing moves", blurred.ready.blur)

    def test_every_way_sees_the_mean_of_many_instants(self):
        ways = (
            {}, {"bidirectional.on": "yes"}, {"guiding.on": "yes"}, {"gi.seen": "irradiance_cache"}, {"gi.seen": "photon_map"},
            {"shadows.way": "depth_map", "shadows.resolution": 512},
        )  # fmt: skip
        motion = {"pan": 0.05, "slide": 0.05, "lamp": 0.05}
        plain = {"sampling.max": 128, "limits.diffuse_bounces": 8}
        instants = sequence(plain, size=(48, 27), **motion)
        truth = np.mean([film_beauty(instants.render(2.0 + (k + 0.5) / 12).film) for k in range(12)], axis=0)
        for values in ways:
            made = sequence({**plain, **values, **BLUR}, size=(48, 27), **motion).render(2.0)
            self.assertGreater(len(made.ready.shutter), 3)
            self.assertIn("the camera and 1 object and 1 light move", made.ready.blur)
            seen, expected = ((picture @ LUMINANCE)[:24, :48].reshape(3, 8, 6, 8).mean(axis=(1, 3)) for picture in (film_beauty(made.film), truth))
            self.assertLess(np.sqrt(np.mean((seen / expected - 1.0) ** 2)), 0.05, values)

    def test_in_one_step_everything_stands_at_the_middle(self):
        """The fewest steps are still right on the whole: what moves is where it is on average."""
        one = sequence({"sampling.max": 64, **BLUR, "motion.steps": 1}, frames=(1,), slide=0.05).render(1.0)
        middle = sequence({"sampling.max": 64}, frames=(1,), slide=0.05).render(1.5)
        self.assertAlmostEqual(one.mean_light / middle.mean_light, 1.0, delta=0.01)

    def test_threads_and_tiles_leave_the_same_bytes(self):
        def made(threads: int, **how) -> np.ndarray:
            shot = sequence(
                {"sampling.max": 12, "sampling.min": 4, "sampling.noise_target": 5, **BLUR}, frames=(1,), size=(80, 40), slide=0.1, pan=0.05
            )
            shot.threads = threads
            return shot.render(1.0, **how).film

        whole, kept = made(1), {}
        made(2, keep=lambda index, film: kept.update({index: film}))
        again = made(2, tiles={index: kept[index] for index in list(kept)[:2]})
        np.testing.assert_array_equal(whole, again)

    def test_triangles_that_come_and_go_are_said_and_not_blurred(self):
        def scene(time: float) -> Scene:
            made = at_time(time, slide=0.1)
            return replace(made, meshes=made.meshes[: 1 if time > 1.2 else 2])

        shot = Sequence(Moving(scene, (1.0,), "gone"), with_values(Recipe(), {"sampling.max": 2, **BLUR}), Edits(), None, Frame(16, 9))
        made = shot.render(1.0)
        self.assertEqual(made.ready.shutter, [])
        self.assertIn("nothing is blurred", made.ready.blur)
        self.assertEqual(made.measured["meters"]["blur"], made.ready.blur)


class ShutterTime(unittest.TestCase):
    def test_the_file_says_when_it_is_open(self):
        with tempfile.TemporaryDirectory() as folder:
            path = write_usda(Path(folder) / "walk.usda")
            self.assertEqual(read_scene(path).cameras[0].shutter, (0.0, 0.0))
            text = path.read_text().replace(
                "float focalLength = 20", "float focalLength = 20\n        double shutter:open = -0.25\n        double shutter:close = 0.25"
            )
            path.write_text(text)
            camera = read_scene(path).cameras[0]
            self.assertEqual(open_time(camera, Recipe().motion), (-0.25, 0.25))
            path.write_text(text.replace("-0.25", "1e30"))
            self.assertEqual(read_scene(path).cameras[0].shutter, (0.0, 0.0))

    def test_the_recipe_comes_first_and_half_a_frame_is_usual(self):
        camera = replace(at_time(1.0).cameras[0], shutter=(-0.1, 0.3))
        self.assertEqual(open_time(camera, with_values(Recipe(), {"motion.shutter": 0.75}).motion), (0.0, 0.75))
        self.assertEqual(open_time(camera, Recipe().motion), (-0.1, 0.3))
        self.assertEqual(open_time(replace(camera, shutter=(0.0, 0.0)), Recipe().motion), (0.0, 0.5))

    def test_steps_follow_the_way_on_the_screen(self):
        motion = motion_between(at_time(1.0, slide=0.1), at_time(2.0, slide=0.1), "Eye", (640, 360))
        self.assertEqual((motion.objects, motion.lights, motion.camera), (("Block",), (), False))
        self.assertGreater(motion.pixels, 20.0)
        self.assertEqual(motion.spans(64), int(np.ceil(motion.pixels)))
        self.assertEqual(motion.spans(8), 8)
        self.assertEqual(Motion(camera=True, turn=1.0).spans(8), 1)
        self.assertEqual(Motion(camera=True, turn=10.0).spans(8), 4)
