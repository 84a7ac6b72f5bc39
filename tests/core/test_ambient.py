"""Flat ambient light and occlusion, in closed form."""

import unittest

import numpy as np

from sivrel.core.render.film import DIRECT, INDIRECT, PARTS
from sivrel.core.scene.model import Light, Scene, Surface
from tests.scenes import box_inside, floor, lambert, looking_down, quad, render, sky

CARD = quad((-50, -50, 0.5), (50, -50, 0.5), (50, 50, 0.5), (-50, 50, 0.5))
BELOW = looking_down(0.2, half_width=1e-3)


class Ambient(unittest.TestCase):
    def film(self, *meshes, lights=(), surface=None, camera=BELOW, **settings):
        scene = Scene("a", list(meshes), [surface or lambert(0.5)], list(lights))
        return render(scene, camera, gi__seen="ambient", ambient__level=0.3, sampling__max=32, **settings)

    def test_the_level_times_the_albedo(self):
        film = self.film(floor(), ambient__occlusion=0)
        np.testing.assert_allclose(film[..., INDIRECT : INDIRECT + 3], 0.15, rtol=1e-5)
        np.testing.assert_allclose(film[..., PARTS : PARTS + 3], 0.15, rtol=1e-5)

    def test_a_card_at_half_the_reach_leaves_what_is_sixty_degrees_off_and_more(self):
        """Rays nearer than the reach lie within sixty degrees of the normal: a quarter of the cosine is left."""
        film = self.film(floor(), CARD, ambient__near=1, ambient__reach=1, ambient__samples=8)
        np.testing.assert_allclose(film[..., INDIRECT].mean(), 0.15 * 0.25, rtol=2e-3)
        half = self.film(floor(), CARD, ambient__near=1, ambient__reach=1, ambient__samples=8, ambient__occlusion=0.5)
        np.testing.assert_allclose(half[..., INDIRECT].mean(), 0.15 * (1.0 - 0.5 * 0.75), rtol=2e-3)

    def test_it_fades_from_near_to_reach(self):
        """What is met at 0.5 / mu counts less in proportion: a quarter, and twice the integral of (0.5 / mu) mu from a half to one."""
        film = self.film(floor(), CARD, ambient__near=0, ambient__reach=1, ambient__samples=8)
        np.testing.assert_allclose(film[..., INDIRECT].mean(), 0.15 * (0.25 + 2.0 * 0.5 * 0.5), rtol=2e-3)
        # With a contrast of two: twice the integral of (0.5 / mu)² mu.
        film = self.film(floor(), CARD, ambient__near=0, ambient__reach=1, ambient__samples=8, ambient__contrast=2)
        np.testing.assert_allclose(film[..., INDIRECT].mean(), 0.15 * (0.25 + 2.0 * 0.25 * np.log(2.0)), rtol=2e-3)

    def test_direct_light_stays_unless_set(self):
        sun = Light("sun", "sun", (np.pi,) * 3)
        wall = quad((0.01, -50, 0), (0.01, 50, 0), (0.01, 50, 50), (0.01, -50, 50))
        plain = self.film(floor(), wall, lights=[sun], ambient__samples=16)
        np.testing.assert_allclose(plain[..., DIRECT], 0.5, rtol=1e-4)
        darker = self.film(floor(), wall, lights=[sun], ambient__samples=16, ambient__on_direct=1, ambient__near=50, ambient__reach=50)
        # Half of the cosine sees the wall.
        self.assertAlmostEqual(float(darker[..., DIRECT].mean()), 0.25, delta=0.01)

    def test_it_takes_of_light_that_is_met_by_chance_too(self):
        """A large panel near a glossy floor is found both ways: half of the direct light goes, however it was found."""
        panel = Light("panel", "rect", (1.0,) * 3, (0.0, 0.0, 1.0), width=8.0, height=8.0)
        surface = Surface("gloss", (0.5,) * 3, roughness=0.3)
        wall = quad((0.01, -50, 0), (0.01, 50, 0), (0.01, 50, 50), (0.01, -50, 50))
        dark = {"ambient__near": 50, "ambient__reach": 50, "ambient__samples": 16}
        plain, darker = (self.film(floor(), wall, lights=[panel], surface=surface, ambient__on_direct=k, **dark) for k in (0, 1))
        self.assertAlmostEqual(float(darker[..., DIRECT].mean() / plain[..., DIRECT].mean()), 0.5, delta=0.02)

    def test_it_is_seen_in_mirrors_and_adds_no_bounces(self):
        """A metal floor in a box: what it mirrors has the ambient light of the walls, and nothing bounces between them."""
        metal = Surface("metal", (1.0, 1.0, 1.0), roughness=0.0, metallic=1.0)
        mirror = quad((-1, -1, -0.9), (1, -1, -0.9), (1, 1, -0.9), (-1, 1, -0.9), 1)
        scene = Scene("m", [box_inside(), mirror], [lambert(0.5), metal], [])
        film = render(scene, looking_down(0.2, half_width=0.1), gi__seen="ambient", ambient__level=0.3, ambient__occlusion=0, sampling__max=16)
        np.testing.assert_allclose(film[..., INDIRECT], 0.15, rtol=0.01)

    def test_brute_force_is_not_touched_by_it(self):
        scene = Scene("b", [floor()], [lambert(0.5)], [sky()])
        plain, levelled = (render(scene, BELOW, ambient__level=level) for level in (0.0, 5.0))
        np.testing.assert_array_equal(plain, levelled)


if __name__ == "__main__":
    unittest.main()
