"""Emitters by themselves: aiming, meeting and choosing say the same."""

import math
import unittest

import numpy as np

from sivrel.core.lights.emitters import DELTA, meet_light, sample_light
from sivrel.core.lights.tree import choice_chance, choose_light
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.scene.model import Light, Scene, Surface
from tests.scenes import floor

P, N = (0.1, -0.2, 0.3), (0.0, 0.0, 1.0)
TURNED = np.array([[0.8, 0.0, -0.6], [0.0, 1.0, 0.0], [0.6, 0.0, 0.8]])
SLANTED = np.array([[0.96, 0.28, 0.0], [-0.6, 0.8, 0.0], [0.0, 0.0, 1.0]])
LIGHTS = {
    "rect": Light("rect", "rect", (1.0, 2.0, 3.0), (0.5, 0.2, 1.4), TURNED, width=1.0, height=1.4),
    # A parallelogram: its edges are not at right angles.
    "slanted": Light("slanted", "rect", (1.0,) * 3, (0.0, 0.0, 1.0), SLANTED, width=1.1, height=0.8),
    "disk": Light("disk", "disk", (1.0,) * 3, (0.2, 0.1, 1.1), np.eye(3), width=1.0, height=0.6),
    "cylinder": Light("cylinder", "cylinder", (1.0,) * 3, (0.5, 0.3, 1.2), TURNED, radius=0.2, length=0.9),
    "sphere": Light("sphere", "sphere", (1.0,) * 3, (-0.4, 0.5, 1.2), radius=0.35),
    "sun": Light("sun", "sun", (1.0,) * 3, frame=TURNED, angle=12.0),
    "dome": Light("dome", "dome", (1.0,) * 3),
}


def table(*lights: Light):
    return pack_scene(Scene("s", [floor()], [Surface()], list(lights)))


class Aiming(unittest.TestCase):
    def test_what_is_aimed_at_is_met_with_the_density_it_was_aimed_with(self):
        rng = np.random.default_rng(4)
        for name, light in LIGHTS.items():
            lights = table(light)
            for u, v in rng.random((200, 2)):
                d, distance, radiance, density, _ = sample_light(lights, 0, P, N, u, v)
                if density == 0.0:
                    continue
                self.assertAlmostEqual(math.hypot(*d), 1.0, places=9)
                at, seen, met = meet_light(lights, 0, P, N, d, 1e30)
                self.assertGreaterEqual(at, 0.0, name)
                self.assertAlmostEqual(met / density, 1.0, places=6, msg=name)
                self.assertEqual(seen, radiance)
                if at < 1e29:
                    self.assertAlmostEqual(at, distance, places=6)

    def test_densities_integrate_to_one_over_all_directions(self):
        n = 200
        cos = (np.arange(n) + 0.5) / n * 2.0 - 1.0
        phi = (np.arange(2 * n) + 0.5) / (2 * n) * 2.0 * np.pi
        for name, light in LIGHTS.items():
            lights, total = table(light), 0.0
            for c in cos:
                s = math.sqrt(1.0 - c * c)
                for p in phi:
                    at, _, density = meet_light(lights, 0, P, N, (s * math.cos(p), s * math.sin(p), c), 1e30)
                    total += density if at >= 0.0 else 0.0
            self.assertAlmostEqual(total * 4.0 * math.pi / (2 * n * n), 1.0, delta=0.02, msg=name)

    def test_a_nearer_surface_hides_a_light(self):
        for name in ("rect", "disk", "sphere", "sun", "dome"):
            lights = table(LIGHTS[name])
            d, distance, _, _, _ = sample_light(lights, 0, P, N, 0.4, 0.6)
            self.assertLess(meet_light(lights, 0, P, N, d, min(distance, 1e29) * 0.5)[0], 0.0, name)

    def test_lights_without_size_are_never_met(self):
        for light in (Light("p", "point", (1.0,) * 3, (0, 0, 2.0)), Light("s", "sun", (1.0,) * 3, frame=TURNED)):
            lights = table(light)
            d, _, _, density, _ = sample_light(lights, 0, P, N, 0.3, 0.3)
            self.assertEqual(density, DELTA)
            self.assertLess(meet_light(lights, 0, P, N, d, 1e30)[0], 0.0)

    def test_from_behind_or_inside_there_is_nothing(self):
        behind = (0.5, 0.2, 4.0)
        self.assertEqual(sample_light(table(LIGHTS["slanted"]), 0, behind, N, 0.5, 0.5)[3], 0.0)
        self.assertEqual(sample_light(table(LIGHTS["sphere"]), 0, (-0.4, 0.5, 1.2), N, 0.5, 0.5)[3], 0.0)


class Choosing(unittest.TestCase):
    def setUp(self):
        below = Light("below", "disk", (5.0,) * 3, (0, 0, -3.0), np.diag([1.0, -1.0, -1.0]))
        away = Light("away", "rect", (5.0,) * 3, (0, 0, 2.0), np.diag([1.0, -1.0, -1.0]))
        self.lights = table(*LIGHTS.values(), Light("point", "point", (9.0,) * 3, (1.0, 1.0, 1.0)), below, away)

    def test_chances_add_up_and_are_those_of_the_choice(self):
        count = len(self.lights.lights)
        chances = np.array([choice_chance(self.lights, i, P, N) for i in range(count)])
        self.assertAlmostEqual(chances.sum(), 1.0, places=12)
        self.assertTrue((chances[:-2] > 0.0).all(), "no light that can reach may be forgotten")
        draws = (np.arange(20000) + 0.5) / 20000
        chosen = np.array([choose_light(self.lights, P, N, u) for u in draws])
        counts = np.bincount(chosen[:, 0].astype(int), minlength=count) / len(draws)
        np.testing.assert_allclose(counts, chances, atol=2e-4)
        np.testing.assert_allclose(chosen[:, 1], chances[chosen[:, 0].astype(int)])

    def test_lights_that_can_not_reach_weigh_nothing(self):
        count = len(self.lights.lights)
        for i in (count - 2, count - 1):
            self.assertEqual(choice_chance(self.lights, i, P, N), 0.0)

    def test_where_importance_is_zero_no_light_arrives(self):
        """At random points and normals, a light of no importance gives nothing above the horizon."""
        rng = np.random.default_rng(8)
        for _ in range(400):
            n = rng.normal(size=3)
            n = tuple(n / np.linalg.norm(n))
            p = tuple(rng.uniform(-2, 2, 3))
            for i in range(len(self.lights.lights)):
                if choice_chance(self.lights, i, p, n) == 0.0:
                    d, _, _, density, _ = sample_light(self.lights, i, p, n, *rng.random(2))
                    self.assertTrue(density == 0.0 or np.dot(d, n) <= 1e-9)


if __name__ == "__main__":
    unittest.main()
