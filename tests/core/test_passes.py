"""Passes: that parts add up to the beauty, and that each shows what it says."""

import unittest

import numpy as np

from sivrel.core.measure.meters import measure_meters
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.pack.lights import pass_names
from sivrel.core.render.passes import LIGHT, film_passes, kind_in_words, motion_pass
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe
from sivrel.core.scene.model import Light, Scene, Surface
from sivrel.core.scene.triangles import objects_at
from tests.scenes import box_inside, floor, lambert, looking_down, quad, render, sky

CLEAR = Surface("clear", ior=1.5, roughness=0.0, opacity=0.0, see_through="pane")
GLOSSY = Surface("glossy", (0.6, 0.3, 0.2), roughness=0.3, coat=0.4)
GLOW = lambert(0.2, (0.5, 0.2, 0.1))


def shot() -> Scene:
    room = box_inside()
    room.surfaces[:4] = 1
    pane = quad((-0.3, -0.5, -0.4), (0.3, -0.5, -0.4), (0.3, 0.5, -0.3), (-0.3, 0.5, -0.3), 2)
    lamp = Light("lamp", "sphere", (20.0,) * 3, (0.4, 0.2, 0.6), radius=0.1)
    return Scene("all", [room, pane], [GLOSSY, GLOW, CLEAR], [lamp, Light("point", "point", (0.5,) * 3, (-0.5, 0.3, 0.2))], [])


class Parts(unittest.TestCase):
    def test_they_add_up_to_the_beauty(self):
        scene, camera = shot(), looking_down(0.7, 0.3, half_width=0.8)
        for settings in ({}, {"sampling__gi_rays": 3, "sampling__glossy_rays": 2}, {"limits__indirect_clamp": 0.2}):
            film = render(scene, camera, (32, 32), sampling__max=8, **settings)
            passes = film_passes(film, pass_names(scene), pack_scene(scene))
            beauty = passes["beauty"][..., :3]
            np.testing.assert_allclose(passes["direct"] + passes["indirect"], beauty, rtol=1e-4, atol=1e-6)
            by_scattering = passes["emission"] + passes["diffuse"] + passes["gloss"] + passes.get("glass", 0.0)
            np.testing.assert_allclose(by_scattering, beauty, rtol=1e-3, atol=1e-4)
            lights = sum(plane for name, plane in passes.items() if name.startswith(LIGHT))
            np.testing.assert_allclose(lights, passes["direct"], rtol=1e-3, atol=1e-5)
            self.assertGreater(float(passes["emission"].mean()), 0.01)
            self.assertGreater(float(passes["gloss"].mean()), 0.01)

    def test_surfaces_and_objects_are_numbered(self):
        scene = shot()
        film = render(scene, looking_down(0.7, 0.3, half_width=0.8), (32, 32), sampling__max=4)
        passes = film_passes(film, pass_names(scene), pack_scene(scene))
        self.assertTrue({0.0, 1.0} <= set(np.unique(passes["surface"]).tolist()) | {1.0})
        self.assertEqual(set(np.unique(passes["object"]).tolist()) - {0.0, 1.0}, set())


class Occlusion(unittest.TestCase):
    def test_under_a_card_it_is_the_share_of_the_sky_within_reach(self):
        """A card all over a floor at half the reach: rays nearer than the reach are those within sixty degrees of the normal."""
        card = quad((-50, -50, 0.5), (50, -50, 0.5), (50, 50, 0.5), (-50, 50, 0.5))
        camera = looking_down(0.2, half_width=1e-3)
        film = render(
            Scene("o", [floor(), card], [lambert(0.5)], [sky()]),
            camera,
            (16, 16),
            ambient__samples=16,
            ambient__near=1.0,
            ambient__reach=1.0,
            sampling__max=16,
        )
        occlusion = film_passes(film, [])["occlusion"]
        self.assertAlmostEqual(float(occlusion.mean()), 1.0 - np.sin(np.radians(60.0)) ** 2, delta=0.005)

    def test_without_rays_there_is_no_pass(self):
        film = render(Scene("o", [floor()], [lambert(0.5)], [sky()]), looking_down(), (4, 4), sampling__max=1)
        self.assertNotIn("occlusion", film_passes(film, []))


class Motion(unittest.TestCase):
    def moved(self, scene: Scene, camera, next_scene: Scene, next_camera):
        film = render(scene, camera, (40, 20), sampling__max=1)
        ready = []
        for s, c in ((scene, camera), (next_scene, next_camera)):
            s.cameras[:] = [c]
            ready.append(prepare(s, Recipe()))
        return motion_pass(film, ready[0].placed, ready[1].placed, (40, 20))

    def scene(self, shift=0.0) -> Scene:
        return Scene("m", [quad((-1 + shift, -1, 0), (1 + shift, -1, 0), (1 + shift, 1, 0), (-1 + shift, 1, 0))], [lambert(0.5)], [sky()])

    def test_of_an_object(self):
        motion = self.moved(self.scene(), looking_down(1.0, half_width=0.5), self.scene(0.1), looking_down(1.0, half_width=0.5))
        # 40 pixels show one metre: a tenth of it is four pixels to the right.
        np.testing.assert_allclose(motion[..., 0], 4.0, atol=1e-3)
        np.testing.assert_allclose(motion[..., 1], 0.0, atol=1e-3)

    def test_of_the_camera(self):
        motion = self.moved(self.scene(), looking_down(1.0, half_width=0.5), self.scene(), looking_down(1.0, half_width=0.5, at=(0.0, 0.05)))
        np.testing.assert_allclose(motion[..., 0], 0.0, atol=1e-3)
        np.testing.assert_allclose(motion[..., 1], 2.0, atol=1e-3)

    def test_of_another_mesh_it_tells_nothing(self):
        other = Scene("m", [floor(), floor(2.0)], [lambert(0.5)], [sky()])
        self.assertIsNone(self.moved(self.scene(), looking_down(), other, looking_down()))


class Fireflies(unittest.TestCase):
    def test_a_glow_that_is_only_met_is_named(self):
        """A small bright panel that merely glows in a dim room: what sparkles was found by a diffuse bounce that met it."""
        panel = quad((0.0, 0.0, 0.95), (0.0, 0.12, 0.95), (0.12, 0.12, 0.95), (0.12, 0.0, 0.95), 1)
        scene = Scene("glow", [box_inside(), panel], [lambert(0.4), lambert(0.0, (400.0,) * 3)], [])
        film = render(scene, looking_down(0.5, half_width=0.3), (48, 48), sampling__max=16, limits__diffuse_bounces=1)
        meters = measure_meters(film, ["room", "panel"], lambda triangles: objects_at(pack_scene(scene), triangles))
        self.assertGreater(meters["fireflies"], 0.002)
        self.assertEqual(meters["firefly_kind"][0].split(" → ")[0], "diffuse")
        self.assertTrue(meters["firefly_kind"][0].endswith("a glow met by chance"))

    def test_kinds_in_words(self):
        self.assertEqual(kind_in_words(((1 * 4 + 3) * 4 + 3) * 3 + 1), "diffuse → glass → glass → a light met by chance")
        self.assertEqual(kind_in_words(0), "a light aimed at")


if __name__ == "__main__":
    unittest.main()
