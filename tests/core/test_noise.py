"""The noise that is stated against what renders with other seeds differ by, and where it is said not to be known yet."""

import unittest
from dataclasses import replace

import numpy as np

from sivrel.core.measure.difference import compare
from sivrel.core.measure.noise import DARK, Noise, measure_noise, noise_in_words
from sivrel.core.measure.unfound import unfound_variance
from sivrel.core.pictures.exr import Picture
from sivrel.core.render.film import film_columns
from sivrel.core.render.frame import Frame, assemble
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tiles import render_tiles
from sivrel.core.rendered import make_picture
from sivrel.core.scene.model import Camera, Light, Scene
from tests.core.test_sampling import CARD
from tests.rooms import ball
from tests.scenes import box_inside, floor, lambert, looking_down

SIZE = (48, 32)
LOOKING = Camera("c", np.array([[1.0, 0, 0, 0], [0, 1, 0, 0], [0, 0, 1, 0.9]]), 0.8)


def rendered(scene: Scene, camera: Camera, seed: int, **settings):
    """(picture, arrays) of a scene; settings as in tests.scenes.render."""
    recipe = with_values(Recipe(), {key.replace("__", "."): value for key, value in settings.items()})
    frame, tiles = Frame(*SIZE, seed=seed), {}
    ready = prepare(replace(scene, cameras=[camera]), recipe, frame=frame)
    render_tiles(ready.arrays, camera, recipe, frame, tiles.__setitem__, threads=2)
    return make_picture(assemble(frame, film_columns(ready.arrays.slots), tiles), ready, frame, recipe, "s"), ready.arrays


class Stated(unittest.TestCase):
    def glowing(self, radius: float, radiance: float, at=(0.3, 0.5, -0.2)) -> Scene:
        """A closed grey room with a bulb that merely glows."""
        bulb = ball("bulb", at, radius, 1, 8)
        return Scene("glow", [box_inside(), bulb], [lambert(0.6), lambert(0.0, (radiance,) * 3)])

    def test_it_is_what_seeds_differ_by(self):
        penumbra = Scene("penumbra", [floor(), CARD], [lambert(0.8), lambert(0.0)], [Light("l", "sphere", (900.0,) * 3, (0.0, 0.0, 5.0), radius=0.2)])
        for name, scene, camera, settings in (
            ("penumbra", penumbra, looking_down(0.4, half_width=0.6), {"gi__seen": "off", "sampling__max": 9}),
            ("a large glow", self.glowing(0.3, 3.0), LOOKING, {"sampling__max": 33}),
        ):
            pictures = [rendered(scene, camera, seed, **settings)[0] for seed in range(70, 76)]
            stated = [measure_noise(picture).level for picture in pictures]
            apart = np.mean([compare(a, b).noise_between ** 2 for a, b in zip(pictures[::2], pictures[1::2], strict=True)]) ** 0.5
            self.assertNotIn(None, stated, name)
            self.assertIsNone(compare(pictures[0], replace(pictures[1], frame=pictures[0].frame)).noise_between, "one seed says nothing")
            self.assertLess(apart, 1.15 * np.mean(stated), name)
            self.assertGreater(apart, 0.4 * np.mean(stated), name)

    def test_light_that_chance_hardly_finds_is_not_known_yet(self):
        """A bulb of two millimetres: most renders have not met it, and their spread says that there is next to no noise."""
        lamp = Light("lamp", "sphere", (4.0,) * 3, (-0.4, 0.6, 0.2), radius=0.1)
        scene = replace(self.glowing(0.002, 30_000.0), lights=[lamp])
        for seed in range(4):
            picture, arrays = rendered(scene, LOOKING, seed, sampling__max=8)
            noise = measure_noise(picture, unfound_variance(picture, arrays))
            self.assertIsNone(noise.level, seed)
            self.assertIn("not known yet", noise_in_words(noise))
        aimed = replace(scene, meshes=[scene.meshes[0], replace(scene.meshes[1], aimed=True)])
        picture, arrays = rendered(aimed, LOOKING, 5, sampling__max=8)
        self.assertEqual(unfound_variance(picture, arrays), 0.0)
        self.assertIsNotNone(measure_noise(picture).level)

    def test_the_bound_of_unfound_glow_is_its_variance(self):
        """Of a bulb that is found often enough to measure it: the bound is what the samples' own spread comes to at the first bounce."""
        scene = self.glowing(0.04, 400.0, (0.0, 0.5, 0.95))  # behind the camera, whose rays meet none of its edges
        picture, arrays = rendered(scene, LOOKING, 3, sampling__max=3000, limits__diffuse_bounces=0)
        measured = measure_noise(picture).level ** 2
        hidden = replace(picture, passes={k: v for k, v in picture.passes.items() if k != "light.glow"})
        self.assertAlmostEqual(unfound_variance(hidden, arrays) / measured, 1.0, delta=0.4)
        self.assertEqual(unfound_variance(picture, arrays), 0.0, "enough samples have met it")

    def test_a_slit_that_few_samples_pass_is_not_known_yet(self):
        beauty = np.zeros((40, 60, 4), np.float32)
        beauty[..., 3] = 1.0
        lucky = np.random.default_rng(3).integers(0, 40 * 60, 30)
        beauty.reshape(-1, 4)[lucky, :3] = 2.0
        variance = (beauty[..., :3] ** 2).astype(np.float32)
        samples = np.full((40, 60, 1), 8.0, np.float32)
        noise = measure_noise(Picture({"beauty": beauty, "variance": variance, "samples": samples}, Frame(60, 40)))
        self.assertIsNone(noise.level)
        self.assertGreater(noise.unknown, 0.5)
        self.assertIn("too few samples", noise.why)

    def test_one_firefly_is_no_measure(self):
        beauty = np.full((40, 60, 4), 0.5, np.float32)
        variance = np.full((40, 60, 3), 1e-6, np.float32)
        variance[20, 30], beauty[20, 30, :3] = 400.0, 20.0
        noise = measure_noise(Picture({"beauty": beauty, "variance": variance}, Frame(60, 40)))
        self.assertIsNone(noise.level)
        self.assertIn("one pixel that found rare light; the rest has 0.2%", noise.why)

    def test_the_tail_is_reported(self):
        beauty = np.full((60, 60, 4), 0.5, np.float32)
        variance = np.full((60, 60, 3), 1e-4, np.float32)
        variance[20:40, 20:40] = 0.04
        noise = measure_noise(Picture({"beauty": beauty, "variance": variance}, Frame(60, 60)))
        self.assertAlmostEqual(noise.tail, 0.2 / (0.5 * (1.0 + DARK)), delta=0.03)
        self.assertIn("worst hundredth", noise_in_words(noise))
        self.assertEqual(noise_in_words(Noise(0.05, 0.06, 0.0)), "5.0% (root mean square)")


if __name__ == "__main__":
    unittest.main()
