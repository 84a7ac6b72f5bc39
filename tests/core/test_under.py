"""What is put where the picture is clicked, and suns by height and bearing, against closed forms."""

import math
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from sivrel.core.edits.apply_edits import apply_edits, sun_angles
from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.formats.scenes import read_scene
from sivrel.core.formats.usd_edits import write_layer
from sivrel.core.lights.daylight import direction
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe
from sivrel.core.render.under import placed, surface_under
from sivrel.core.scene.model import Camera, Light, Scene
from sivrel.demo.shots import find_shot
from tests.scenes import assert_agrees, floor, lambert, looking_down, render, sky

SUN = Light("Sun", "sun", (math.pi,) * 3)


class Under(unittest.TestCase):
    def test_the_point_of_a_tilted_camera_over_a_floor(self):
        """A ray at an angle of a to the vertical meets the floor h tan(a) away."""
        camera = looking_down(2.0, tilt=0.5, half_width=0.6)
        ready = prepare(Scene("plain", [floor(50.0)], [lambert(0.5)], [sky()], cameras=[camera]), Recipe())
        right, up, back, eye = (camera.to_world[:, k] for k in range(4))
        for x, y in ((160.0, 90.0), (10.0, 30.0), (300.5, 171.25)):
            with self.subTest(x=x, y=y):
                way = right * (x / 320 * 2 - 1) * 0.6 + up * (1 - y / 180 * 2) * 0.6 * 180 / 320 - back
                expected = eye + way * (eye[2] / -way[2])
                found = surface_under(ready, (320, 180), x, y)
                np.testing.assert_allclose(found.position, expected, atol=1e-4)
                np.testing.assert_allclose(found.normal, (0.0, 0.0, 1.0), atol=1e-6)
                self.assertAlmostEqual(found.distance, float(np.linalg.norm(expected - eye)), places=4)

    def test_nothing_is_under_the_open_sky_and_an_orthographic_camera_sees_straight_on(self):
        up = Camera("Up", np.array([[1.0, 0, 0, 0], [0, -1, 0, 0], [0, 0, -1, 1]]), 0.5)
        scene = Scene("plain", [floor(50.0)], [lambert(0.5)], [sky()], cameras=[up])
        self.assertIsNone(surface_under(prepare(scene, Recipe()), (16, 16), 8.0, 8.0))
        down = replace(looking_down(3.0, half_width=2.0), orthographic=True)
        found = surface_under(prepare(replace(scene, cameras=[down]), Recipe()), (16, 16), 16.0, 8.0)
        np.testing.assert_allclose(abs(found.position[[0, 1]]).max(), 2.0, atol=1e-5)
        self.assertAlmostEqual(found.distance, 3.0, places=5)

    def test_what_is_put_there_lights_the_surface_or_faces_the_room(self):
        ready = prepare(Scene("plain", [floor(50.0)], [lambert(0.5)], [sky()], cameras=[looking_down(2.0, half_width=0.6)]), Recipe())
        surface = surface_under(ready, (16, 16), 8.0, 8.0)
        self.assertGreater(placed("sphere", surface)["at"][2], 0.1)
        self.assertNotIn("towards", placed("point", surface))
        for kind in ("rect", "disk", "portal", "plain", "soft"):
            values = placed(kind, surface)
            self.assertGreater(values["at"][2], 0.0)
            np.testing.assert_allclose(np.subtract(values["towards"], values["at"]), (0.0, 0.0, 1.0), atol=1e-6)


class Suns(unittest.TestCase):
    def test_angles_go_there_and_back(self):
        np.testing.assert_allclose(direction(0.0, 0.0), (0.0, 0.0, -1.0), atol=1e-12)
        np.testing.assert_allclose(direction(0.0, 90.0), (1.0, 0.0, 0.0), atol=1e-12)
        np.testing.assert_allclose(direction(90.0, 17.0), (0.0, 1.0, 0.0), atol=1e-12)
        for elevation, bearing in ((12.5, 300.0), (-40.0, 0.0), (89.0, 181.0)):
            np.testing.assert_allclose(sun_angles(direction(elevation, bearing)), (elevation, bearing), atol=1e-9)

    def test_light_falls_by_the_cosine_from_the_surface(self):
        """A surface that faces +z, under a sun of irradiance pi across its rays, reflects albedo times the cosine to it."""
        scene = Scene("plain", [floor(50.0)], [lambert(0.5)], [replace(SUN, normalize=True)])
        for elevation in (0.0, 60.0, -80.0):
            with self.subTest(elevation):
                lit = apply_edits(scene, with_edits(Edits(), {"light.Sun.elevation": str(elevation), "light.Sun.bearing": "180"}))
                film = render(lit, looking_down(), gi__seen="off", sampling__max=16)
                assert_agrees(self, film, 0.5 * math.cos(math.radians(elevation)))

    def test_one_angle_leaves_the_other_and_the_layer_holds_both(self):
        scene = Scene("plain", [floor(5.0)], [lambert(0.5)], [SUN])
        first = apply_edits(scene, with_edits(Edits(), {"light.Sun.elevation": "20", "light.Sun.bearing": "130"}))
        second = apply_edits(first, with_edits(Edits(), {"light.Sun.elevation": "35"}))
        np.testing.assert_allclose(sun_angles(second.lights[0].frame[2]), (35.0, 130.0), atol=1e-9)
        edits = with_edits(Edits(), {"light.NoonSun.elevation": "20", "light.NoonSun.bearing": "130"})
        with tempfile.TemporaryDirectory() as folder:
            write_layer(find_shot("demo:slipway"), edits, Path(folder) / "edits.usda")
            read = read_scene(Path(folder) / "edits.usda")
        sun = next(light for light in read.lights if "NoonSun" in light.name)
        np.testing.assert_allclose(sun_angles(sun.frame[2]), (20.0, 130.0), atol=1e-3)
