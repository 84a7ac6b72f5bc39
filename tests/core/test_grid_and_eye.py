"""The coarse grid against the pixels it is made of, for frames and regions of every shape; and what the eye sees of a contrast."""

import unittest

import numpy as np

from sivrel.core.diagnose.eye import BEST, FLOOR, THRESHOLD, as_shown, contrast, contrast_of_noise, grain_factor, sensitivity, times_threshold
from sivrel.core.diagnose.grid import Grid, grid_of, pooled
from sivrel.core.render.frame import Frame


def frames(count: int = 40):
    """Frames of many sizes, some of them with a region."""
    random = np.random.default_rng(7)
    for k in range(count):
        width, height = int(random.integers(16, 2000)), int(random.integers(9, 1200))
        region = None
        if k % 2:
            x, y = np.sort(random.integers(0, width, 2)), np.sort(random.integers(0, height, 2))
            region = (int(x[0]), int(y[0]), int(x[1]) + 1, int(y[1]) + 1)
        yield Frame(width, height, region)


class GridTest(unittest.TestCase):
    def test_cells_are_about_as_square_as_pixels(self):
        for frame in frames():
            grid = grid_of(frame)
            across, down = frame.width / grid.columns, frame.height / grid.rows
            with self.subTest(frame=frame):
                self.assertLessEqual(grid.columns, frame.width)
                self.assertEqual(grid.window, frame.window)
                # Rows are whole: of few the last may be off by half of one.
                self.assertLess(abs(across / down - 1.0), 0.51 / grid.rows + 1e-9)
        exact = grid_of(Frame(480, 270))
        self.assertEqual((480 % exact.columns, 270 % exact.rows), (0, 0))

    def test_a_box_lies_within_the_cells_it_touches(self):
        random = np.random.default_rng(8)
        for frame in frames():
            grid = grid_of(frame)
            x0, y0, x1, y1 = frame.window
            across, down = np.sort(random.integers(x0, x1 + 1, 2)), np.sort(random.integers(y0, y1 + 1, 2))
            if across[0] == across[1] or down[0] == down[1]:
                continue
            box = (int(across[0]), int(down[0]), int(across[1]), int(down[1]))
            with self.subTest(frame=frame, box=box):
                cells = grid.cells_of(box)
                back = grid.pixels_of(cells)
                self.assertTrue(back[0] <= box[0] and back[1] <= box[1] and back[2] >= box[2] and back[3] >= box[3])
                self.assertTrue(x0 <= back[0] and y0 <= back[1] and back[2] <= x1 and back[3] <= y1)
                self.assertTrue(0 <= cells[0] < cells[2] <= grid.columns and 0 <= cells[1] < cells[3] <= grid.rows)

    def test_means_are_kept(self):
        random = np.random.default_rng(9)
        for frame in frames(20):
            if frame.region is not None or frame.width * frame.height > 400_000:
                continue
            image, grid = random.random((frame.height, frame.width)), grid_of(frame)
            with self.subTest(frame=frame):
                cells = grid.pool(image)
                self.assertEqual(cells.shape, (grid.rows, grid.columns))
                self.assertAlmostEqual(float(cells.mean()), float(image.mean()), places=9)
                self.assertTrue(grid.inside().all())
                np.testing.assert_allclose(grid.pool(np.full_like(image, 0.3)), 0.3)

    def test_cells_that_cut_pixels_share_them_out(self):
        image = np.array([[1.0, 2.0, 6.0]])
        np.testing.assert_allclose(pooled(image, 2, 1, (3, 1), (0, 0, 3, 1)), [[(1.0 + 0.5 * 2.0) / 1.5, (0.5 * 2.0 + 6.0) / 1.5]])
        # Outside the window there is nothing.
        np.testing.assert_allclose(pooled(image[:, 1:2], 3, 1, (3, 1), (1, 0, 2, 1)), [[0.0, 2.0, 0.0]])

    def test_colours_are_pooled_each(self):
        image = np.random.default_rng(10).random((20, 30, 3))
        cells = pooled(image, 6, 4, (30, 20), (0, 0, 30, 20))
        np.testing.assert_allclose(cells, image.reshape(4, 5, 6, 5, 3).mean(axis=(1, 3)))

    def test_the_variance_of_a_mean_is_that_of_its_pixels_over_their_number(self):
        grid = Grid(10, 5, 40, 20, (0, 0, 40, 20))
        np.testing.assert_allclose(grid.pool_error(np.full((20, 40), 3.2)), 3.2 / 16.0)
        noise = np.random.default_rng(11).normal(0.0, 2.0, (200, 20, 40))
        spread = np.var([grid.pool(one) for one in noise])
        self.assertAlmostEqual(float(spread / grid.pool_error(np.full((20, 40), 4.0)).mean()), 1.0, delta=0.05)

    def test_only_whole_cells_count_as_inside(self):
        grid = Grid(10, 5, 40, 20, (2, 0, 40, 19))
        inside = grid.inside()
        self.assertFalse(inside[:, 0].any())
        self.assertFalse(inside[4].any())
        self.assertTrue(inside[:4, 1:].all())


class EyeTest(unittest.TestCase):
    def test_it_sees_best_at_some_cycles_a_degree(self):
        """Mannos & Sakrison 1974: about eight cycles a degree, and little above thirty."""
        self.assertTrue(6.0 < BEST < 10.0)
        self.assertAlmostEqual(float(sensitivity(BEST)), 1.0, places=6)
        fine = sensitivity(np.linspace(BEST, 60.0, 50))
        self.assertTrue((np.diff(fine) < 0.0).all())
        self.assertLess(float(sensitivity(40.0)), 0.1)
        self.assertGreaterEqual(float(sensitivity(0.0)), 0.3)

    def test_thresholds_grow_with_contrast_and_fall_with_fineness(self):
        sizes = [1.0, 2.0, 4.0]
        seen = [times_threshold(0.05, size) for size in sizes]
        self.assertEqual(seen, sorted(seen))
        self.assertAlmostEqual(times_threshold(-0.1, 4.0), 2.0 * times_threshold(0.05, 4.0))
        best = times_threshold(THRESHOLD, 67.0 / (2.0 * BEST), 67.0)
        self.assertAlmostEqual(best, 1.0, delta=0.01)

    def test_from_further_away_fine_grain_goes(self):
        near, far = grain_factor(40.0), grain_factor(160.0)
        self.assertTrue(0.0 < far < near < 1.0)

    def test_more_light_is_never_shown_darker(self):
        light = np.geomspace(1e-5, 1e3, 400)
        for exposure in (-4.0, 0.0, 3.0):
            shown = as_shown(light, exposure)
            self.assertTrue((np.diff(shown) >= -1e-9).all())
            self.assertTrue((shown >= 0.0).all() and (shown <= 1.0).all())
        self.assertEqual(float(as_shown(np.zeros(1), 0.0)[0]), 0.0)
        # A stop more is what twice the light is.
        np.testing.assert_allclose(as_shown(light[100:200], 1.0), as_shown(2.0 * light[100:200], 0.0), atol=0.01)

    def test_contrast_is_signed_and_bounded(self):
        a, b = np.array([0.2, 0.4, 0.0]), np.array([0.4, 0.2, 0.0])
        one, other = contrast(a, b, 0.0), contrast(b, a, 0.0)
        np.testing.assert_allclose(one, -other)
        self.assertTrue(one[0] < 0.0 < one[1])
        self.assertEqual(one[2], 0.0)
        self.assertTrue((np.abs(contrast(np.geomspace(1e-4, 10.0, 50), np.full(50, 1e-6), 0.0)) <= 2.0).all())
        # In the black, where the screen adds its own light, little is seen.
        dark, lit = (abs(contrast(np.array([2.0 * v]), np.array([v]), 0.0)[0]) for v in (1e-4, 0.1))
        self.assertLess(dark, 0.1 * lit)

    def test_noise_about_a_light_is_a_contrast_of_its_width(self):
        light, error = np.array([0.18]), np.array([0.02])
        width = contrast_of_noise(light, error, 0.0)[0]
        about = (as_shown(light + 0.01, 0.0) - as_shown(light - 0.01, 0.0)) / (as_shown(light, 0.0) + FLOOR)
        self.assertAlmostEqual(width, float(about[0]), places=9)
        self.assertAlmostEqual(contrast_of_noise(light, 2.0 * error, 0.0)[0] / width, 2.0, delta=0.05)


if __name__ == "__main__":
    unittest.main()
