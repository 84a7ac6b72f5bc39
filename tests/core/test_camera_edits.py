"""Cameras moved and added by edits: what they see, in the renderer and in the USD layer that carries them out."""

import math
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from sivrel.core.edits.apply_edits import apply_edits
from sivrel.core.edits.edits import Edits, split_key, with_edits
from sivrel.core.errors import InputError
from sivrel.core.formats.scenes import read_scene
from sivrel.core.formats.usd_edits import write_layer
from sivrel.core.scene.model import Scene
from sivrel.demo.shots import find_shot
from tests.scenes import floor, lambert, looking_down

SCENE = Scene("room", [floor(2.0)], [lambert(0.5)], [], cameras=[replace(looking_down(), name="main"), replace(looking_down(3.0), name="far")])


def camera(values, name="main"):
    return apply_edits(SCENE, with_edits(Edits(), values)).camera(name)


class Moved(unittest.TestCase):
    def test_it_stands_and_looks_where_it_is_aimed_with_a_level_horizon(self):
        moved = camera({"camera.main.at": "1,2,5", "camera.main.towards": "1,1,1", "camera.main.view": 60})
        np.testing.assert_allclose(moved.to_world[:, 3], (1, 2, 5))
        np.testing.assert_allclose(-moved.to_world[:, 2], np.array([0, -1, -4]) / math.sqrt(17), atol=1e-12)
        self.assertAlmostEqual(float(moved.to_world[1, 0]), 0.0)
        np.testing.assert_allclose(moved.to_world[:, :3].T @ moved.to_world[:, :3], np.eye(3), atol=1e-12)
        self.assertAlmostEqual(moved.half_width, math.tan(math.radians(30)))

    def test_what_is_not_said_stays(self):
        was, now = SCENE.camera("main"), camera({"camera.main.exposure": 2})
        np.testing.assert_array_equal(now.to_world, was.to_world)
        self.assertEqual((now.half_width, now.exposure), (was.half_width, 2.0))
        np.testing.assert_array_equal(SCENE.camera("main").to_world, was.to_world)

    def test_a_new_one_takes_the_lens_of_another(self):
        added = camera({"camera.stair.at": "0,1,0", "camera.stair.towards": "0,0,-1", "camera.stair.like": "far"}, "stair")
        self.assertEqual(added.half_width, SCENE.camera("far").half_width)
        for missing in ({"camera.stair.at": "0,1,0"}, {"camera.mian.view": 40}):
            with self.assertRaisesRegex(InputError, "to add it"):
                camera(missing)
        with self.assertRaisesRegex(InputError, "own position"):
            camera({"camera.main.at": "0,1,0", "camera.main.towards": "0,1,0"})

    def test_keys_are_checked_like_all_others(self):
        self.assertEqual(split_key("camera.main.view"), ("camera", "main", "view"))
        with self.assertRaisesRegex(InputError, "from 1 to 170"):
            camera({"camera.main.view": 200})


class CarriedOut(unittest.TestCase):
    def test_the_layer_has_the_camera_where_it_was_put(self):
        path = find_shot("demo:slipway")
        edits = with_edits(
            Edits(), {"camera.landing.at": "3,2,6", "camera.landing.towards": "0,1,0", "camera.new.at": "1,1,1", "camera.new.towards": "0,0,0"}
        )
        wanted = apply_edits(read_scene(path), edits)
        with tempfile.TemporaryDirectory() as folder:
            out = Path(folder) / "over.usda"
            self.assertEqual(write_layer(path, edits, out), [])
            found = read_scene(out)
        for name in ("landing", "new"):
            np.testing.assert_allclose(found.camera(name).to_world, wanted.camera(name).to_world, atol=1e-5)
            self.assertAlmostEqual(found.camera(name).half_width, wanted.camera(name).half_width, places=4)
            self.assertAlmostEqual(found.camera(name).exposure, wanted.camera(name).exposure, places=4)


if __name__ == "__main__":
    unittest.main()
