"""Bidirectional paths: their pictures are those of brute force, with less noise, and the same on any threads."""

import math
import unittest
from dataclasses import replace

import numpy as np

from sivrel.core.cache_contents import check_contents
from sivrel.core.caches import CacheFolder, from_bytes, to_bytes
from sivrel.core.errors import InputError
from sivrel.core.gi.bidirectional import left_out
from sivrel.core.gi.photons import BOUNCES, FLUX, VERTICES, shoot_photons
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.render.frame import Frame
from sivrel.core.render.path_state import NOWHERE
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.scene.arrays import CONNECTIONS
from sivrel.core.scene.model import Camera, Light, Scene, Surface
from tests.scenes import box_inside, lambert, light, quad, render

CAMERA = Camera("inside", np.array([[1.0, 0, 0, 0], [0, 0, -1.0, -0.95], [0, 1.0, 0, 0]]), 0.7)
"""Looks along +y from one wall of the box to the other."""
SCREEN = quad((-0.9, -0.3, 0.6), (-0.9, 0.9, 0.6), (0.9, 0.9, 0.6), (0.9, -0.3, 0.6), surface=1)
"""A screen under the ceiling, above which the lamp shines."""
LAMP = Light("lamp", "sphere", (40.0,) * 3, (0.0, 0.5, 0.8), radius=0.05)
SIZE = {"size": (20, 20), "limits__diffuse_bounces": 6, "bidirectional__points": 1024}


def room(inside: Surface, screen: Surface | None = None, lamp: Light = LAMP) -> Scene:
    return Scene("room", [box_inside(), SCREEN], [inside, screen or inside], [lamp], cameras=[CAMERA])


DIFFUSE = room(lambert(0.6))


def prepared(scene: Scene = DIFFUSE, caches: CacheFolder | None = None, **values):
    recipe = with_values(Recipe(), {"bidirectional.on": "yes", **{key.replace("__", "."): value for key, value in values.items()}})
    return prepare(scene, recipe, caches=caches, frame=Frame(32, 32))


def assert_same_light(test: unittest.TestCase, scene: Scene, **settings) -> None:
    """The mean of pictures of other seeds with connections is that without, within four standard errors and one per cent."""
    settings = {**SIZE, "sampling__max": 256, **settings}
    means = np.array([[light(render(scene, CAMERA, seed=seed, bidirectional__on=on, **settings))[0][1] for seed in range(4)] for on in ("no", "yes")])
    error = math.sqrt((means.var(axis=1, ddof=1) / means.shape[1]).sum())
    test.assertLess(error, 0.06 * means[0].mean())  # else the comparison would say nothing
    test.assertLess(abs(means[1].mean() - means[0].mean()), 4.0 * error + 0.01 * means[0].mean())


class Pictures(unittest.TestCase):
    def test_diffuse_surfaces(self):
        assert_same_light(self, DIFFUSE)

    def test_wide_and_narrow_gloss_and_coats(self):
        for surface in (
            Surface("wide", (0.5, 0.5, 0.5), 0.6, 0.0),
            Surface("narrow", (0.5, 0.5, 0.5), 0.2, 0.3),
            Surface("coated", (0.6, 0.5, 0.4), 0.5, 0.0, coat=1.0, coat_roughness=0.1),
        ):
            with self.subTest(surface.name):
                assert_same_light(self, room(lambert(0.6), surface))
                assert_same_light(self, room(surface, lambert(0.6)))

    def test_panes_and_metal(self):
        pane = Surface("pane", (0.0, 0.0, 0.0), 0.0, 0.0, opacity=0.1, see_through="pane", attenuation=(0.5, 0.8, 0.9))
        assert_same_light(self, room(lambert(0.6), pane))
        assert_same_light(self, room(lambert(0.6), Surface("metal", (0.9, 0.8, 0.7), 0.3, 1.0)))

    def test_light_that_is_set_to_light_only_bases_or_only_gloss(self):
        surface = Surface("wide", (0.5, 0.5, 0.5), 0.5, 0.0)
        for factors in ({"diffuse": 0.2, "specular": 1.0}, {"diffuse": 1.0, "specular": 0.0}):
            with self.subTest(factors):
                assert_same_light(self, room(surface, lamp=replace(LAMP, **factors)))

    def test_each_limit_of_diffuse_bounces_is_kept(self):
        for bounces in (0, 1, 2):
            with self.subTest(bounces):
                assert_same_light(self, DIFFUSE, limits__diffuse_bounces=bounces)

    def test_several_rays_from_a_point_and_paths_under_a_cache(self):
        assert_same_light(self, DIFFUSE, sampling__gi_rays=3, sampling__max=128)
        assert_same_light(self, DIFFUSE, guiding__on="yes", guiding__rays=20_000)

    def test_a_white_furnace_stays_even(self):
        """Inside a box that glows everywhere, radiance is that of the glow over one minus the albedo, cut after the last bounce."""
        glowing = Scene("furnace", [box_inside()], [lambert(0.5, emission=(1.0,) * 3)], [], cameras=[CAMERA])
        found = render(glowing, CAMERA, size=(8, 8), sampling__max=128, limits__diffuse_bounces=20, limits__total=30, bidirectional__on="yes")
        mean, error = light(found)
        np.testing.assert_allclose(mean, 2.0, atol=max(0.01, 3.0 * error.max()))

    def test_noise_falls_where_light_has_bounced(self):
        def squares(seed: int, **values) -> float:
            found = render(DIFFUSE, CAMERA, seed=seed, sampling__max=32, **SIZE, **values)
            return float(np.mean(((found[..., 0:6] - reference) / (reference + 0.05)) ** 2))

        reference = np.mean([render(DIFFUSE, CAMERA, seed=seed, sampling__max=512, **SIZE)[..., 0:6] for seed in (8, 9)], axis=0)
        plain, connected = (np.mean([squares(seed, bidirectional__on=on) for seed in (1, 2, 3)]) for on in ("no", "yes"))
        self.assertLess(connected, 0.4 * plain)


class Points(unittest.TestCase):
    def test_what_lands_is_the_power_of_the_light(self):
        """In a closed box of albedo a, light lands 1 / (1 - a) times, and a share of a^k lands after k bounces."""
        arrays = pack_scene(Scene("box", [box_inside()], [lambert(0.5)], [Light("lamp", "sphere", (3.0,) * 3, (0.1, 0.0, 0.2), radius=0.1)]))
        points, _ = shoot_photons(arrays, 60_000, 40, arrays.offset, mode=VERTICES)
        power = 3.0 * math.pi * 4.0 * math.pi * 0.1**2
        landed = np.bincount(points[:, BOUNCES].astype(int), points[:, FLUX])[:3]
        np.testing.assert_allclose(landed, power * np.array([1.0, 0.5, 0.25]), rtol=0.02)

    def test_coloured_glass_absorbs_by_the_way_through_it(self):
        """A lamp within a thick slab of glass: what passes one metre of it keeps exp(-1)."""
        glass = Surface(
            "glass",
            (1.0,) * 3,
            0.0,
            0.0,
            ior=1.0001,
            opacity=0.0,
            see_through="solid",
            attenuation=(math.exp(-1.0), 1.0, 1.0),
            attenuation_distance=1.0,
        )
        slab = [quad((-9, -9, z), (9, -9, z), (9, 9, z), (-9, 9, z), surface=1) for z in (0.0, 1.0)]
        slab[0] = slab[0].changed(vertices=slab[0].vertices[:, ::-1].copy())
        floor = quad((-9, -9, -1), (9, -9, -1), (9, 9, -1), (-9, 9, -1))
        scene = Scene("slab", [floor, *slab], [lambert(0.5), glass], [Light("sun", "sun", (1.0,) * 3, angle=0.0)])
        points, _ = shoot_photons(pack_scene(scene), 20_000, 4, 1e-5, mode=VERTICES)
        first = points[points[:, BOUNCES] == 0]
        np.testing.assert_allclose(first[:, FLUX].sum() / first[:, FLUX + 1].sum(), math.exp(-1.0), rtol=1e-2)

    def test_what_connections_leave_out_is_near(self):
        for height, expected in ((2.0, 0.0), (0.1, 1.0 - 4.0 * 0.1**2)):
            above = NOWHERE.point._replace(position=(0.0, 0.0, height), geometric_normal=(0.0, 0.0, -1.0))
            self.assertAlmostEqual(left_out(4.0, (0.0, 0.0, 0.0), (0.0, 0.0, 1.0), above), expected, places=6)

    def test_same_bytes_on_any_threads_and_in_a_region(self):
        settings = {"size": (40, 40), "sampling__max": 8, "bidirectional__on": "yes"}
        whole = render(DIFFUSE, CAMERA, threads=2, **settings)
        self.assertEqual(whole.tobytes(), render(DIFFUSE, CAMERA, threads=1, **settings).tobytes())
        part = render(DIFFUSE, CAMERA, threads=1, region=(8, 4, 30, 20), **settings)
        self.assertEqual(whole[4:20, 8:30].tobytes(), part.tobytes())


class Cache(unittest.TestCase):
    def test_it_is_kept_until_light_or_limits_change(self):
        caches = CacheFolder()
        self.assertTrue(prepared(caches=caches).ways[0].made)
        self.assertFalse(prepared(caches=caches, bidirectional__connections=4).ways[0].made)
        self.assertTrue(prepared(caches=caches, limits__diffuse_bounces=2).ways[0].made)
        note = prepared(room(lambert(0.6), lamp=replace(LAMP, color=(20.0,) * 3)), caches=caches).ways[0]
        self.assertIn("light", note.because)
        self.assertIn("shot", note.notes)

    def test_a_scene_without_light_has_no_points(self):
        ready = prepared(replace(DIFFUSE, lights=[]))
        self.assertEqual(len(ready.arrays.prepared[CONNECTIONS].points), 0)
        self.assertEqual(light(render(replace(DIFFUSE, lights=[]), CAMERA, bidirectional__on="yes", size=(4, 4)))[0].max(), 0.0)

    def test_one_from_outside_is_checked(self):
        caches = CacheFolder()
        prepared(caches=caches)
        cache = next(iter(caches.alike("light paths", "room")))
        check_contents(from_bytes(to_bytes(cache), "points"), "points")
        damaged = replace(cache, arrays={"points": cache.arrays["points"].copy()})
        damaged.arrays["points"][0, FLUX] = np.inf
        with self.assertRaises(InputError):
            check_contents(damaged, "points")


if __name__ == "__main__":
    unittest.main()
