"""Caustic photons: against brute force under glass and before a mirror, their radii, and no light counted twice."""

import math
import unittest
from dataclasses import replace

import numpy as np

from sivrel.core.gi import caustics
from sivrel.core.gi.caustics import caustics_at, local_radii, shrinks_of
from sivrel.core.gi.photon_map import MOST_GATHERED, as_tree
from sivrel.core.gi.photons import CAME, CAUSTIC_COLUMNS, FLUX, NORMAL, shoot_photons
from sivrel.core.gi.photons import CAUSTICS as CAUSTIC_MODE
from sivrel.core.gi.tree import DEEPEST
from sivrel.core.gi.way import Spot
from sivrel.core.gi.ways import CAUSTICS
from sivrel.core.lights.emission import emit
from sivrel.core.lights.targets import NO_TARGETS, targets_of
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.render.film import INDIRECT
from sivrel.core.render.frame import Frame
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.scene.model import Light, Scene, Surface
from sivrel.core.surfaces.preview import Look
from sivrel.core.trace.traverse import make_stack
from tests.core.test_glass import CLEAR, slab
from tests.core.test_mesh_lights import ball
from tests.scenes import NOWHERE, box_inside, floor, lambert, looking_down, mesh, quad, render

LAMP = Light("lamp", "sphere", (50.0,) * 3, (0.0, 0.0, 1.5), radius=0.3)
GLASS = Scene("glass", [floor(6.0), slab(6.0, 0.4, 0.5)], [lambert(0.5), CLEAR], [LAMP])
MIRROR = Surface("mirror", (0.9, 0.8, 0.7), metallic=1.0, roughness=0.0)
UNDER = looking_down(0.3, half_width=0.5)


def mean(film) -> np.ndarray:
    return film[..., INDIRECT : INDIRECT + 3].reshape(-1, 3).astype(float).mean(axis=0)


def facing_up(place: np.ndarray) -> Spot:
    """A diffuse spot that is seen from above."""
    up, at = (0.0, 0.0, 1.0), (float(place[0]), float(place[1]), float(place[2]))
    look = Look((0.5,) * 3, 1.0, 0.0, 1.0, False, (0.0,) * 3, 0.0, 0.0)
    return Spot(at, up, up, up, look, np.uint32(0), np.float32(0.0), np.float32(0.0), math.inf, True, 1, np.uint32(1), 0, 0)


class Radii(unittest.TestCase):
    def test_they_shrink_as_the_rule_says(self):
        radii = shrinks_of(2.0 / 3.0, 5)
        np.testing.assert_allclose(radii[1:] ** 2 / radii[:-1] ** 2, [(i + 2.0 / 3.0) / (i + 1.0) for i in range(1, 5)])
        np.testing.assert_allclose(shrinks_of(1.0, 4), 1.0)

    def test_none_is_smaller_than_the_least_nor_than_a_first_that_is_smaller(self):
        """One photon in each of fifty maps, looked up at its place in the last: its flux is spread over the least circle."""
        photons = np.zeros((50, CAUSTIC_COLUMNS), np.float32)
        photons[:, NORMAL + 2], photons[:, FLUX : FLUX + 3], photons[:, CAME + 2] = 1.0, 1.0, 1.0
        arrays = {"points": photons, "axes": np.zeros(50, np.uint8), "starts": np.arange(51)}
        near = np.zeros((MOST_GATHERED + 2 * DEEPEST, 4))
        for first, least, found in ((0.5, 0.2, 0.2), (0.1, 0.2, 0.1)):
            values = {"caustics.visible": "no", "caustics.radius": first, "caustics.min_radius": least, "caustics.shrink": 0.1}
            maps = caustics.WAY.serve(None, with_values(Recipe(), values).of("caustics"), arrays, {})
            light = caustics_at(NOWHERE, make_stack(), maps, near, 49, facing_up(np.zeros(3)))[0][1]
            self.assertAlmostEqual(light * math.pi * found**2, 1.0, places=5)

    def test_each_photon_has_the_radius_of_the_density_about_it(self):
        """Maps with two patches of even photons, one ten times as dense: in both a circle holds as many photons of a map."""
        rng = np.random.default_rng(5)
        at = np.concatenate([rng.random((4 * 9_000, 2)), rng.random((4 * 900, 2)) + (5.0, 0.0)])
        points = np.zeros((len(at), 10), np.float32)
        points[:, :2] = at[rng.permutation(len(at))]
        radii = local_radii(points, 4)
        inside = (np.abs(points[:, 0] % 5.0 - 0.5) < 0.3) & (np.abs(points[:, 1] - 0.5) < 0.3)
        for dense, per_area in ((True, 9_000.0), (False, 900.0)):
            there = radii[inside & ((points[:, 0] < 2.0) == dense)]
            self.assertAlmostEqual(float(np.mean(math.pi * there**2 * per_area)) / caustics.GATHERED, 1.0, delta=0.1)

    def test_even_light_is_found_as_it_is(self):
        """Photons that fall evenly on a square, at an irradiance of one: their radius is taken from them, and yet tells nothing of the light."""
        rng, near = np.random.default_rng(8), np.zeros((MOST_GATHERED + 2 * DEEPEST, 4))
        places = np.concatenate([rng.uniform(0.2, 0.8, (3000, 2)), np.zeros((3000, 1))], axis=1)
        for count, worst in ((1, 0.045), (8, 0.015)):
            points, axes, each = [], [], 4000
            for _ in range(count):
                photons = np.zeros((each, CAUSTIC_COLUMNS), np.float32)
                photons[:, :2], photons[:, NORMAL + 2], photons[:, FLUX : FLUX + 3] = rng.random((each, 2)), 1.0, 1.0 / each
                photons[:, CAME + 2] = 1.0
                tree, split = as_tree(photons)
                points.append(tree)
                axes.append(split)
            arrays = {"points": np.concatenate(points), "axes": np.concatenate(axes), "starts": np.arange(count + 1) * each}
            maps = caustics.WAY.serve(None, with_values(Recipe(), {"caustics.visible": "no"}).of("caustics"), arrays, {})
            found = [caustics_at(NOWHERE, make_stack(), maps, near, k, facing_up(p))[0][1] for k, p in enumerate(places)]
            self.assertAlmostEqual(float(np.mean(found)), 1.0, delta=worst)


class Targets(unittest.TestCase):
    BALLS = np.concatenate([ball(6, 0.3, (0.5, 0.2, 0.4)), ball(6, 0.05, (-1.5, 0.0, 1.0))])

    def test_every_corner_lies_in_a_ball(self):
        table = targets_of(self.BALLS)
        self.assertGreaterEqual(len(table), 2)
        away = np.linalg.norm(self.BALLS.reshape(-1, 1, 3) - table[None, :, :3], axis=2)
        self.assertTrue((away <= table[:, 3]).any(axis=1).all())

    def test_what_is_sent_at_them_carries_what_reaches_them_anyhow(self):
        """Flux that meets one of two balls, of rays sent everywhere and of rays sent at both."""
        targets, rng = targets_of(self.BALLS), np.random.default_rng(3)
        for light in (
            Light("l", "rect", (1.0,) * 3, (0.0, 0.0, 2.0), width=0.5, height=0.4), Light("l", "sphere", (1.0,) * 3, (0.0, 0.0, 2.0), radius=0.3),
            Light("l", "cylinder", (1.0,) * 3, (0.0, 0.0, 2.0), radius=0.1, length=1.0), Light("l", "point", (1.0,) * 3, (0.0, 0.0, 2.0)),
            Light("l", "sun", (1.0,) * 3, angle=20.0), Light("l", "dome", (1.0,) * 3),
        ):  # fmt: skip
            scene = pack_scene(Scene("e", [floor(3.0)], [lambert(0.5)], [light]))
            found = []
            for at, count in ((NO_TARGETS, 30000), (targets, 3000)):
                met = np.zeros(count)
                for k in range(count):
                    origin, d, flux = emit(scene, 0, at, (0.0, 0.0, 0.0), 5.0, *rng.random(4))
                    for middle, radius in (((0.5, 0.2, 0.4), 0.3), ((-1.5, 0.0, 1.0), 0.05)):
                        to = np.array(middle) - origin
                        if to @ to - (to @ np.array(d)) ** 2 < radius**2 and to @ np.array(d) > 0.0:
                            met[k] = flux[0]
                found.append((met.mean(), met.std() / np.sqrt(count)))
            (plain, error), (aimed, other) = found
            with self.subTest(light.kind):
                self.assertLess(abs(plain - aimed), 3.5 * np.hypot(error, other))
                self.assertLess(other, error)

    def test_a_lens_on_a_wide_ground(self):
        """Of photons sent over 120 m of ground one in ten thousand met a ball of glass of a metre; nearly all do that are sent at it."""
        lens = replace(mesh(ball(12, 0.5, (3.0, -2.0, 1.0)), 1), name="lens")
        scene = pack_scene(Scene("ground", [floor(60.0), lens], [lambert(0.5), CLEAR], [Light("sun", "sun", (1.0,) * 3)]))
        photons, shot = shoot_photons(scene, 20_000, 16, scene.offset, mode=CAUSTIC_MODE)
        self.assertGreater(len(photons), 20_000)
        self.assertLess(shot, 60_000)
        # What passes the ball but for what its faces throw back falls close behind it.
        behind = np.abs(photons[:, :2] - (3.0, -2.0)).max(axis=1) < 1.5
        self.assertAlmostEqual(float(photons[behind, 6].sum()), math.pi * 0.25 * 0.9, delta=math.pi * 0.25 * 0.1)

    def test_few_that_land_are_reported(self):
        notes = {"radius": 1.0, "last_radius": 0.5, "wanted": 100_000}
        self.assertIn("only 9,051 landed", caustics.WAY.says({**notes, "fewest": 9051}))
        self.assertNotIn("landed", caustics.WAY.says({**notes, "fewest": 99_000}))


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

    def test_wide_gloss_takes_its_light_from_them(self):
        """A floor under a slab of glass, of metal and of gloss over a base, as brute force has it; one that is too smooth for that, too."""
        deep = {"limits__refractions": 16, "limits__reflections": 16}
        for name, surface, from_roughness in (
            ("metal", Surface("metal", (0.9, 0.6, 0.3), metallic=1.0, roughness=0.5), 0.15),
            ("gloss", Surface("gloss", (0.2, 0.2, 0.2), roughness=0.4, ior=1.8), 0.15),
            ("a wide coat", Surface("coat", (0.2, 0.2, 0.2), ior=1.0, coat=1.0, coat_roughness=0.5), 0.15),
            ("smooth metal", Surface("metal", (0.9, 0.6, 0.3), metallic=1.0, roughness=0.3), 0.4),
            ("smooth gloss", Surface("gloss", (0.2, 0.2, 0.2), roughness=0.3, ior=1.8), 0.4),
        ):
            with self.subTest(name):
                scene = Scene("gloss", GLASS.meshes, [surface, CLEAR], GLASS.lights)
                truth = mean(render(scene, UNDER, (16, 16), sampling__max=1536, **deep))
                film = render(scene, UNDER, (16, 16), sampling__max=24, caustics__on="yes", caustics__gloss=from_roughness, **deep)
                np.testing.assert_allclose(mean(film), truth, rtol=0.06)

    def test_metal_throws_light_on_metal_once(self):
        """A room with a wall of rough metal and a ball of glass, each in the other's light: as brute force has it, seen from inside."""
        metal = Surface("metal", (0.9, 0.8, 0.7), metallic=1.0, roughness=0.4)
        wall = quad((0.99, -0.9, -0.9), (0.99, 0.9, -0.9), (0.99, 0.9, 0.9), (0.99, -0.9, 0.9), 1)
        lens = replace(mesh(ball(12, 0.25, (0.4, 0.0, -0.3)), 2), name="lens")
        lamp = Light("lamp", "sphere", (30.0,) * 3, (-0.3, 0.0, 0.2), radius=0.25)
        scene = Scene("metal", [box_inside(), wall, lens], [lambert(0.5), metal, CLEAR], [lamp])
        camera = looking_down(height=0.5, half_width=0.8)
        deep = {"limits__refractions": 16, "limits__reflections": 16, "limits__diffuse_bounces": 4}
        truth = mean(render(scene, camera, (24, 24), sampling__max=2048, **deep))
        found = mean(render(scene, camera, (24, 24), sampling__max=256, caustics__on="yes", **deep))
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
            found = [[caustics_at(NOWHERE, make_stack(), maps, near, s, facing_up(p))[0][1] for s in range(passes)] for p in places]
            light = np.array(found).mean(axis=1)
            smooth = np.polyval(np.polyfit(places[:, 0], light, 4), places[:, 0])
            errors.append(float(np.std(light / smooth)))
        self.assertLess(errors[1], 0.6 * errors[0])


if __name__ == "__main__":
    unittest.main()
