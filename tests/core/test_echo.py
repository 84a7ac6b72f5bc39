"""The echo: a recipe rendered with brute force's random numbers differs from it by its bias alone."""

import unittest

import numpy as np

from sivrel.core.diagnose.echo import Echo
from sivrel.core.diagnose.grid import grid_of
from sivrel.core.diagnose.stand import Stand
from sivrel.core.diagnose.truth import Coarse
from sivrel.core.edits.edits import Edits
from sivrel.core.errors import Cancelled
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, with_values
from tests.rooms import room

FRAME = Frame(64, 36)
ROOM = room(12).scene


def rendered(values: dict, rounds: int = 4) -> tuple[Stand, Coarse, Echo]:
    """Brute force of a room in so many pairs of short rounds, and the echo of a recipe."""
    stand = Stand(ROOM, with_values(Recipe(), {"limits.diffuse_bounces": 24, **values}), Edits(), None, FRAME)
    truth, ready, recipe = stand.coarse(grid_of(FRAME))
    for _ in range(rounds):  # each call with no time takes two rounds of the fewest samples
        truth.refine(ready, recipe, 0.0, stand.task)
    echo = stand.echo(truth, 600.0)
    assert echo is not None
    return stand, truth, echo


class Echoes(unittest.TestCase):
    def test_brute_force_is_its_own_echo(self):
        deep = {"limits.reflections": 16, "limits.refractions": 32, "limits.total": 96, "limits.indirect_clamp": 0.0}
        _, truth, echo = rendered({**deep, "sampling.gi_rays": 4, "shadows.rays": 8}, 1)
        np.testing.assert_allclose(echo.apart(truth).value, 0.0, atol=1e-7)

    def test_what_a_clamp_takes_is_told_apart_from_chance(self):
        stand, truth, echo = rendered({"limits.indirect_clamp": 0.15})
        apart, inside = echo.apart(truth), truth.grid.inside()
        other = Coarse(truth.grid, 777)
        for _ in range(4):
            other.refine(stand.base(), stand.recipe, 0.0, stand.task)
        plain, paired = (other.light - truth.light)[inside].sum(), apart.value[inside].sum()
        error = float(np.sqrt((other.variance + truth.variance)[inside].sum()))
        self.assertLess(abs(plain - paired), 4.0 * error)
        chance = np.sqrt(apart.variance[inside].sum())
        self.assertLess(paired, -5.0 * chance)  # a clamp takes light, and by far less chance than without common numbers
        self.assertLess(chance, 0.7 * error)

    def test_direct_light_drops_out(self):
        _, truth, echo = rendered({"gi.seen": "photon_map", "photon_map.final_gather_rays": 0, "photon_map.count": 20_000})
        apart, inside = echo.apart(truth), truth.grid.inside()
        # At the edges of lights and of what stands before them chance is largest, and goes.
        self.assertLess(apart.variance[inside].mean(), 0.3 * truth.variance[inside].mean())
        self.assertGreater(np.abs(apart.halves[0] - apart.halves[1])[inside].max(), 0.0)

    def test_it_follows_the_last_rounds_first_and_goes_on(self):
        stand, truth, _ = rendered({"limits.indirect_clamp": 0.15}, 3)
        echo = Echo()
        echo.follow(truth, stand.base(), stand.recipe, 0.0, stand.task)
        self.assertEqual(sorted(echo.planes), [4, 5])
        echo.follow(truth, stand.base(), stand.recipe, 600.0, stand.task)
        self.assertEqual(sorted(echo.planes), list(range(6)))
        stand.task.cancel.set()
        with self.assertRaises(Cancelled):
            Echo().follow(truth, stand.base(), stand.recipe, 600.0, stand.task)

    def test_rounds_come_back_from_the_cache(self):
        stand, truth, echo = rendered({"limits.indirect_clamp": 0.15}, 2)
        stand.keep_coarse(truth, *stand.truth())
        kept, _, _ = stand.coarse(truth.grid)
        self.assertEqual((kept.sizes, kept.samples), (truth.sizes, truth.samples))
        np.testing.assert_array_equal(echo.apart(kept).value, echo.apart(truth).value)


if __name__ == "__main__":
    unittest.main()
