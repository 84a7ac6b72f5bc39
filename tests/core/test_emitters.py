"""Every emitter against closed forms or an independent integration."""

import math
import unittest
from dataclasses import replace

import numpy as np
from scipy.integrate import dblquad

from sivrel.core.formats.ies import read_ies
from sivrel.core.lights.blackbody import blackbody_rgb, planck, spectrum_to_xyz
from sivrel.core.lights.daylight import daylight, direction, perez, sky_xyY, sun_irradiance, sun_position, zenith
from sivrel.core.lights.panorama import direction_of
from sivrel.core.lights.shaping import profile_at, profile_table
from sivrel.core.scene.model import Light, Profile, Scene, Shaping, Surface, Texture
from sivrel.core.scene.texels import texels_of
from tests.scenes import assert_agrees, floor, lambert, looking_down, render
from tests.scenes import quad as card

DOWN = np.eye(3)  # of a flat light: its -z is the floor's
IES = """IESNA:LM-63-2002
[TEST] made by hand
TILT=NONE
1 1000 2 7 3 1 2 0 0 0
1 1 100
0 15 30 45 60 75 90
0 45 90
900 850 700 500 300 120 10
900 830 650 430 240 90 8
900 800 600 400 200 60 5
"""


def floor_under(*lights: Light, camera=None, meshes=(), surfaces=(), **settings):
    scene = Scene("floor", [floor(), *meshes], [lambert(1.0), *surfaces], list(lights))
    return render(scene, camera or looking_down(half_width=1e-5), sampling__max=64, **settings)


class Shapes(unittest.TestCase):
    def test_cylinder_against_integration_over_its_side(self):
        r, length, h = 0.2, 1.4, 0.9
        light = Light("tube", "cylinder", (2.0,) * 3, (0.3, 0.0, h), np.eye(3), radius=r, length=length)

        def term(phi, x):  # from the floor point at the origin
            n = np.array([0.0, math.cos(phi), math.sin(phi)])
            q = np.array([0.3 + x, 0.0, h]) + r * n
            d = math.sqrt(q @ q)
            return max(0.0, -(n @ q) / d) * q[2] / d / d**2 * r

        irradiance = 2.0 * dblquad(term, -length / 2, length / 2, math.pi, 2 * math.pi, epsabs=1e-7)[0]
        assert_agrees(self, floor_under(light), irradiance / math.pi)

    def test_spot_cone_fades_as_the_standard_says(self):
        """In the middle, half way through the soft part, and outside it, of a point with a cone of 40 degrees, half soft."""
        light = Light("spot", "point", (math.pi,) * 3, (0.0, 0.0, 1.0), DOWN, shaping=Shaping(cone_angle=40.0, cone_softness=0.5))
        for degrees, factor in ((0.0, 1.0), (15.0, 1.0), (30.0, 0.5), (35.0, 1 - 0.75**2 * 1.5), (41.0, 0.0)):
            at = math.tan(math.radians(degrees))
            film = floor_under(light, camera=looking_down(half_width=1e-7, at=(at, 0.0)))
            np.testing.assert_allclose(film[..., :3].mean(axis=(0, 1)), factor * math.cos(math.radians(degrees)) ** 3, rtol=1e-4)

    def test_focus_tints_off_the_axis(self):
        shaping = Shaping(focus=4.0, focus_tint=(1.0, 0.5, 0.0))
        light = Light("spot", "point", (math.pi,) * 3, (0.0, 0.0, 1.0), DOWN, shaping=shaping)
        cos = math.cos(math.radians(50.0))
        film = floor_under(light, camera=looking_down(half_width=1e-7, at=(math.tan(math.radians(50.0)), 0.0)))
        f = cos**4
        np.testing.assert_allclose(film[..., :3].mean(axis=(0, 1)), cos**3 * (f + (1 - f) * np.array([1.0, 0.5, 0.0])), rtol=1e-4)

    def test_mesh_that_is_aimed_at_equals_the_rect_that_it_is(self):
        a, b, h = 0.5, 0.3, 0.8
        panel = card((-a, -b, h), (-a, b, h), (a, b, h), (a, -b, h), 1)  # faces down
        lamp = Light("lamp", "rect", (1.0, 2.0, 3.0), (0.0, 0.0, h), DOWN, width=2 * a, height=2 * b)
        below = looking_down(0.4, half_width=1e-5)
        by_rect = floor_under(lamp, camera=below)[..., :3].mean(axis=(0, 1))
        glow = lambert(0.0, (1.0, 2.0, 3.0))
        for aimed in (True, False):
            film = floor_under(meshes=[replace(panel, aimed=aimed)], surfaces=[glow], camera=below)
            assert_agrees(self, film, by_rect, largest_error=0.03)

    def test_aiming_at_a_far_small_bright_mesh_is_far_less_noisy(self):
        s, h = 0.01, 2.0
        panel = card((-s, -s, h), (-s, s, h), (s, s, h), (s, -s, h), 1)
        spread = {}
        for aimed in (True, False):
            film = floor_under(meshes=[replace(panel, aimed=aimed)], surfaces=[lambert(0.0, (1e4,) * 3)])
            spread[aimed] = film[..., 0].std()
        self.assertLess(spread[True] * 30.0, spread[False])

    def test_black_and_white_of_a_light_on_base_and_gloss(self):
        light = Light("lamp", "rect", (1.0,) * 3, (0.0, 0.0, 1.0), DOWN)
        paint = Surface("paint", (0.5,) * 3, 0.3)
        whole, base, gloss = (
            render(Scene("s", [floor()], [paint], [replace(light, diffuse=d, specular=s)]), looking_down(tilt=0.3), sampling__max=128)[..., 0].mean()
            for d, s in ((1.0, 1.0), (1.0, 0.0), (0.0, 1.0))
        )
        self.assertAlmostEqual((base + gloss) / whole, 1.0, delta=0.01)
        self.assertGreater(min(base, gloss), 0.05 * whole)


class Skies(unittest.TestCase):
    def panorama(self) -> Texture:
        rng = np.random.default_rng(5)
        texels = np.ones((16, 32, 4), np.float32)
        texels[..., :3] = rng.uniform(0.1, 1.0, (16, 32, 3)) + 200.0 * (rng.random((16, 32, 1)) > 0.98)
        return Texture(texels_of(texels), ("repeat", "clamp"))

    def test_panorama_lights_a_floor_by_its_integral(self):
        picture = self.panorama()
        turn = np.array([[1.0, 0, 0], [0, 0, 1.0], [0, -1.0, 0]])  # rows x, y, z: its pole is the world's z
        sky = Light("sky", "dome", frame=turn, picture=picture, rotation=37.0)
        film = floor_under(sky, camera=looking_down(half_width=1e-4))
        # The same look-up as the renderer's, bilinear, on a fine grid; rotation about the pole does not matter upright.
        n = 1024
        v, u = (np.arange(n) + 0.5) / n * 0.5, (np.arange(2 * n) + 0.5) / (2 * n)
        x, y = np.mod(u * 32 - 0.5, 32), v * 16 - 0.5
        i, j = np.floor(x).astype(int), np.floor(y).astype(int)
        fx, fy = (x - i)[None, :, None], (y - j)[:, None, None]
        t = picture.image.linear()[..., :3].astype(float)
        rows, following = np.clip(j, 0, 15), np.clip(j + 1, 0, 15)
        top = t[rows][:, i % 32] * (1 - fx) + t[rows][:, (i + 1) % 32] * fx
        low = t[following][:, i % 32] * (1 - fx) + t[following][:, (i + 1) % 32] * fx
        up = np.pi * (0.5 - v)
        weight = (np.cos(up) * np.sin(up) * (np.pi / 2 / n) * (np.pi / n))[:, None, None]
        assert_agrees(self, film, ((top * (1 - fy) + low * fy) * weight).sum(axis=(0, 1)) / np.pi, largest_error=0.02)

    def test_panorama_lies_as_the_standard_says(self):
        np.testing.assert_allclose(direction_of(0.5, 0.5), (0, 0, 1), atol=1e-12)
        np.testing.assert_allclose(direction_of(0.25, 0.5), (1, 0, 0), atol=1e-12)
        np.testing.assert_allclose(direction_of(0.1, 0.0), (0, 1, 0), atol=1e-12)

    def test_a_portal_changes_noise_and_not_light(self):
        """A floor under a lid with a hole: aimed at through a portal in the hole, or at the whole sky."""
        a, h = 0.25, 1.0
        lid = [
            card((-900, -900, h), (-900, 900, h), (-a, 900, h), (-a, -900, h), 1), card((a, -900, h), (a, 900, h), (900, 900, h), (900, -900, h), 1),
            card((-a, -900, h), (-a, -a, h), (a, -a, h), (a, -900, h), 1), card((-a, a, h), (-a, 900, h), (a, 900, h), (a, a, h), 1),
        ]  # fmt: skip
        x = a / h
        corner = 2 * x / math.hypot(1, x) * math.atan(x / math.hypot(1, x)) / (2 * math.pi)
        sky = Light("sky", "dome")
        portal = Light("hole", "portal", position=(0.0, 0.0, h), frame=DOWN, width=2 * a, height=2 * a)
        films = [floor_under(*lights, meshes=lid, surfaces=[lambert(0.0)], gi__seen="off") for lights in ((sky,), (sky, portal))]
        for film in films:
            assert_agrees(self, film, 4 * corner, largest_error=0.03)
        self.assertLess(films[1][..., 0].std() * 4.0, films[0][..., 0].std())

    def test_sky_is_the_cited_model(self):
        """Values worked out from the paper's formulae by hand: turbidity 3, the sun at 40 degrees from the zenith."""
        theta = math.radians(40.0)
        luminance, x, y = zenith(3.0, theta)
        chi = (4 / 9 - 3 / 120) * (math.pi - 2 * theta)
        self.assertAlmostEqual(luminance, 1000 * ((4.0453 * 3 - 4.9710) * math.tan(chi) - 0.2155 * 3 + 2.4192), places=6)
        t = theta
        expected = 9 * (0.00166 * t**3 - 0.00375 * t**2 + 0.00209 * t) + 3 * (-0.02903 * t**3 + 0.06377 * t**2 - 0.03202 * t + 0.00394)
        self.assertAlmostEqual(x, expected + 0.11693 * t**3 - 0.21196 * t**2 + 0.06052 * t + 0.25886, places=9)
        a, b, c, d, e = 0.1787 * 3 - 1.4630, -0.3554 * 3 + 0.4275, -0.0227 * 3 + 5.3251, 0.1206 * 3 - 2.5771, -0.0670 * 3 + 0.3703
        gamma, up = 0.7, 1.1
        f = (1 + a * math.exp(b / math.cos(up))) * (1 + c * math.exp(d * gamma) + e * math.cos(gamma) ** 2)
        self.assertAlmostEqual(float(perez("Y", 3.0, np.array(up), np.array(gamma))), f, places=9)
        np.testing.assert_allclose(sky_xyY(3.0, theta, np.zeros(1), np.full(1, theta))[0], (x, y, luminance), rtol=1e-9)

    def test_sun_stands_where_almanacs_put_it(self):
        # At the equinox's noon on the equator the sun is overhead; on a midsummer noon it stands at 90 - latitude + 23.44.
        self.assertGreater(sun_position(0.0, 0.0, "2026-03-20T12:07+00:00")[0], 89.0)
        elevation, azimuth = sun_position(57.5, 0.0, "2026-06-21T12:02+00:00")
        self.assertAlmostEqual(elevation, 90 - 57.5 + 23.44, delta=0.1)
        self.assertAlmostEqual(azimuth, 180.0, delta=1.0)
        np.testing.assert_allclose(direction(0.0, 90.0), (1, 0, 0), atol=1e-12)  # east

    def test_daylight_is_of_the_right_strength(self):
        made = daylight(57.5, 0.0, "2026-06-21T12:00+00:00")
        lux = float(np.dot(made.sun, (0.2126, 0.7152, 0.0722)))
        self.assertTrue(70e3 < lux < 110e3)
        low = sun_irradiance(3.0, 10.0)
        self.assertGreater(low[0] / low[2], 2.0 * made.sun[0] / made.sun[2])  # redder when low


class Colours(unittest.TestCase):
    def test_kelvin_to_chromaticity(self):
        """Planckian chromaticities (CIE 15; illuminant A is 2856 K): the fitted observer is within 0.003 of the tables."""
        for kelvin, x, y in ((2856.0, 0.4476, 0.4074), (4000.0, 0.3805, 0.3767), (6500.0, 0.3135, 0.3237), (10000.0, 0.2807, 0.2884)):
            xyz = spectrum_to_xyz(planck(kelvin))
            np.testing.assert_allclose(xyz[:2] / xyz.sum(), (x, y), atol=3e-3)
            self.assertAlmostEqual(float(np.dot(blackbody_rgb(kelvin), (0.2126, 0.7152, 0.0722))), 1.0, places=9)


class Profiles(unittest.TestCase):
    def test_profile_is_read_back_at_its_angles(self):
        profile = read_ies(IES, "lamp.ies")
        table = profile_table(profile, False)
        measured = 2.0 * np.array([[900, 850, 700, 500, 300, 120, 10], [900, 830, 650, 430, 240, 90, 8], [900, 800, 600, 400, 200, 60, 5]])
        for row, turn in enumerate((0, 45, 90)):
            for column, tilt in enumerate(range(0, 91, 15)):
                for mirrored in (turn, 180 - turn, 180 + turn, (360 - turn) % 360):
                    got = profile_at(table, 0, math.radians(tilt), math.radians(mirrored))
                    self.assertAlmostEqual(got / measured[row, column], 1.0, delta=0.005)
        self.assertEqual(profile_at(table, 0, math.radians(100.0), 0.0), 0.0)

    def test_a_point_with_a_profile_lights_by_its_candela(self):
        light = Light("lamp", "point", (1.0,) * 3, (0.0, 0.0, 2.0), DOWN, shaping=Shaping(profile=read_ies(IES, "lamp.ies")))
        at = 2.0 * math.tan(math.radians(30.0))
        film = floor_under(light, camera=looking_down(half_width=1e-7, at=(at, 0.0)))
        distance2 = 4.0 + at * at
        assert_agrees(self, film, 1400.0 / distance2 * math.cos(math.radians(30.0)) / math.pi)

    def test_normalized_profiles_keep_the_flux(self):
        even = Profile(np.array([0.0, 180.0]), np.array([0.0, 360.0]), np.full((2, 2), 7.0))
        self.assertAlmostEqual(even.power(), 28.0 * math.pi, delta=0.01)
        self.assertAlmostEqual(profile_at(profile_table(even, True), 0, 1.0, 1.0), 1.0, delta=1e-3)

    def test_symmetries_and_broken_files(self):
        one = read_ies(
            IES.replace("2 7 3 1", "2 7 1 1").replace("0 45 90\n", "0\n", 1).replace("900 830 650 430 240 90 8\n900 800 600 400 200 60 5\n", ""), "x"
        )
        self.assertEqual(one.candela.shape, (2, 7))
        for text, word in (("hello", "TILT"), (IES[:-40], "missing"), (IES.replace("2 7 3 1", "2 7 3 2"), "type B")):
            with self.assertRaisesRegex(Exception, word):
                read_ies(text, "lamp.ies")


if __name__ == "__main__":
    unittest.main()
