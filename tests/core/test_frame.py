"""Tiles: the same picture however it is cut, shared out, stopped and gone on with."""

import unittest

import numpy as np

from sivrel.core.errors import Cancelled, InputError
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.render.film import DEPTH, NORMAL, VARIANCE
from sivrel.core.render.frame import Frame, assemble
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tiles import render_tiles
from sivrel.core.scene.model import Camera, Light, Scene, Surface
from sivrel.core.task import Cancel, Task
from tests.scenes import box_inside, floor, looking_down, render, sky

ROOM = Scene(
    "room",
    [box_inside()],
    [Surface("paint", (0.7, 0.5, 0.3), 0.4)],
    [Light("lamp", "sphere", (20.0, 15.0, 9.0), (0.2, 0.3, 0.4), radius=0.1)],
)
CAMERA = looking_down(height=0.8, tilt=0.5, half_width=0.9)


class SamePicture(unittest.TestCase):
    def test_on_any_number_of_threads_and_twice(self):
        one = render(ROOM, CAMERA, (70, 50), threads=1, sampling__max=4)
        for threads in (1, 2, 3):
            np.testing.assert_array_equal(one, render(ROOM, CAMERA, (70, 50), threads=threads, sampling__max=4))

    def test_a_region_is_a_crop_of_the_whole(self):
        whole = render(ROOM, CAMERA, (70, 50), sampling__max=4)
        part = render(ROOM, CAMERA, (70, 50), region=(13, 7, 61, 44), sampling__max=4)
        np.testing.assert_array_equal(whole[7:44, 13:61], part)

    def test_another_seed_is_another_picture(self):
        a, b = (render(ROOM, CAMERA, (20, 20), seed=seed, sampling__max=4) for seed in (0, 1))
        self.assertFalse(np.array_equal(a, b))

    def test_cancelled_and_gone_on_with(self):
        recipe, frame = with_values(Recipe(), {"sampling.max": 4}), Frame(150, 100)
        arrays, cancel, tiles = pack_scene(ROOM), Cancel(), {}

        def stop_after_three(index, film):
            tiles[index] = film
            if len(tiles) == 3:
                cancel.set()

        with self.assertRaises(Cancelled):
            render_tiles(arrays, CAMERA, recipe, frame, stop_after_three, threads=2, task=Task(cancel=cancel))
        self.assertLess(len(tiles), len(frame.tiles()))
        rest = {}
        render_tiles(arrays, CAMERA, recipe, frame, rest.__setitem__, threads=2, finished=list(tiles))
        self.assertFalse(set(tiles) & set(rest))
        whole = render(ROOM, CAMERA, (150, 100), sampling__max=4)
        np.testing.assert_array_equal(assemble(frame, whole.shape[2], tiles | rest), whole)


class Passes(unittest.TestCase):
    def test_depth_and_normal_of_a_tilted_floor(self):
        camera = looking_down(height=2.0, tilt=0.5, half_width=0.3)
        film = render(Scene("f", [floor()], [Surface()], [sky()]), camera, (9, 9), sampling__max=64)
        np.testing.assert_allclose(film[4, 4, NORMAL : NORMAL + 3], (0, 0, 1), atol=1e-6)
        self.assertAlmostEqual(film[4, 4, DEPTH], 2.0, delta=0.02)
        # Depth is along the view axis: rows further up the floor are deeper.
        self.assertGreater(film[0, 4, DEPTH], film[8, 4, DEPTH])

    def test_nothing_met_is_infinitely_far(self):
        away = Camera("away", np.array([[1.0, 0, 0, 0], [0, 1, 0, 0], [0, 0, 1, -1]]), 0.5)
        film = render(Scene("f", [floor()], [Surface()], [sky(3.0)]), away, (4, 4), sampling__max=2)
        self.assertTrue(np.isinf(film[..., DEPTH]).all())
        np.testing.assert_allclose(film[..., :3], 3.0)

    def test_variance_predicts_the_spread_of_repeats(self):
        """Over seeds, pixel means spread no more than the variance pass says, and not vastly less."""
        films = np.stack([render(ROOM, CAMERA, (12, 12), seed=s, sampling__max=16) for s in range(24)]).astype(float)
        beauty = films[..., 0:3] + films[..., 3:6]
        said, seen = films[..., VARIANCE : VARIANCE + 3].mean(), beauty.var(axis=0, ddof=1).mean()
        self.assertLess(seen, 1.15 * said)
        self.assertGreater(seen, 0.05 * said)

    def test_focus_blurs_what_is_near(self):
        edge = Scene("edge", [floor(1.0)], [Surface()], [])
        edge.surfaces[0].emission = (1.0, 1.0, 1.0)
        sharp = looking_down(height=2.0, half_width=0.6)
        soft = looking_down(height=2.0, half_width=0.6)
        soft.lens_radius, soft.focus = 0.3, 8.0
        between = [((f := render(edge, c, (64, 8), sampling__max=64)[..., 0]) > 0.05).sum() - (f > 0.95).sum() for c in (sharp, soft)]
        self.assertGreater(between[1], 3 * between[0])


class BadFrames(unittest.TestCase):
    def test_each_says_what_to_do(self):
        for arguments in (
            {"width": 0},
            {"height": 1 << 20},
            {"seed": -1},
            {"region": (0, 0, 0, 10)},
            {"region": (0, 0, 999, 10)},
            {"region": (-1, 0, 5, 5)},
        ):
            with self.assertRaisesRegex(InputError, "give"):
                Frame(**arguments)


if __name__ == "__main__":
    unittest.main()
