"""Caustic photons: against brute force under glass and before a mirror, their radii, and no light counted twice."""

import unittest

import numpy as np

from sivrel.core.gi.caustics import caustics_at, radii_of
from sivrel.core.gi.photon_map import MOST_GATHERED
from sivrel.core.gi.tree import DEEPEST
from sivrel.core.gi.ways import CAUSTICS
from sivrel.core.render.film import INDIRECT
from sivrel.core.render.frame import Frame
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.scene.model import Light, Scene, Surface
from tests.core.test_glass import CLEAR, slab
from tests.scenes import box_inside, floor, lambert, looking_down, quad, render

LAMP = Light("lamp", "sphere", (50.0,) * 3, (0.0, 0.0, 1.5), radius=0.3)
GLASS = Scene("glass", [floor(6.0), slab(6.0, 0.4, 0.5)], [lambert(0.5), CLEAR], [LAMP])
MIRROR = Surface("mirror", (0.9, 0.8, 0.7), metallic=1.0, roughness=0.0)
UNDER = looking_down(0.3, half_width=0.5)


def mean(film) -> np.ndarray:
    return film[..., INDIRECT : INDIRECT + 3].reshape(-1, 3).astype(float).mean(axis=0)


class Radii(unittest.TestCase):
    def test_they_shrink_as_the_rule_says(self):
        radii = radii_of(0.5, 2.0 / 3.0, 0.01, 5)
        np.testing.assert_allclose(radii[1:] ** 2 / radii[:-1] ** 2, [(i + 2.0 / 3.0) / (i + 1.0) for i in range(1, 5)])
        np.testing.assert_allclose(radii_of(0.5, 1.0, 0.01, 4), 0.5)
        self.assertEqual(radii_of(0.5, 0.1, 0.2, 50).min(), 0.2)


class Agreement(unittest.TestCase):
    def test_light_under_a_slab_of_glass_agrees_with_brute_force(self):
        deep = {"limits__refractions": 16, "limits__reflections": 16}
        truth = mean(render(GLASS, UNDER, (16, 16), sampling__max=2048, **deep))
        for seen in ("brute_force", "photon_map", "irradiance_cache", "baked"):
            with self.subTest(seen):
                film = render(GLASS, UNDER, (16, 16), sampling__max=32, gi__seen=seen, caustics__on="yes", photon_map__final_gather_rays=0, **deep)
                np.testing.assert_allclose(mean(film), truth, rtol=0.06)

    def test_a_mirror_throws_light_that_is_counted_once(self):
        """A lamp, a mirror on the wall, a white floor: bounced light by brute force, and with caustic photons in its place."""
        mirror = quad((0.99, -0.5, -0.5), (0.99, 0.5, -0.5), (0.99, 0.5, 0.5), (0.99, -0.5, 0.5), 1)
        lamp = Light("lamp", "sphere", (30.0,) * 3, (-0.3, 0.0, 0.2), radius=0.2)
        scene = Scene("mirror", [box_inside(), mirror], [lambert(0.5), MIRROR], [lamp])
        camera = looking_down(height=0.5, half_width=0.8)
        truth = mean(render(scene, camera, (24, 24), sampling__max=1024, limits__diffuse_bounces=16))
        found = mean(render(scene, camera, (24, 24), sampling__max=128, limits__diffuse_bounces=16, caustics__on="yes"))
        np.testing.assert_allclose(found, truth, rtol=0.02)

    def test_small_lamps_behind_glass_are_found_at_all(self):
        """A point behind solid glass: no path can find it, photons do. By Fresnel and Lambert, straight below it."""
        lamp = Light("point", "point", (4.0,) * 3, (0.0, 0.0, 1.5))
        scene = Scene("point", [floor(6.0), slab(6.0, 0.4, 0.5)], [lambert(0.5), CLEAR], [lamp])
        camera = looking_down(0.3, half_width=0.05)
        self.assertEqual(float(mean(render(scene, camera, (8, 8), sampling__max=16)).max()), 0.0)
        found = mean(
            render(
                scene,
                camera,
                (8, 8),
                sampling__max=32,
                caustics__on="yes",
                caustics__radius=0.05,
                caustics__count=500_000,
                caustics__passes=4,
                gi__seen="off",
            )
        )
        # Seen through glass of index n and thickness t at normal incidence the lamp stands nearer by t (1 - 1 / n).
        n, t = CLEAR.ior, 0.1
        once = ((n - 1.0) / (n + 1.0)) ** 2
        passing = (1.0 - once) / (1.0 + once)
        expected = 0.5 / np.pi * 4.0 * passing / (1.5 - t * (1.0 - 1.0 / n)) ** 2
        np.testing.assert_allclose(found, expected, rtol=0.06)

    def test_more_maps_sharpen_and_clear(self):
        """The rim of the shade of a disc held over a mirror: more maps bring the picture nearer to the sharp one."""
        scene = Scene("g", GLASS.meshes, GLASS.surfaces, GLASS.lights, cameras=[UNDER])
        errors = []
        for passes in (1, 16):
            recipe = with_values(
                Recipe(), {"gi.seen": "off", "caustics.on": "yes", "caustics.passes": passes, "caustics.count": 20_000, "sampling.max": 16}
            )
            maps = prepare(scene, recipe, frame=Frame(16, 16)).arrays.prepared[CAUSTICS]
            near = np.zeros((MOST_GATHERED + 2 * DEEPEST, 4))
            places = np.stack([np.linspace(-0.3, 0.3, 24), np.zeros(24), np.zeros(24)], axis=1)
            light = np.array([[caustics_at(maps, near, s, tuple(p), (0.0, 0.0, 1.0))[1] for s in range(passes)] for p in places]).mean(axis=1)
            smooth = np.polyval(np.polyfit(places[:, 0], light, 4), places[:, 0])
            errors.append(float(np.std(light / smooth)))
        self.assertLess(errors[1], 0.6 * errors[0])


if __name__ == "__main__":
    unittest.main()
