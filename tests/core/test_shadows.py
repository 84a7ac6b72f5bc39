"""Shadow ways: how their noise falls, what they agree with, and where each fails."""

import math
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from sivrel.core import caches
from sivrel.core.caches import CacheFolder
from sivrel.core.errors import InputError
from sivrel.core.render.film import TEXELS
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.scene.model import Light, Scene, Shadow
from sivrel.core.shadows.depth_map import map_picture
from tests.scenes import floor, lambert, looking_down, quad, render, sky

CARD = quad((0, -1, 0.5), (2, -1, 0.5), (2, 1, 0.5), (0, 1, 0.5), 1)  # its edge lies over x = 0, faces up
SURFACES = [lambert(1.0), lambert(0.0)]
OVER_THE_EDGE = looking_down(height=0.4, half_width=0.5)


def shaded(light: Light, camera=OVER_THE_EDGE, size=(32, 4), meshes=(CARD,), **settings) -> np.ndarray:
    """Red of the floor under `light`, the card's edge across the picture."""
    scene = Scene("card", [floor(3.0), *meshes], SURFACES, [light])
    return render(scene, camera, size, gi__seen="off", **settings)[..., 0]


class Traced(unittest.TestCase):
    def test_noise_falls_with_the_root_of_the_rays(self):
        """Slope of the error of a half-shadowed spot over 1 to 64 rays. Scrambled points fall faster at a plain edge, so
        the picture has one sample a pixel and the shadow's caster is strewn: every ray is a fair coin."""
        lamp = Light("lamp", "sphere", (20.0,) * 3, (0.0, 0.0, 4.0), radius=0.5)
        rng = np.random.default_rng(3)
        cards = []
        for x, y in rng.uniform(-0.6, 0.6, (900, 2)):
            cards.append(quad((x, y, 2), (x + 0.02, y, 2), (x + 0.02, y + 0.02, 2), (x, y + 0.02, 2), 1))
        scene = Scene("strewn", [floor(), *cards], SURFACES, [lamp])
        camera, counts, errors = looking_down(height=1.0, half_width=1e-4), (1, 2, 4, 8, 16, 32, 64), []
        for rays in counts:
            film = render(scene, camera, (48, 48), gi__seen="off", sampling__max=1, shadows__rays=rays)
            errors.append(film[..., 0].std())
        slope = np.polyfit(np.log(counts), np.log(errors), 1)[0]
        self.assertAlmostEqual(slope, -0.5, delta=0.05)

    def test_more_rays_are_not_more_light(self):
        lamp = Light("lamp", "sphere", (20.0,) * 3, (0.1, 0.0, 4.0), radius=0.4)
        one, many = (shaded(lamp, sampling__max=64, shadows__rays=rays).mean() for rays in (1, 9))
        self.assertAlmostEqual(one / many, 1.0, delta=0.01)

    def test_penumbra_of_the_sun_has_the_width_that_geometry_gives(self):
        """A sun overhead of angle a, an edge h above the floor: the soft part is 2 h tan(a / 2) wide."""
        angle, h = 8.0, 0.5
        sun = Light("sun", "sun", (math.pi,) * 3, angle=angle, normalize=True)
        width = 2 * h * math.tan(math.radians(angle / 2))
        row = shaded(sun, looking_down(height=0.4, half_width=0.25), (200, 3), sampling__max=256).mean(axis=0)
        x = (np.arange(200) + 0.5) / 200 * 0.2 - 0.1
        half = np.interp(-0.5, -row, x)
        self.assertAlmostEqual(half, 0.0, delta=0.002)
        # From the integral of the profile: a disc's edge spread reaches 2 % and 98 % at +-0.4455 of its width.
        low, high = np.interp(-0.98, -row, x), np.interp(-0.02, -row, x)
        self.assertAlmostEqual((high - low) / (2 * 0.4455 * width), 1.0, delta=0.06)


class DepthMaps(unittest.TestCase):
    LAMPS = {
        "sun": Light("sun", "sun", (math.pi,) * 3),
        "six": Light("six", "point", (16.0,) * 3, (-0.3, 0.1, 2.0)),
    }

    def test_converges_to_traced_as_the_resolution_rises(self):
        for name, lamp in self.LAMPS.items():
            traced = shaded(lamp, size=(64, 16), sampling__max=16)
            errors = []
            for resolution in (128, 512, 2048):
                mapped = shaded(lamp, size=(64, 16), sampling__max=16, shadows__way="depth_map", shadows__resolution=resolution)
                errors.append(float(np.abs(mapped - traced).mean()))
            with self.subTest(name, errors=errors):
                self.assertTrue(all(later < 0.75 * earlier for earlier, later in zip(errors, errors[1:], strict=False)))
                self.assertLess(errors[-1], 0.03)

    def test_one_picture_serves_a_narrow_cone(self):
        spot = replace(self.LAMPS["six"], name="spot")
        spot.shaping = replace(spot.shaping, cone_angle=35.0)
        traced = shaded(spot, sampling__max=32)
        mapped = shaded(spot, sampling__max=32, shadows__way="depth_map", shadows__resolution=2048)
        self.assertLess(np.abs(mapped - traced).mean(), 0.03)

    def test_fitted_to_the_view_it_is_finer_and_traced_beyond(self):
        scene = Scene("wide", [floor(200.0), CARD], SURFACES, [self.LAMPS["sun"]])
        settings = {"gi__seen": "off", "sampling__max": 8, "shadows__resolution": 256}
        traced = render(scene, OVER_THE_EDGE, (64, 36), **settings)[..., 0]
        error = {}
        for fit in ("scene", "view"):
            film = render(scene, OVER_THE_EDGE, (64, 36), shadows__way="depth_map", shadows__fit=fit, **settings)
            error[fit] = float(np.abs(film[..., 0] - traced).mean())
            if fit == "view":
                np.testing.assert_array_equal(film[0, np.isinf(film[0, :, TEXELS]), 0], traced[0, np.isinf(film[0, :, TEXELS])])
        self.assertLess(error["view"], 0.02)
        self.assertLess(error["view"] * 5.0, error["scene"])

    def test_bias_too_small_stripes_and_too_large_leaks(self):
        low_sun = Light("sun", "sun", (math.pi,) * 3, frame=np.array([[0, 1, 0], [-0.6, 0, 0.8], [0.8, 0, 0.6]]))
        plain = {"shadows__way": "depth_map", "shadows__resolution": 256, "sampling__max": 4}
        bare = shaded(low_sun, meshes=(), shadows__bias=0.0, **plain)
        self.assertTrue((bare < 0.59).any(), "no bias: the floor shadows itself")
        clean = shaded(low_sun, meshes=(), shadows__bias=4.0, **plain)
        np.testing.assert_allclose(clean, 0.6, rtol=1e-4)
        leaking = shaded(self.LAMPS["sun"], looking_down(height=0.4, half_width=0.2, at=(1.0, 0.0)), shadows__bias=60.0, **plain)
        self.assertGreater(leaking.mean(), 0.9)

    def test_wider_filter_is_softer(self):
        def rises(width):
            row = shaded(self.LAMPS["sun"], size=(400, 2), shadows__way="depth_map", shadows__resolution=2048, shadows__filter=width, sampling__max=4)
            return float(((row > 0.05) & (row < 0.95)).mean())

        self.assertGreater(rises(16.0), 2.0 * rises(1.0))

    def test_off_lets_everything_through(self):
        np.testing.assert_allclose(shaded(self.LAMPS["sun"], shadows__way="off"), 1.0, rtol=1e-5)

    def test_a_light_has_its_own_way(self):
        own = replace(self.LAMPS["sun"], shadow=Shadow(way="off"))
        np.testing.assert_allclose(shaded(own), 1.0, rtol=1e-5)

    def test_lights_found_by_chance_have_the_same_shadow(self):
        """A rect over a smooth metal, its shadow off: what aiming misses, scattered rays find, and they look past the card."""
        from sivrel.core.scene.model import Surface

        metal, card = Surface("metal", (1.0,) * 3, 0.15, 1.0), quad((-9, -9, 0.8), (-9, 9, 0.8), (9, 9, 0.8), (9, -9, 0.8), 1)
        lamp, surfaces = Light("lamp", "rect", (1.0,) * 3, (0.0, 0.0, 1.0), width=3.0, height=3.0), [metal, lambert(0.0)]
        above = looking_down(0.5, 0.2)
        open_, off = (
            render(Scene("s", [floor(), *c], surfaces, [replace(lamp, shadow=Shadow(way=w))]), above, sampling__max=256, gi__seen="off")
            for c, w in (((), "traced"), ((card,), "off"))
        )  # fmt: skip
        self.assertAlmostEqual(open_[..., 0].mean() / off[..., 0].mean(), 1.0, delta=0.01)

    def test_texels_per_pixel_is_what_geometry_gives(self):
        camera = looking_down(height=1.0, half_width=0.1)
        scene = Scene("floor", [floor(half=5.0)], SURFACES, [self.LAMPS["sun"]])
        film = render(scene, camera, (20, 20), shadows__way="depth_map", shadows__resolution=1000, gi__seen="off")
        pixel, texel = 0.2 / 20, 2 * 5.0 * 1.02 / 1000
        np.testing.assert_allclose(film[..., TEXELS], pixel / texel, rtol=1e-4)
        self.assertTrue(np.isinf(render(scene, camera, (4, 4), gi__seen="off")[..., TEXELS]).all())


class Kept(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.scene = Scene("s", [floor(), CARD], SURFACES, [DepthMaps.LAMPS["sun"]], [OVER_THE_EDGE])
        self.recipe = with_values(Recipe(), {"shadows.way": "depth_map", "shadows.resolution": 64})

    def notes(self, scene=None, recipe=None, keeper=None):
        return prepare(scene or self.scene, recipe or self.recipe, caches=keeper or CacheFolder(self.folder)).maps[0]

    def test_a_map_is_made_once_and_says_why_it_is_made_again(self):
        keeper = CacheFolder(self.folder)
        self.assertTrue(self.notes(keeper=keeper).made)
        self.assertFalse(self.notes(keeper=keeper).made)
        self.assertFalse(self.notes().made, "another process finds it in the folder")
        moved = replace(self.scene, lights=[replace(self.scene.lights[0], frame=np.array([[1, 0, 0], [0, 0.8, -0.6], [0, 0.6, 0.8]]))])
        again = self.notes(moved, keeper=keeper)
        self.assertTrue(again.made)
        self.assertIn("light", again.because)
        bigger = self.notes(recipe=with_values(self.recipe, {"shadows.resolution": 128}), keeper=keeper)
        self.assertTrue(bigger.made)
        self.assertIn("map", bigger.because)

    def test_damaged_and_foreign_files_are_refused_in_a_sentence(self):
        self.notes()
        path = next(self.folder.glob("*.cache"))
        whole = path.read_bytes()
        back = caches.from_bytes(whole, path.name)
        self.assertEqual((back.kind, back.subject, caches.to_bytes(back)[:20]), ("depth map", "sun", whole[:20]))
        for data, word in (
            (whole[:-9] + b"012345678", "damaged"),
            (b"hello\nyou", "not a cache"),
            (whole.replace(f'"version": {caches.VERSION}'.encode(), b'"version": 9'), "version 9"),
        ):
            with self.assertRaisesRegex(InputError, word):
                caches.from_bytes(data, path.name)
        path.write_bytes(whole[: len(whole) // 2])
        self.assertTrue(self.notes().made, "a damaged file is made again")

    def test_it_can_be_looked_at(self):
        ready = prepare(self.scene, self.recipe)
        seen = map_picture(ready.arrays.depths.reshape(1, 64, 64))
        self.assertEqual(seen.shape, (64, 64))
        self.assertGreater(len(np.unique(seen)), 1)

    def test_a_sky_stays_traced(self):
        scene = replace(self.scene, lights=[sky()])
        self.assertEqual(prepare(scene, self.recipe).maps, [])


if __name__ == "__main__":
    unittest.main()
