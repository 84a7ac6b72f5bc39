"""The echo: a recipe rendered with brute force's random numbers differs from it by its bias alone."""

import unittest

import numpy as np

from sivrel.core.diagnose.grid import grid_of
from sivrel.core.diagnose.paired_render import PairedRender
from sivrel.core.diagnose.trial_renderer import TrialRenderer
from sivrel.core.diagnose.truth import Coarse
from sivrel.core.edits.edits import Edits
from sivrel.core.errors import Cancelled
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, with_values
from tests.rooms import room

FRAME = Frame(64, 36)
ROOM = room(12).scene


def rendered(values: dict, rounds: int = 4) -> tuple[TrialRenderer, Coarse, PairedRender]:
    """Brute force of a room in so many pairs of short rounds, and the paired render of a recipe."""
    renderer = TrialRenderer(ROOM, with_values(Recipe(), {"limits.diffuse_bounces": 24, **values}), Edits(), None, FRAME)
    truth, ready, recipe = renderer.coarse(grid_of(FRAME))
    for _ in range(rounds):  # each call with no time takes two rounds of the fewest samples
        truth.refine(ready, recipe, 0.0, renderer.task)
    paired = renderer.paired(truth, 600.0)
    assert paired is not None
    return renderer, truth, paired


class Echoes(unittest.TestCase):
    def test_brute_force_is_its_own_echo(self):
        deep = {"limits.reflections": 16, "limits.refractions": 32, "limits.total": 96, "limits.indirect_clamp": 0.0}
        _, truth, paired = rendered({**deep, "sampling.gi_rays": 4, "shadows.rays": 8}, 1)
        np.testing.assert_allclose(paired.apart(truth).value, 0.0, atol=1e-7)

    def test_what_a_clamp_takes_is_distinguished_from_chance(self):
        renderer, truth, paired = rendered({"limits.indirect_clamp": 0.15})
        apart, inside = paired.apart(truth), truth.grid.inside()
        other = Coarse(truth.grid, 777)
        for _ in range(4):
            other.refine(renderer.base(), renderer.recipe, 0.0, renderer.task)
        plain, paired = (other.light - truth.light)[inside].sum(), apart.value[inside].sum()
        error = float(np.sqrt((other.variance + truth.variance)[inside].sum()))
        self.assertLess(abs(plain - paired), 4.0 * error)
        chance = np.sqrt(apart.variance[inside].sum())
        self.assertLess(paired, -5.0 * chance)  # a clamp takes light, and by far less chance than without common numbers
        self.assertLess(chance, 0.7 * error)

    def test_direct_light_drops_out(self):
        _, truth, paired = rendered({"gi.seen": "photon_map", "photon_map.final_gather_rays": 0, "photon_map.count": 20_000})
        apart, inside = paired.apart(truth), truth.grid.inside()
        # At the edges of lights and of what stands before them chance is largest, and goes.
        self.assertLess(apart.variance[inside].mean(), 0.3 * truth.variance[inside].mean())
        self.assertGreater(np.abs(apart.halves[0] - apart.halves[1])[inside].max(), 0.0)

    def test_it_follows_the_last_rounds_first_and_goes_on(self):
        renderer, truth, _ = rendered({"limits.indirect_clamp": 0.15}, 3)
        paired = PairedRender()
        paired.follow(truth, renderer.base(), renderer.recipe, 0.0, renderer.task)
        self.assertEqual(sorted(paired.planes), [4, 5])
        paired.follow(truth, renderer.base(), renderer.recipe, 600.0, renderer.task)
        self.assertEqual(sorted(paired.planes), list(range(6)))
        renderer.task.cancel.set()
        with self.assertRaises(Cancelled):
            PairedRender().follow(truth, renderer.base(), renderer.recipe, 600.0, renderer.task)

    def test_rounds_come_back_from_the_cache(self):
        renderer, truth, paired = rendered({"limits.indirect_clamp": 0.15}, 2)
        renderer.keep_coarse(truth, *renderer.truth())
        kept, _, _ = renderer.coarse(truth.grid)
        self.assertEqual((kept.sizes, kept.samples), (truth.sizes, truth.samples))
        np.testing.assert_array_equal(paired.apart(kept).value, paired.apart(truth).value)


if __name__ == "__main__":
    unittest.main()
