"""What lights are said to do to a picture, against what a render without them shows."""

import unittest

import numpy as np

from sivrel.core.measure.ledger import BOUNCED, CAMERA, measure_ledger
from sivrel.core.pack.lights import pass_names
from sivrel.core.render.film import clock_entries, film_columns
from sivrel.core.render.frame import Frame, assemble
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tiles import render_tiles
from sivrel.core.scene.model import Light, Scene
from tests.scenes import box_inside, floor, lambert, looking_down, quad, render

SMALL = Light("small", "sphere", (30.0,) * 3, (0.2, 0.1, 0.8), radius=0.02)
LARGE = Light("large", "rect", (1.0,) * 3, (0.0, 0.0, 0.9), width=0.8, height=0.8)


class Shares(unittest.TestCase):
    def measured(self, *lights: Light, **settings):
        scene = Scene("room", [box_inside()], [lambert(0.6)], list(lights), [looking_down(0.5, 0.3, half_width=0.6)])
        recipe = with_values(Recipe(), {"sampling.max": 16, **{k.replace("__", "."): v for k, v in settings.items()}})
        ready, tiles = prepare(scene, recipe), {}
        clock = np.zeros(clock_entries(ready.arrays.slots))
        render_tiles(ready.arrays, ready.camera, recipe, Frame(32, 32), tiles.__setitem__, threads=2, clock=clock)
        film = assemble(Frame(32, 32), film_columns(ready.arrays.slots), tiles)
        return film, {m.name: m for m in measure_ledger(film, pass_names(scene), clock)}

    def test_share_of_light_is_that_of_a_render_of_the_one_alone(self):
        _, both = self.measured(SMALL, LARGE)
        alone = {light.name: self.measured(light)[0][..., :3].mean() for light in (SMALL, LARGE)}
        for name in alone:
            self.assertAlmostEqual(both[name].light, alone[name] / sum(alone.values()), delta=0.01)
        self.assertAlmostEqual(sum(m.light for m in both.values() if m.name in alone), 1.0, places=6)

    def test_shares_of_noise_add_up(self):
        _, before = self.measured(SMALL, LARGE, gi__seen="off")
        self.assertAlmostEqual(sum(m.noise or 0.0 for m in before.values()), 1.0, places=6)
        self.assertEqual(before[BOUNCED[0]].noise, 0.0)
        self.assertGreater(before["large"].noise, 0.0)

    def test_time_is_shared_among_the_lights_and_the_rest(self):
        _, one = self.measured(SMALL, LARGE)
        _, many = self.measured(SMALL, LARGE, shadows__rays=16)
        if one[BOUNCED[0]].time is None:
            self.skipTest("this processor's clock may not be read")
        for measured in (one, many):
            self.assertAlmostEqual(sum(m.time or 0.0 for m in measured.values()), 1.0, delta=1e-6)
        self.assertGreater(many["small"].time + many["large"].time, one["small"].time + one["large"].time)
        self.assertGreater(one[BOUNCED[0]].time, one[CAMERA].time * 0.2)

    def test_shadowed_share(self):
        """A point over a card that hides half of what the camera sees."""
        card = quad((0, -9, 0.2), (9, -9, 0.2), (9, 9, 0.2), (0, 9, 0.2))
        scene = Scene("half", [floor(), card], [lambert(1.0)], [Light("sun", "sun", (1.0,) * 3)])
        film = render(scene, looking_down(0.1, half_width=0.5), (32, 4), gi__seen="off", sampling__max=16)
        measure = next(m for m in measure_ledger(film, pass_names(scene)) if m.name == "sun")
        self.assertAlmostEqual(measure.shadowed, 0.5, delta=0.02)
        self.assertIsNone(measure.time)


if __name__ == "__main__":
    unittest.main()
