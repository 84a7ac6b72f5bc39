"""The ledger: sources and cross terms add up to the whole, and say what happens when one source is mended."""

import unittest

import numpy as np

from sivrel.core.measure.ledger import CAMERA, CROSS, MEASURING, NOT_LIGHTS, measure_ledger, noise_of_region
from sivrel.core.measure.noise import LUMINANCE, relative_weights
from sivrel.core.pack.lights import pass_names
from sivrel.core.render.film import BETWEEN, DIRECT, INDIRECT, TOTAL_VARIANCE, WITHIN, clock_entries, film_columns
from sivrel.core.render.frame import Frame, assemble
from sivrel.core.render.passes import film_passes
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tiles import render_tiles
from sivrel.core.scene.model import Light, Scene
from tests.scenes import box_inside, floor, lambert, looking_down, mesh, quad, render

# Three sources of grain: two lamps behind a grid, and light that bounces in a room.
SMALL = Light("small", "sphere", (60.0,) * 3, (0.3, 0.1, 0.7), radius=0.08)
LARGE = Light("large", "rect", (1.5,) * 3, (-0.2, 0.0, 0.9), width=1.2, height=1.2)
GRID = [quad((x, -0.9, 0.35), (x + 0.09, -0.9, 0.35), (x + 0.09, 0.9, 0.35), (x, 0.9, 0.35)) for x in np.arange(-0.9, 0.9, 0.18)]
CAMERA_ABOVE = looking_down(0.3, 0.2, half_width=0.5)


def room(small: float = 1.0) -> Scene:
    lamp = Light("small", "sphere", (60.0 * small,) * 3, (0.3, 0.1, 0.7), radius=0.08)
    return Scene("room", [box_inside(), *GRID], [lambert(0.6)], [lamp, LARGE], [CAMERA_ABOVE])


def measured(scene: Scene, size=(48, 48), seed=0, **settings):
    recipe = with_values(Recipe(), {"sampling.max": 64, **{k.replace("__", "."): v for k, v in settings.items()}})
    ready, tiles = prepare(scene, recipe), {}
    clock = np.zeros(clock_entries(ready.arrays.slots))
    render_tiles(ready.arrays, ready.camera, recipe, Frame(*size, seed=seed), tiles.__setitem__, threads=2, clock=clock)
    film = assemble(Frame(*size), film_columns(ready.arrays.slots), tiles)
    return film, {row.name: row for row in measure_ledger(film, pass_names(scene), clock)}


def whole_noise(film: np.ndarray, like: np.ndarray) -> float:
    """Variance of luminance over the picture, weighed by the brightness of the picture `like`."""
    luminance = (like[..., DIRECT : DIRECT + 3] + like[..., INDIRECT : INDIRECT + 3]).astype(float) @ LUMINANCE
    return float(relative_weights(luminance) @ film[..., TOTAL_VARIANCE].reshape(-1).astype(float))


class AddsUp(unittest.TestCase):
    def test_noise_and_time(self):
        for settings in ({}, {"gi__seen": "off"}, {"sampling__gi_rays": 4, "shadows__rays": 3}):
            _, rows = measured(room(), **settings)
            self.assertAlmostEqual(sum(row.noise or 0.0 for row in rows.values()), 1.0, places=5)
            if rows[CAMERA].time is not None:
                self.assertAlmostEqual(sum(row.time or 0.0 for row in rows.values()), 1.0, places=5)
                self.assertGreater(rows[MEASURING].time, 0.0)
                self.assertTrue(all((row.time or 0.0) >= 0.0 for row in rows.values()))

    def test_all_noise_of_an_even_wall_is_within_its_samples(self):
        """Under a soft light whose every point sees the same, moving the camera ray changes nothing."""
        scene = Scene("even", [floor()], [lambert(1.0)], [Light("l", "rect", (1.0,) * 3, (0, 0, 0.5), width=1.0, height=1.0)], [looking_down(0.1)])
        film, rows = measured(scene, gi__seen="off")
        self.assertAlmostEqual(rows["l"].noise, 1.0, delta=4 * rows["l"].noise_error)
        self.assertAlmostEqual(rows[CAMERA].noise, 0.0, delta=4 * rows[CAMERA].noise_error)
        self.assertLess(rows["l"].noise_error, 0.03)

    def test_all_noise_of_an_edge_is_the_cameras(self):
        """A sheet of paper without grain in it, half over the picture, under a point light."""
        stripes = mesh([((x, -1, 0), (x + 0.013, -1, 0), (x + 0.013, 1, 0)) for x in np.arange(-1, 1, 0.031)], 1)
        lamp = Light("p", "point", (1.0,) * 3, (0, 0, 4.0))
        scene = Scene("stripes", [stripes], [lambert(0.0), lambert(1.0)], [lamp], [looking_down(0.3, half_width=0.4)])
        film, rows = measured(scene, gi__seen="off")
        self.assertAlmostEqual(rows[CAMERA].noise, 1.0, delta=1e-6)

    def test_its_whole_is_the_variance_of_the_samples(self):
        film, _ = measured(room(), size=(64, 64), sampling__max=128)
        by_pairs, by_all = float((film[..., WITHIN] + film[..., BETWEEN]).mean()), float(film[..., TOTAL_VARIANCE].mean())
        self.assertAlmostEqual(by_pairs / by_all, 1.0, delta=0.1)

    def test_small_regions_have_enough_pairs(self):
        film, _ = measured(room(), size=(8, 8), sampling__max=16)
        self.assertGreater(int((film[..., WITHIN] > 0.0).sum()), 32)


class Foretells(unittest.TestCase):
    def test_what_mending_one_source_does_to_the_whole(self):
        """Dimming a lamp by the root of two halves its variance: the whole falls by half of its part of it, the camera's and the
        cross terms aside, which two light passes alone tell."""
        film, before = measured(room(), size=(64, 64), sampling__max=256, gi__seen="off", seed=1)
        foretold = 1.0 - 0.5 * before["small"].noise
        after, _ = measured(room(np.sqrt(0.5)), size=(64, 64), sampling__max=256, gi__seen="off", seed=2)
        # What the camera's own part loses by the dimming is no matter of the lamp's rays: it is taken out on both sides.
        camera_before = before[CAMERA].noise * whole_noise(film, film)
        rows = measure_ledger(after, pass_names(room()))
        camera_after = {row.name: row for row in rows}[CAMERA].noise * whole_noise(after, after)
        whole_before = whole_noise(film, film) - camera_before
        flat_like = whole_noise(after, film) - camera_after * whole_noise(after, film) / whole_noise(after, after)
        within_share = 1.0 - before[CAMERA].noise
        expected = (foretold - before[CAMERA].noise) / within_share
        self.assertAlmostEqual(flat_like / whole_before / expected, 1.0, delta=0.1)

    def test_more_rays_for_one_source_leave_the_others(self):
        """Four bounced rays a sample instead of one quarter the noise of bounced light, and the whole falls as the ledger says."""
        one, before = measured(room(), size=(64, 64), sampling__max=256, seed=1)
        four, after = measured(room(), size=(64, 64), sampling__max=256, sampling__gi_rays=4, sampling__glossy_rays=1, seed=2)
        whole = whole_noise(four, one) / whole_noise(one, one)
        gone = 0.75 * before["bounced light"].noise
        self.assertAlmostEqual((1.0 - whole) / gone, 1.0, delta=0.2)
        self.assertAlmostEqual(whole / (1.0 - gone), 1.0, delta=0.1)
        self.assertAlmostEqual(after["small"].noise * whole / before["small"].noise, 1.0, delta=0.1)

    def test_cross_terms_of_what_shares_a_ray(self):
        """A lamp met by the ray that also brings bounced light shares its luck; apart, by aiming alone, there is little to share."""
        _, rows = measured(room(), size=(64, 64), sampling__max=128)
        self.assertLess(abs(rows[CROSS].noise), 0.25)


class Region(unittest.TestCase):
    def test_its_noise_adds_up_and_that_of_the_whole_picture_is_the_ledgers(self):
        film, rows = measured(room(), size=(64, 64), sampling__max=32)
        names = pass_names(room())
        passes = film_passes(film, names, prepare(room(), Recipe()).arrays)
        lights = [name for name in rows if name not in NOT_LIGHTS]
        whole = noise_of_region(passes, lights, (0, 0, 64, 64))
        for row in whole:
            # The passes are averaged over a neighbourhood and weighed pixel by pixel.
            self.assertAlmostEqual(row["noise"], rows[row["name"]].noise if row["name"] in rows else 0.0, delta=0.05)
        part = noise_of_region(passes, lights, (10, 20, 30, 40))
        self.assertAlmostEqual(sum(row["noise"] for row in part), 1.0, places=6)
        self.assertEqual(noise_of_region({"beauty": passes["beauty"]}, lights, (0, 0, 8, 8)), [])

    def test_the_picture_is_the_same_however_many_samples_are_taken_twice(self):
        whole = render(room(), CAMERA_ABOVE, (64, 64), sampling__max=4)
        part = render(room(), CAMERA_ABOVE, (64, 64), sampling__max=4, region=(8, 8, 24, 24))
        np.testing.assert_array_equal(part[..., :6], whole[8:24, 8:24, :6])


if __name__ == "__main__":
    unittest.main()
