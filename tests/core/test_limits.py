"""Limits, and the meters that say what they cost."""

import unittest

import numpy as np

from sivrel.core.measure.meters import measure_meters
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.render.film import CLAMPED, DIRECT, INDIRECT, LEFT
from sivrel.core.render.passes import film_passes
from sivrel.core.scene.model import Light, Scene, Surface
from tests.scenes import box_inside, floor, lambert, looking_down, mesh, quad, render

ALBEDO, GLOW = 0.6, 0.25
OF_BOX = np.zeros(64, int)
BOX = Scene("box", [box_inside()], [lambert(ALBEDO, (GLOW,) * 3)], [])
CAMERA = looking_down(height=0.5, tilt=0.4, half_width=0.8)


def luminance(film: np.ndarray, column: int) -> float:
    return float((film[..., column : column + 3] @ (0.2126, 0.7152, 0.0722)).mean())


class Beyond(unittest.TestCase):
    def test_what_lies_beyond_a_bounce_limit_is_the_rest_of_the_series(self):
        for bounces in (0, 1, 4):
            film = render(BOX, CAMERA, (32, 32), sampling__max=256, limits__diffuse_bounces=bounces)
            rest = GLOW * ALBEDO ** (bounces + 2) / (1.0 - ALBEDO)
            meters = measure_meters(film, ["box"], OF_BOX.__getitem__)
            whole = GLOW / (1.0 - ALBEDO)
            self.assertAlmostEqual(meters["beyond"]["diffuse"], rest / whole, delta=3.5 * meters["beyond_error"] + 1e-4)
            self.assertLess(meters["beyond_error"], 0.05 * rest / whole + 0.002)
            self.assertEqual((meters["beyond"]["mirror"], meters["beyond"]["total"]), (0.0, 0.0))

    def test_the_meter_adds_nothing_to_the_picture(self):
        film = render(BOX, CAMERA, (32, 32), sampling__max=256, limits__diffuse_bounces=1)
        self.assertAlmostEqual(luminance(film, DIRECT) + luminance(film, INDIRECT), GLOW * (1 + ALBEDO + ALBEDO**2), delta=0.003)

    def test_the_total_ends_paths_of_every_kind(self):
        film = render(BOX, CAMERA, (16, 16), sampling__max=256, limits__diffuse_bounces=64, limits__total=1)
        meters = measure_meters(film, ["box"], OF_BOX.__getitem__)["beyond"]
        self.assertEqual(meters["diffuse"], 0.0)
        self.assertAlmostEqual(meters["total"], ALBEDO**3, delta=0.02)

    def test_reflections_count_apart(self):
        """A glowing box of white metal: a mirror's limit leaves what the next reflections would bring."""
        metal = Scene("box", [box_inside()], [Surface("metal", (ALBEDO,) * 3, 0.3, 1.0, emission=(GLOW,) * 3)], [])
        meters = measure_meters(render(metal, CAMERA, (16, 16), sampling__max=128, limits__reflections=1), ["box"], OF_BOX.__getitem__)["beyond"]
        self.assertGreater(meters["mirror"], 0.05)

    def test_off_is_a_choice_and_not_a_limit(self):
        film = render(BOX, CAMERA, (8, 8), gi__seen="off")
        self.assertEqual(float(film[..., LEFT : LEFT + 3].sum()), 0.0)


class Clamp(unittest.TestCase):
    """A floor under a small lamp that only a side wall sees well: indirect light comes in bright samples."""

    def scene(self) -> Scene:
        wall = quad((0.3, -2, 0), (0.3, -2, 2), (0.3, 2, 2), (0.3, 2, 0), 1)
        wall.name = "/Wall"
        ground = floor(2.0)
        ground.name = "/Ground"
        return Scene("corner", [ground, wall], [lambert(0.8), lambert(0.8)], [Light("L", "point", (2.0,) * 3, (0.1, 0.0, 0.05))])

    def test_what_it_takes_is_the_difference(self):
        camera = looking_down(0.4, half_width=0.4, at=(0.05, 0.0))
        free, clamped = (render(self.scene(), camera, (24, 24), sampling__max=64, limits__indirect_clamp=c) for c in (0.0, 1.5))
        taken = luminance(free, INDIRECT) - luminance(clamped, INDIRECT)
        self.assertGreater(taken, 0.02 * luminance(free, INDIRECT))
        self.assertAlmostEqual(float(clamped[..., CLAMPED].mean()), taken, delta=1e-3 * luminance(free, INDIRECT))
        self.assertEqual(float(free[..., CLAMPED].sum()), 0.0)
        meters = measure_meters(clamped, ["/Ground", "/Wall"], np.array([0, 0, 1, 1]).__getitem__)
        self.assertAlmostEqual(meters["clamped"], taken / (luminance(free, DIRECT) + luminance(free, INDIRECT)), delta=1e-3)
        self.assertEqual(meters["clamped_most"][0], "/Ground")

    def test_direct_light_is_never_clamped(self):
        camera = looking_down(0.4, half_width=0.4, at=(0.05, 0.0))
        free, clamped = (render(self.scene(), camera, limits__indirect_clamp=c) for c in (0.0, 1e-3))
        np.testing.assert_array_equal(free[..., DIRECT : DIRECT + 3], clamped[..., DIRECT : DIRECT + 3])


class Offset(unittest.TestCase):
    def test_rays_that_meet_their_own_triangle_are_counted(self):
        """Far from the origin, where 32-bit places are coarse, a tiny offset lets rays hit the sphere that they leave."""
        rng = np.linspace(0, 2 * np.pi, 33)
        far = 1000.0
        ring = [
            [(far + np.cos(a), np.sin(a), -1), (far + np.cos(b), np.sin(b), -1), (far + 0.5, 0.3, 1)] for a, b in zip(rng[:-1], rng[1:], strict=True)
        ]
        scene = Scene("cone", [mesh(ring)], [lambert(0.8)], [Light("sky", "dome")])
        camera = looking_down(height=4.0, half_width=0.3, at=(far, 0.0))
        films = [render(scene, camera, sampling__max=64, limits__ray_offset=o) for o in (1e-9, 0.0)]
        tiny, safe = (measure_meters(film, ["cone"], OF_BOX.__getitem__)["self_hits"] for film in films)
        self.assertGreater(tiny, 0.05)
        self.assertEqual(safe, 0.0)


class Objects(unittest.TestCase):
    def test_pass_of_objects(self):
        scene = Scene("two", [floor(1.0), quad((0, -1, 0.5), (1, -1, 0.5), (1, 1, 0.5), (0, 1, 0.5))], [lambert(0.5)], [])
        film = render(scene, looking_down(1.0, half_width=0.4), (16, 4))
        passes = film_passes(film, [], pack_scene(scene))
        self.assertEqual((passes["object"][0, 0, 0], passes["object"][0, -1, 0]), (0.0, 1.0))
        np.testing.assert_allclose(passes["position"][0, :, 2], [0.0] * 8 + [0.5] * 8, atol=1e-6)


if __name__ == "__main__":
    unittest.main()
