"""Forks: both ways at panes and glass, against closed forms without noise, single ways drawn at random, and the ledger's own noise."""

import unittest
from dataclasses import replace

import numpy as np

from sivrel.core.render.film import BETWEEN, DIRECT, GUIDE_SHARE, TOTAL_VARIANCE, WITHIN, film_beauty
from sivrel.core.scene.model import Camera, Light, Scene, Surface
from sivrel.core.surfaces.glass import pane_reflects
from tests.core.test_glass import CLEAR, WINDOW, slab
from tests.core.test_mesh_lights import ball
from tests.scenes import assert_agrees, box_inside, floor, lambert, light, looking_down, mesh, quad, render, sky

BEHIND, ABOVE = 0.25, 8.0
TILT = 0.6
"""A pane is seen at this angle; the floor behind it glows, and so does a brighter ceiling that it reflects."""


def over_a_glowing_floor(*between, surface: Surface) -> Scene:
    ceiling = quad((-50, -50, 9.0), (-50, 50, 9.0), (50, 50, 9.0), (50, -50, 9.0), 2)
    glows = [lambert(0.0, (BEHIND,) * 3), surface, lambert(0.0, (ABOVE,) * 3)]
    return Scene("panes", [floor(), *between, ceiling], glows, [Light("dark", "dome", (0.0,) * 3)])


def pane(height: float, surface: int = 1):
    return quad((-50, -50, height), (50, -50, height), (50, 50, height), (-50, 50, height), surface)


def row_of_panes(count: int) -> float:
    """Reflectance of parallel panes seen at TILT, with all reflections between them (Stokes 1862)."""
    one = pane_reflects(float(np.cos(TILT)), WINDOW.ior)
    return count * one / (1.0 + (count - 1) * one)


class Panes(unittest.TestCase):
    def test_one_sample_shows_both_ways_without_noise(self):
        """With one sample, every pixel is the closed form; drawn at random, only their mean is."""
        scene, camera = over_a_glowing_floor(pane(0.2), surface=WINDOW), looking_down(tilt=TILT)
        reflected = row_of_panes(1)
        expected = reflected * ABOVE + (1.0 - reflected) * BEHIND
        pixels = film_beauty(render(scene, camera, sampling__max=1, sampling__forks=1.0))
        np.testing.assert_allclose(pixels, expected, rtol=1e-3)
        film = render(scene, camera, (32, 32), sampling__max=64, sampling__forks=0.0)
        self.assertGreater(film_beauty(film).std(), 0.03 * expected)
        assert_agrees(self, film, expected, largest_error=0.02)

    def test_several_panes(self):
        """Light that goes to and fro between panes is followed as long as it carries one per cent."""
        scene, reflected = over_a_glowing_floor(pane(0.2), pane(0.4), pane(0.6), surface=WINDOW), row_of_panes(3)
        film = render(scene, looking_down(tilt=TILT), (32, 32), sampling__max=16, sampling__forks=1.0, limits__reflections=16)
        assert_agrees(self, film, reflected * ABOVE + (1.0 - reflected) * BEHIND, largest_error=0.005)

    def test_a_tint_colours_only_what_passes(self):
        tinted = replace(WINDOW, base_color=(1.0, 1.0, 1.0), attenuation=(0.5, 0.8, 1.0), attenuation_distance=0.0)
        film = render(over_a_glowing_floor(pane(0.2), surface=tinted), looking_down(tilt=0.0), sampling__max=1, sampling__forks=1.0)
        reflected = pane_reflects(1.0, WINDOW.ior)
        np.testing.assert_allclose(film_beauty(film)[0, 0], reflected * ABOVE + (1.0 - reflected) * BEHIND * np.array((0.5, 0.8, 1.0)), rtol=1e-3)

    def test_before_an_empty_sky(self):
        """Nothing lies behind the pane: what it reflects is light all the same, also in the second half of a pair."""
        scene = Scene("window", [pane(0.2), quad((-50, -50, 9.0), (-50, 50, 9.0), (50, 50, 9.0), (50, -50, 9.0), 1)],
                      [WINDOW, lambert(0.0, (ABOVE,) * 3)], [])  # fmt: skip
        scene = replace(scene, meshes=[replace(scene.meshes[0], surfaces=np.zeros(2, np.uint32)), scene.meshes[1]])
        film = render(scene, looking_down(tilt=TILT), sampling__max=4, sampling__forks=1.0)
        np.testing.assert_allclose(film_beauty(film), row_of_panes(1) * ABOVE, rtol=1e-3)
        self.assertLess(float(film[..., WITHIN].max()), 1e-6)

    def test_the_passes_of_what_lies_behind(self):
        film = render(over_a_glowing_floor(pane(0.2), surface=WINDOW), looking_down(tilt=TILT), sampling__max=2, sampling__forks=1.0)
        reflected = row_of_panes(1)
        np.testing.assert_allclose(film[..., DIRECT : DIRECT + 3], reflected * ABOVE + (1.0 - reflected) * BEHIND, rtol=1e-3)
        np.testing.assert_allclose(film[..., GUIDE_SHARE], 1.0, rtol=1e-5)


class Glass(unittest.TestCase):
    def room(self, *glass, rough: float = 0.0) -> Scene:
        lamp = Light("lamp", "sphere", (30.0,) * 3, (0.5, 0.2, 0.6), radius=0.1)
        return Scene("room", [box_inside(), *glass], [lambert(0.6), replace(CLEAR, roughness=rough), WINDOW], [lamp])

    def test_a_furnace_of_glass_stays_one(self):
        lens = mesh(ball(12, 0.3, (0.0, 0.0, 0.4)), 1)
        scene = Scene("furnace", [lens], [lambert(0.0), CLEAR], [sky()])
        film = render(
            scene, looking_down(1.0, half_width=0.2), (24, 24), sampling__max=1, sampling__forks=1.0, limits__refractions=64, limits__total=64
        )
        self.assertAlmostEqual(float(film_beauty(film).mean()), 1.0, delta=0.01)
        self.assertLess(float(film_beauty(film).std()), 0.2)

    def test_the_light_is_that_of_single_ways(self):
        """A room with a ball of glass, smooth and rough, behind a pane; with one ray and with several, brute force and with caustic photons."""
        camera = Camera("in", np.array([[1.0, 0, 0, -0.1], [0, 0.8, -0.6, -0.6], [0, 0.6, 0.8, 0.7]]), 0.5)
        window = quad((-0.9, -0.2, -0.9), (0.9, -0.2, -0.9), (0.9, -0.2, 0.9), (-0.9, -0.2, 0.9), 2)
        limits = {"limits__refractions": 16, "limits__reflections": 8, "limits__diffuse_bounces": 3}
        for rough, more in (
            (0.0, {}), (0.35, {}), (0.0, {"sampling__gi_rays": 3, "sampling__glossy_rays": 2}), (0.0, {"bidirectional__on": "yes"}),
            (0.0, {"caustics__on": "yes", "caustics__count": 2000}), (0.0, {"gi__seen": "irradiance_cache"}),
        ):  # fmt: skip
            scene = self.room(mesh(ball(10, 0.3, (0.0, 0.4, 0.0)), 1), window, rough=rough)
            with self.subTest(rough=rough, **more):
                means = []
                for forks in (0.0, 0.5):
                    films = [
                        film_beauty(render(scene, camera, (20, 20), seed=seed, sampling__max=96, sampling__forks=forks, **limits, **more)).mean()
                        for seed in range(4)
                    ]
                    means.append((np.mean(films), np.std(films, ddof=1) / 2.0))
                (single, error), (both, other) = means
                self.assertLess(abs(single - both), 4.0 * np.hypot(error, other) + 0.004 * single)

    def test_the_ledger_states_the_noise_that_is_left(self):
        """The variance within pairs and between camera rays adds up to that of the pixels, as their own samples tell it."""
        scene = self.room(mesh(ball(10, 0.3, (0.0, 0.0, 0.0)), 1))
        camera, noise = looking_down(0.9, half_width=0.3), []
        for forks in (0.0, 1.0):
            films = [render(scene, camera, (48, 48), seed=seed, sampling__max=64, sampling__forks=forks, limits__refractions=16) for seed in range(5)]
            parts, whole = (np.mean([film[..., kinds].sum(axis=-1) for film in films]) for kinds in ([WITHIN, BETWEEN], [TOTAL_VARIANCE]))
            self.assertAlmostEqual(float(parts / whole), 1.0, delta=0.3)
            noise.append(whole)
        self.assertLess(noise[1], 0.7 * noise[0])

    def test_same_bytes_on_any_threads_and_in_a_region(self):
        scene = self.room(slab(0.4, -0.4, -0.2))
        values = {"sampling__max": 4, "sampling__forks": 1.0, "limits__refractions": 8}
        camera = looking_down(0.9, half_width=0.5)
        whole, again = (render(scene, camera, (40, 40), threads=threads, **values) for threads in (1, 2))
        np.testing.assert_array_equal(whole, again)
        part = render(scene, camera, (40, 40), region=(8, 4, 30, 20), **values)
        np.testing.assert_array_equal(film_beauty(part), film_beauty(whole[4:20, 8:30]))

    def test_many_ways_end(self):
        """More forks than can wait, down to a very small share: single ways are drawn then, and light is still that of the furnace."""
        balls = [mesh(ball(8, 0.1, (x, y, z)), 1) for x in (-0.15, 0.15) for y in (-0.15, 0.15) for z in (0.2, 0.5)]
        scene = Scene("balls", [replace(one, name=f"ball {k}") for k, one in enumerate(balls)], [lambert(0.0), CLEAR], [sky()])
        film = render(scene, looking_down(1.2, half_width=0.3), (24, 24), sampling__max=8, sampling__forks=0.01, limits__refractions=64,
                      limits__total=128, limits__reflections=64)  # fmt: skip
        mean, error = light(film)
        self.assertLess(abs(mean[0] - 1.0), 3.0 * error[0] + 0.01)


if __name__ == "__main__":
    unittest.main()
