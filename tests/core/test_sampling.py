"""Samples where they are needed: a noise target, and what it must not do to the picture."""

import unittest

import numpy as np

from sivrel.core.render.film import DIRECT, DROPPED, SAMPLES, film_beauty
from sivrel.core.scene.model import Camera, Light, Scene
from tests.scenes import box_inside, floor, lambert, looking_down, quad, render

# A penumbra across an evenly lit floor: grain in the middle of the picture, none at its sides.
CARD = quad((0, -2, 0.5), (2, -2, 0.5), (2, 2, 0.5), (0, 2, 0.5), 1)
SCENE = Scene("penumbra", [floor(), CARD], [lambert(0.8), lambert(0.0)], [Light("lamp", "sphere", (900.0,) * 3, (0.0, 0.0, 5.0), radius=0.2)])
CAMERA = looking_down(0.4, half_width=0.6)


def shot(size=(96, 32), **settings) -> np.ndarray:
    return render(SCENE, CAMERA, size, gi__seen="off", **settings)


class NoiseTarget(unittest.TestCase):
    def test_without_a_target_every_pixel_takes_all(self):
        film = shot(sampling__max=5)
        self.assertTrue((film[..., SAMPLES] == 5).all())
        self.assertTrue((film[..., DROPPED] == 0).all())

    def test_samples_go_where_the_grain_is(self):
        film = shot(sampling__max=512, sampling__noise_target=4, sampling__min=8)
        taken = film[..., SAMPLES]
        self.assertEqual(taken[:, :16].mean(), 8.0)
        self.assertGreater(taken[:, 40:56].mean(), 24.0)
        self.assertLessEqual(taken.max(), 512)

    def test_the_error_is_the_one_that_was_asked_for(self):
        reference = shot(sampling__max=2048, seed=9)[..., DIRECT]
        floor_of_eye = 0.02
        for target in (8.0, 4.0):
            film = shot(sampling__max=4096, sampling__noise_target=target, sampling__min=16)
            grainy = film[..., SAMPLES] > 16
            relative = ((film[..., DIRECT] - reference) / (reference + floor_of_eye))[grainy]
            # Scrambled samples err less than their spread says, so the target is an upper bound.
            self.assertLess(float(np.sqrt(np.mean(relative**2))), target / 100.0)
            self.assertGreater(float(np.sqrt(np.mean(relative**2))), target / 100.0 / 8.0)

    def test_the_mean_is_kept(self):
        reference = shot(sampling__max=2048, seed=9)[..., DIRECT].mean()
        means = [shot(sampling__max=256, sampling__noise_target=6, sampling__min=8, seed=seed)[..., DIRECT].mean() for seed in range(3)]
        self.assertAlmostEqual(float(np.mean(means)) / float(reference), 1.0, delta=0.004)

    def test_light_that_few_samples_find_is_not_lost(self):
        """A room lit through a slit, where most pixels find nothing in their first samples: by their own noise they stopped there, and
        two thirds of the light went. Sixty-four seeds against long renders, within three standard errors."""
        lid = [quad((-1, -1, 0.5), (-1, 1, 0.5), (-0.02, 1, 0.5), (-0.02, -1, 0.5)), quad((0.02, -1, 0.5), (0.02, 1, 0.5), (1, 1, 0.5), (1, -1, 0.5))]
        lamp = Light("lamp", "sphere", (40.0,) * 3, (0.5, 0.0, 0.8), radius=0.05)
        scene = Scene("slit", [box_inside(), *lid], [lambert(0.6)], [lamp])
        camera = Camera("c", np.array([[1.0, 0, 0, 0], [0, 1, 0, 0], [0, 0, 1, 0.3]]), 0.8)

        def means(seeds, **settings):
            films = [render(scene, camera, (12, 12), seed=seed, limits__diffuse_bounces=4, **settings) for seed in seeds]
            return np.array([film_beauty(film).mean() for film in films]), np.mean([film[..., SAMPLES].mean() for film in films])

        truth, _ = means(range(1000, 1008), sampling__max=4096)
        found, taken = means(range(64), sampling__min=8, sampling__max=2048, sampling__noise_target=40)
        error = np.hypot(truth.std(ddof=1) / np.sqrt(8), found.std(ddof=1) / 8.0)
        self.assertLess(error, 0.07 * truth.mean())
        self.assertLess(abs(found.mean() - truth.mean()), 3.0 * error)
        self.assertLess(taken, 1600)  # and it does stop

    def test_by_what_one_more_gains_less_noise_is_left_for_as_many_samples(self):
        reference = shot(sampling__max=2048, seed=9)[..., DIRECT]
        film = shot(sampling__max=512, sampling__noise_target=3, sampling__min=8, sampling__stop="gain")
        even = shot(sampling__max=round(float(film[..., SAMPLES].mean())))
        of_gain, of_even = (float(np.mean((one[..., DIRECT] - reference) ** 2)) for one in (film, even))
        self.assertLess(of_gain, of_even / 1.5)
        self.assertAlmostEqual(float(film[..., DIRECT].mean() / reference.mean()), 1.0, delta=0.01)
        # Samples go by the root of the variance: the grainiest pixels take fewer than by the error.
        by_gain, by_error = (shot(sampling__max=512, sampling__noise_target=6, sampling__min=8, sampling__stop=stop) for stop in ("gain", "error"))
        by_gain, by_error = ((one[..., SAMPLES] == 512).sum() for one in (by_gain, by_error))
        self.assertLess(by_gain, 0.1 * by_error)

    def test_the_same_on_any_number_of_threads(self):
        one = shot(threads=1, sampling__max=64, sampling__noise_target=5)
        np.testing.assert_array_equal(one, shot(threads=3, sampling__max=64, sampling__noise_target=5))

    def test_samples_of_a_pixel_are_those_of_a_longer_render(self):
        """Where all pixels end at the most, rounds give what one go gives."""
        np.testing.assert_allclose(
            shot(sampling__max=32, sampling__noise_target=1e-9, sampling__min=8)[..., DIRECT], shot(sampling__max=32)[..., DIRECT], rtol=1e-5
        )


if __name__ == "__main__":
    unittest.main()
