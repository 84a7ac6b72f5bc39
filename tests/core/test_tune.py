"""Ladder, budget, match and advice: against closed forms, curves that are known, and rooms whose light is."""

import itertools
import math
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image

from sivrel.core.diagnose.trial_renderer import TrialRenderer
from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.errors import InputError
from sivrel.core.finish.strip import write_strip
from sivrel.core.gi.ways import SEEN
from sivrel.core.measure.noise import measure_noise
from sivrel.core.pictures.exr import Picture
from sivrel.core.render.frame import Frame
from sivrel.core.render.passes import film_passes
from sivrel.core.render.recipe import Recipe, settings, with_values
from sivrel.core.scene.model import Light, Scene
from sivrel.core.task import Task
from sivrel.core.tune.advice import advise
from sivrel.core.tune.allocation import Source, best_split, cost_of, variance_of
from sivrel.core.tune.blocks import noise_of, stated_noise, weights_of
from sivrel.core.tune.budget import plan_budget
from sivrel.core.tune.candidates import candidate, candidates, usual
from sivrel.core.tune.error import Error, Reference, error_of, noise_of_mean, squared_bias_of_blocks
from sivrel.core.tune.facts import Facts, Motion, measure_facts, motion_between
from sivrel.core.tune.fits import fit_power
from sivrel.core.tune.guesses import guesses_of, shrunk
from sivrel.core.tune.ladder import Ladder, Rung, climb, judge
from sivrel.core.tune.match import Entrant, Match, Point, rank, run_match
from sivrel.core.tune.pilots import Pilot, curve_of, in_turn
from sivrel.core.tune.render import scattered, take
from sivrel.core.tune.varied import Varied, is_taste, varied
from tests.scenes import box_inside, floor, lambert, looking_down, quad, sky

CAMERA = looking_down(height=0.5, tilt=0.4, half_width=0.8)
GLOWING = Scene("glowing", [box_inside()], [lambert(0.6, (0.25,) * 3)], [], cameras=[CAMERA])
LAMP = Light("lamp", "sphere", (30.0, 20.0, 10.0), (0.3, 0.2, 0.4), radius=0.1)
WALL = quad((-1, 0.2, -1), (1, 0.2, -1), (1, 0.2, 0.3), (-1, 0.2, 0.3))
ROOM = Scene("room", [box_inside(), WALL], [lambert((0.7, 0.5, 0.4))], [LAMP], cameras=[CAMERA])
SMALL = Frame(48, 32)


def renderer(scene: Scene, frame: Frame = SMALL, **values) -> TrialRenderer:
    return TrialRenderer(scene, with_values(Recipe(), {key.replace("__", "."): value for key, value in values.items()}), Edits(), None, frame)


class Fits(unittest.TestCase):
    def test_a_known_curve_is_found_and_goes_on(self):
        rng = np.random.default_rng(3)
        for floor_, scale, power in ((0.5, 0.2, 1.0), (0.001, 0.3, -1.0), (2.0, 40.0, -2.0), (0.0, 3.0, 0.5)):
            x = [1.0, 2.0, 4.0, 8.0, 16.0]
            y = [(floor_ + scale * v**power) * (1.0 + rng.normal(0.0, 0.01)) for v in x]
            fit = fit_power(x, y)
            self.assertLess(abs(float(fit.at(32.0)) / (floor_ + scale * 32.0**power) - 1.0), 0.1)
            self.assertLess(fit.spread, 0.1)

    def test_where_it_comes_down_to_a_value(self):
        fit = fit_power([1.0, 2.0, 4.0, 8.0], [1.1, 0.6, 0.35, 0.225])  # 0.1 + 1 / x
        self.assertAlmostEqual(fit.reaches(0.15), 20.0, delta=1.0)
        self.assertIsNone(fit.reaches(0.05))

    def test_two_points_are_no_floor_and_one_is_no_curve(self):
        self.assertAlmostEqual(float(fit_power([1.0, 4.0], [8.0, 2.0]).at(16.0)), 0.5, places=6)
        self.assertIsNone(fit_power([2.0, 2.0], [1.0, 1.1]))
        self.assertIsNone(fit_power([0.0, 1.0], [1.0, 1.1]))


class WholeSteps(unittest.TestCase):
    def said(self, key: str, values: tuple, noises: tuple) -> str:
        rungs = [
            Rung({key: value}, frame_seconds=float(k + 1), error=Error(noise, 0.0, 0.0, 1.0), seen={"last": 1.0})
            for k, (value, noise) in enumerate(zip(values, noises, strict=True))
        ]
        ladder = Ladder((Varied(key, values, "the setting", ""),), (0, 0, 8, 8), 30.0, rungs)
        judge(ladder)
        return ladder.says

    def test_a_curve_asks_for_whole_bounces(self):
        self.assertIn("at about 13.", self.said("limits.diffuse_bounces", (1, 2, 3), (0.3, 0.3 / 2**0.5, 0.3 / 3**0.5)))

    def test_nothing_is_asked_for_that_lies_below_the_rungs(self):
        """Noise that grows with the bounces: its half lay at 0.4 of one."""
        self.assertNotIn("By its curve", self.said("limits.diffuse_bounces", (1, 2, 4), (0.1, 0.14, 0.2)))


class Allocation(unittest.TestCase):
    def test_no_whole_numbers_do_better(self):
        rng = np.random.default_rng(8)
        for _ in range(30):
            sources = [Source(f"s{k}", "", 1, rng.lognormal(), rng.lognormal(), 12) for k in range(2)]
            base, cost, seconds = rng.lognormal(-1), rng.lognormal(), 400.0
            found = best_split(sources, base, cost, seconds)
            least = min(variance_of(c, sources, base) * cost_of(c, sources, cost) for c in itertools.product(range(1, 13), repeat=2))
            self.assertLess(found.variance * seconds, 1.03 * least)
            self.assertAlmostEqual(found.samples * found.cost, seconds)

    def test_one_source_is_split_by_the_square_root(self):
        """Cochran 1977, section 10.6: sqrt((v / c) / (V / C)) = 3 here."""
        self.assertEqual(best_split([Source("a", "", 1, 9.0, 1.0)], 1.0, 1.0, 100.0).counts, (3,))

    def test_what_makes_no_noise_is_not_split(self):
        self.assertEqual(best_split([Source("a", "", 4, 0.0, 1.0)], 1.0, 1.0, 100.0).counts, (1,))


class Measuring(unittest.TestCase):
    def test_noise_and_bias_are_distinguished(self):
        rng = np.random.default_rng(5)
        truth = rng.uniform(0.5, 1.5, (60, 60)).repeat(2, axis=1)

        def render(factor: float, spread: float) -> np.ndarray:
            return truth * (factor + rng.normal(0.0, spread, truth.shape))

        held = Reference(tuple(np.repeat(render(1.0, 0.05)[..., None], 3, axis=2) for _ in range(2)), 0.05, 1.0)
        for factor, spread in ((1.0, 0.2), (0.9, 0.1), (1.15, 0.02)):
            error = error_of(render(factor, spread), render(factor, spread), held)
            self.assertAlmostEqual(error.light, factor, delta=0.01)
            # Relative to the brightness about a pixel, and the eye's floor of a twentieth.
            self.assertAlmostEqual(error.noise, spread * 0.98, delta=0.1 * spread)
            self.assertAlmostEqual(error.bias, abs(factor - 1.0) * 0.95, delta=0.02)

    def test_blocks_stand_for_the_frame(self):
        frame, scene = Frame(160, 90), ROOM
        ready = renderer(scene, frame).base()
        recipe = with_values(Recipe(), {"sampling.max": 8})
        whole = take(ready, recipe, frame, renderer(scene).task)
        blocks = scattered(frame, 5000, 1)
        part = take(ready, recipe, blocks, renderer(scene).task)
        self.assertLess(blocks.pixels, 0.5 * frame.pixels)
        mean = np.concatenate([light.reshape(-1) for light in part.lights]).mean()
        self.assertAlmostEqual(mean / whole.lights[0].mean(), 1.0, delta=0.1)
        self.assertEqual(scattered(frame, 10**6, 1).pixels, frame.pixels)
        # What a block holds is what the frame holds there.
        x0, y0, x1, y1 = blocks.blocks[0]
        np.testing.assert_allclose(part.colours[0], whole.colours[0][y0:y1, x0:x1], rtol=1e-5)


class Ladders(unittest.TestCase):
    def test_what_can_not_be_varied_is_refused_with_the_reason(self):
        for key, values, says in (
            ("gi.seen", None, "make a match"),
            ("irradiance_cache.rays", None, "not in use"),
            ("sampling.max", [0], "whole number from 1"),
            ("sampling.max", [4], "2 to 16 rungs"),
            ("sampling.max", ["many", 4], "numbers by commas"),
            ("sampling.maxx", None, "Did you mean"),
            ("photon_map.radius", None, "means automatic"),
        ):
            recipe = with_values(Recipe(), {"gi.seen": "photon_map"} if key.startswith("photon") else {})
            with self.subTest(key=key, values=values), self.assertRaisesRegex(InputError, says):
                varied(key, values, recipe, Edits())

    def test_rungs_are_doubled_within_the_range_and_cheapest_first(self):
        chosen = varied("sampling.max", None, Recipe(), Edits())
        self.assertIn(Recipe().sampling.max, chosen.values)
        self.assertEqual(list(chosen.values), sorted(chosen.values))
        cached = with_values(Recipe(), {"gi.seen": "irradiance_cache"})
        spacing = varied("irradiance_cache.error", None, cached, Edits()).values
        self.assertEqual(list(spacing), sorted(spacing, reverse=True))
        clamp = varied("limits.indirect_clamp", None, Recipe(), Edits(), level=0.5).values
        self.assertEqual(clamp[-1], 0.0)  # no clamp at all
        for key, info in settings().items():  # every number of every way has rungs, where it is in use and does not stand open
            group = key.split(".")[0]
            if info.type not in ("integer", "number") or group not in SEEN:
                continue
            also = {"ambient": {"ambient.samples": 4}, "baked": {"baked.refine": 1}, "photon_map": {"photon_map.radius": 0.1}}.get(group, {})
            recipe = with_values(Recipe(), {"gi.seen": group, **also})
            if not recipe.flat()[key]:
                continue
            with self.subTest(key=key):
                values = varied(key, None, recipe, Edits()).values
                self.assertTrue(info.minimum <= min(values) < max(values) <= info.maximum)
        edits = with_edits(Edits(), {"light.lamp.shadows.rays": 4})
        self.assertIn(4, varied("light.lamp.shadows.rays", None, Recipe(), edits).values)

    def test_bounces_lose_what_the_series_says_and_the_rung_past_it_is_enough(self):
        """In a closed box that glows, light after k bounces is 1 - albedo ** (k + 2) of all."""
        one = renderer(GLOWING, sampling__max=64)
        made = climb(one, [varied("limits.diffuse_bounces", [0, 2, 14, 16], one.recipe, one.edits)], SMALL, 0.0, seconds=20.0)
        for rung in made.rungs:
            self.assertAlmostEqual(rung.error.light, 1.0 - 0.6 ** (rung.values["limits.diffuse_bounces"] + 2), delta=0.01)
        self.assertGreater(made.rungs[0].error.bias, 0.3)
        self.assertEqual(made.take, {"limits.diffuse_bounces": 14})
        self.assertIn("no visible difference", made.says)
        self.assertTrue(made.complete)

    def test_a_clamp_shows_the_light_it_takes_and_samples_show_noise(self):
        one = renderer(ROOM, sampling__max=16, limits__diffuse_bounces=8)
        clamp = climb(one, [varied("limits.indirect_clamp", [0.05, 0.5, 0], one.recipe, one.edits)], SMALL, 0.0, seconds=15.0)
        lights = [rung.error.light for rung in clamp.rungs]
        self.assertLess(lights[0], lights[1])
        self.assertAlmostEqual(lights[2], 1.0, delta=0.03)
        samples = climb(one, [varied("sampling.max", [4, 16, 64], one.recipe, one.edits)], SMALL, 0.0, seconds=15.0)
        noise = [rung.error.noise for rung in samples.rungs]
        self.assertGreater(noise[0] / noise[2], 2.5)
        self.assertEqual(samples.as_dict()["varied"][0]["values"], [4, 16, 64])

    def test_filtered_rungs_need_fewer_samples(self):
        one = renderer(ROOM, sampling__max=16, limits__diffuse_bounces=8)
        frame = Frame(64, 48)
        plain, filtered = (
            climb(one, [varied("sampling.max", [2, 8, 32], one.recipe, one.edits)], frame, 0.0, seconds=15.0, filtered=on) for on in (False, True)
        )
        for before, after in zip(plain.rungs, filtered.rungs, strict=True):
            self.assertLess(after.error.noise, 0.6 * before.error.noise)
            self.assertGreaterEqual(after.error.noise, 0.0)
            self.assertAlmostEqual(after.error.light, 1.0, delta=0.06)
            self.assertLess(after.flip["reference"], before.flip["reference"])
        self.assertIn("filtered", filtered.says)
        self.assertTrue(filtered.as_dict()["filtered"])

    def test_two_settings_make_a_grid_and_a_call_stops_it(self):
        one = renderer(ROOM, sampling__max=4)
        pair = [varied("sampling.max", [2, 4], one.recipe, one.edits), varied("shadows.rays", [1, 4], one.recipe, one.edits)]
        made = climb(one, pair, SMALL, 0.0, seconds=10.0)
        self.assertEqual(len([r for r in made.rungs if r.error]), 4)
        one.task = Task(lambda what, share, ladder: share < 0.5 or one.task.cancel.set())
        stopped = climb(one, pair, SMALL, 0.0, seconds=10.0)
        self.assertFalse(stopped.complete)
        self.assertEqual(len([r for r in stopped.rungs if r.error]), 2)

    def test_rungs_that_were_named_are_all_rendered_cheapest_first(self):
        one, heard = renderer(ROOM, sampling__max=4), []
        chosen = varied("sampling.max", [64, 2, 16, 8], one.recipe, one.edits)
        self.assertTrue(chosen.given)
        one.task = Task(lambda what, share, ladder: heard.append(what))
        made = climb(one, [chosen], SMALL, 0.0, seconds=0.01)
        self.assertEqual([r.values["sampling.max"] for r in made.rungs if r.error], [2, 8, 16, 64])
        self.assertAlmostEqual(made.rungs[3].predicted / (2.0 * made.rungs[2].seconds), 4.0, delta=0.01, msg="by rays")
        pair = [varied("sampling.max", [2, 16], one.recipe, one.edits), varied("sampling.gi_rays", [1, 8], one.recipe, one.edits)]
        order = []
        one.task = Task(lambda what, share, ladder: order.append(what.split(",")[0]))  # a slow machine also says how long it takes
        climb(one, pair, SMALL, 0.0, seconds=0.01)
        self.assertEqual(order[1:], [f"rendering {a} and {b}" for a, b in ((2, 1), (2, 8), (16, 1), (16, 8))])

    def test_settings_of_taste_are_set_side_by_side_and_none_is_enough(self):
        one = renderer(ROOM, sampling__max=4)
        for key, taste in (("ambient.level", True), ("light.lamp.radius", True), ("light.lamp.shadows.rays", False), ("sampling.max", False)):
            self.assertEqual(is_taste(key), taste, key)
        lamp = one.scene.lights[0].name
        chosen = varied(f"light.{lamp}.exposure", [0.0, 1.0, 2.0], one.recipe, one.edits)
        made = climb(one, [chosen], SMALL, 0.0, seconds=10.0)
        self.assertIn("matter of taste", made.says)
        self.assertIsNone(made.take)
        self.assertFalse(any(rung.enough or rung.error for rung in made.rungs))
        lights = [rung.light for rung in made.rungs]
        np.testing.assert_allclose([lights[1] / lights[0], lights[2] / lights[0]], (2.0, 4.0), rtol=0.15)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "strip.png"
            write_strip(path, [rung.picture for rung in made.rungs], ["0", "1", "2"], 0.0)
            with Image.open(path) as strip:
                self.assertGreater(strip.width, 3 * made.rungs[0].picture.shape[1])


class Budgets(unittest.TestCase):
    def test_a_plan_is_no_worse_than_an_even_raise_and_comes_as_it_said(self):
        wide = Light("wide", "sphere", (3.0, 3.0, 3.0), (0.0, -0.3, 0.2), radius=0.35)
        scene = Scene("soft", [box_inside(), WALL], [lambert(0.2)], [wide, sky(0.01)], cameras=[CAMERA])
        one = renderer(scene, limits__diffuse_bounces=1, gi__seen="off")
        made = plan_budget(one, Frame(96, 64), noise=0.05)
        self.assertTrue(made.complete)
        self.assertGreaterEqual(made.gain, 1.0)
        lamp = next(row for row in made.sources if row["name"] == "wide")
        self.assertGreater(lamp["noise"], 0.5)
        self.assertAlmostEqual(sum(row["noise"] for row in made.sources), 1.0, delta=0.01)
        best = made.plans[made.chosen]
        self.assertLess(best.noise, 0.07)  # the least samples of a pixel may leave less than was asked for
        self.assertAlmostEqual(made.check["noise_off"], 0.0, delta=0.35)
        with_edits(Edits(), best.edits), with_values(Recipe(), best.values)

    def test_the_noise_that_a_card_will_state_is_that_of_the_picture(self):
        ready, recipe = renderer(ROOM, sampling__max=16).truth()
        whole = take(ready, recipe, Frame(64, 48), Task())
        stated = measure_noise(Picture(film_passes(whole.film, ready.passes, ready.arrays), Frame(64, 48))).level
        self.assertAlmostEqual(stated_noise([whole]) / stated, 1.0, delta=1e-3)
        some = take(ready, recipe, scattered(Frame(64, 48), 1600, 1), Task())
        self.assertAlmostEqual(stated_noise([some]) / stated, 1.0, delta=0.3)

    def test_no_time_for_pixels_is_said(self):
        made = plan_budget(renderer(ROOM), Frame(4096, 4096), seconds=1.0)
        self.assertIn("leave no time for pixels", made.says)
        self.assertEqual(made.plans, [])


class Matches(unittest.TestCase):
    def test_names_of_ways(self):
        recipe = Recipe()
        self.assertEqual(candidate("irradiance_cache/baked+depth_map", recipe).values["shadows.way"], "depth_map")
        self.assertEqual(candidate("photon_map:looked_up", recipe).values["photon_map.final_gather_rays"], 0)
        both = candidate("brute_force+traced+caustics", recipe)
        self.assertEqual((both.values["shadows.way"], both.values["caustics.on"]), ("traced", "yes"))
        added = with_values(recipe, {"bidirectional.on": "yes", "caustics.on": "yes"})
        self.assertEqual(candidate("brute_force", added).values["bidirectional.on"], "no")
        self.assertNotIn("caustics.on", candidate("brute_force", added).values, "that is light, and no noise")
        self.assertEqual(candidate("brute_force+bidirectional", added).values["bidirectional.on"], "yes")
        flat = with_values(recipe, {"baked.final_gather_rays": 0})
        self.assertGreater(candidate("baked", flat).values["baked.final_gather_rays"], 0)
        for name in usual():
            with_values(recipe, candidate(name, recipe).values)
        for wrong in ("guesses", "photon_map/baked", "brute_force:looked_up", "+mist", ""):
            with self.subTest(wrong), self.assertRaises(InputError):
                candidate(wrong, recipe)
        with self.assertRaisesRegex(InputError, "two ways"):
            candidates(["brute_force"], recipe)

    def test_bias_is_what_the_closed_form_says(self):
        """In the box that glows, light that has not bounced is 1 - albedo² of all: seen against a twentieth more, as the eye has it."""
        one = renderer(GLOWING, limits__diffuse_bounces=24)
        made = run_match(one, candidates(["brute_force", "off", "radiance_cache"], one.recipe), SMALL, seconds=3.0)
        by_name = {entrant.candidate.name: entrant for entrant in made.entrants}
        self.assertAlmostEqual(by_name["off"].error.bias, 0.36 / 1.05, delta=0.02)
        self.assertIsNone(by_name["off"].to_reach)
        self.assertLess(by_name["brute_force"].error.bias, 0.03)
        self.assertEqual(made.entrants[-1].candidate.name, "off")
        self.assertGreater(by_name["radiance_cache"].prepares, 0.0)
        self.assertIn("is best", made.says)

    def test_a_filtered_match_measures_what_the_filter_leaves(self):
        one = renderer(ROOM, limits__diffuse_bounces=8)
        ways, frame = candidates(["brute_force", "off"], one.recipe), Frame(64, 48)
        plain, filtered = (run_match(one, ways, frame, seconds=2.0, filtered=on) for on in (False, True))
        found = [{e.candidate.name: e for e in match.entrants} for match in (plain, filtered)]
        first = [by_name["brute_force"].points[0] for by_name in found]
        self.assertLess(first[1].error.noise, 0.5 * first[0].error.noise * 2.0**0.5)
        self.assertEqual(first[1].samples, 1)  # each half is filtered alone
        # Light that has not bounced is missing, filtered or not.
        self.assertAlmostEqual(found[1]["off"].error.light, found[0]["off"].error.light, delta=0.03)
        self.assertIn("once it is filtered", filtered.says)

    def test_caches_pay_from_the_frame_on_which_they_have_saved_what_they_cost(self):
        def entrant(name: str, prepares: float, rate: float, each_frame: bool = False) -> Entrant:
            one = Entrant(candidate(name, Recipe()), prepares, each_frame)
            one.points = [Point(t, 1, Error(rate / math.sqrt(t), 0.0, 0.0, 1.0)) for t in (1.0, 4.0, 16.0)]
            one.error = Error(rate / 4.0, 0.0, 0.0, 1.0)
            return one

        # Brute force is as good after 16 s as the bake after 4 s: 12 s saved a frame against 40 s of making it.
        match = Match(
            16.0, (0, 0, 8, 8), (8, 8), [entrant("brute_force", 0.0, 1.0), entrant("baked", 40.0, 0.5), entrant("irradiance_cache", 13.0, 0.5, True)]
        )
        rank(match)
        found = {e.candidate.name: e for e in match.entrants}
        self.assertAlmostEqual(found["baked"].to_reach, 4.0, delta=0.05)
        self.assertEqual(found["baked"].pays_from, 4)
        self.assertIsNone(found["irradiance_cache"].pays_from)  # made anew for each frame, it never does


class AdviceTest(unittest.TestCase):
    def test_facts_of_a_box_are_its_closed_forms(self):
        facts = measure_facts(renderer(GLOWING), Frame(64, 40), 0.0, seconds=10.0)
        self.assertAlmostEqual(facts.kept, 0.6, delta=0.05)
        self.assertTrue(facts.inside)
        self.assertEqual(facts.open, 0.0)
        # Light left after k bounces is albedo ** (k + 2): a hundredth after 8.
        self.assertIn(facts.bounces, (7, 8, 9))
        self.assertEqual((facts.glass, facts.lights), (0.0, 0))
        # All find the same light there, but a photon map of so few: brute force has no bias, the others little.
        ways = {pilot.name: pilot for pilot in facts.ways}
        self.assertEqual(ways["brute_force"].squared, 0.0)
        self.assertLess(ways["irradiance_cache"].squared, 0.03**2)
        self.assertGreater(ways["irradiance_cache"].prepares, 0.0)
        outside = Scene("open", [floor(2.0)], [lambert(0.3)], [sky()], cameras=[CAMERA])
        facts = measure_facts(renderer(outside), Frame(64, 40), 0.0, seconds=1.0)
        self.assertGreater(facts.open, 0.95)
        self.assertFalse(facts.inside)
        self.assertLess(facts.indirect, 0.01)

    def test_what_moves_is_reported(self):
        moved = Scene(
            "room", ROOM.meshes, ROOM.surfaces, [Light("lamp", "sphere", (30.0, 20.0, 10.0), (0.4, 0.2, 0.4), radius=0.1)], cameras=[CAMERA]
        )
        self.assertEqual(motion_between(ROOM, moved, None), Motion(lights=True))
        self.assertEqual(motion_between(ROOM, ROOM, None), Motion())
        away = Scene("room", ROOM.meshes, ROOM.surfaces, ROOM.lights, cameras=[replace(CAMERA, to_world=CAMERA.to_world + 0.1)])
        self.assertEqual(motion_between(ROOM, away, CAMERA.name), Motion(camera=True))
        self.assertEqual(motion_between(ROOM, away, "put up beside the file"), Motion())

    def test_noise_of_more_samples_is_reported_by_cells(self):
        at, blocks = renderer(ROOM), scattered(Frame(96, 64), 2000, 1)
        ready, recipe = at.truth()
        weights = weights_of(ready, recipe, blocks, at.task)
        pair, _, curve = curve_of(at, ready, with_values(recipe, {"sampling.gi_rays": 1}), blocks, weights)
        many = [take(ready, with_values(recipe, {"sampling.gi_rays": 1, "sampling.max": 256}), replace(blocks, seed=k), at.task) for k in (7, 8)]
        self.assertEqual([samples for samples, _ in curve], [4, 16, 64, 256])
        self.assertAlmostEqual(curve[-1][1] / noise_of(*many), 1.0, delta=0.25)
        whole = take(ready, with_values(recipe, {"sampling.max": 32}), Frame(96, 64, None, 5), at.task)
        halves = [take(ready, with_values(recipe, {"sampling.max": 16}), Frame(96, 64, None, k), at.task).lights[0] for k in (6, 7)]
        other = take(ready, with_values(recipe, {"sampling.max": 32}), Frame(96, 64, None, 8), at.task)
        self.assertAlmostEqual(noise_of_mean(*halves, (halves[0] + halves[1]) / 2.0) / noise_of(whole, other), 1.0, delta=0.2)

    def test_bias_of_blocks_is_the_light_that_is_missing(self):
        at, blocks = renderer(GLOWING), scattered(Frame(96, 64), 1500, 1)
        ready, recipe = at.truth()
        weights = weights_of(ready, recipe, blocks, at.task)
        held = tuple(take(ready, with_values(recipe, {"sampling.max": 64}), replace(blocks, seed=k), at.task) for k in (1, 2))
        without = with_values(recipe, {"gi.seen": "off", "sampling.max": 16})
        pair = tuple(take(at.ready(without, at.edits)[0], without, replace(blocks, seed=k), at.task) for k in (3, 4))
        # Without bounces 1 + 0.6 of 1 / (1 - 0.6) is found: 0.36 of the light is missing, against the eye's floor of a twentieth.
        plain = tuple(take(ready, with_values(recipe, {"sampling.max": 16}), replace(blocks, seed=k), at.task) for k in (5, 6))
        squared, error = squared_bias_of_blocks(pair, held, plain, weights)
        self.assertAlmostEqual(squared**0.5, 0.36 / 1.05, delta=0.02)
        self.assertLess(error, 0.02)
        self.assertAlmostEqual(squared_bias_of_blocks(plain, held, plain[::-1], weights)[0], 0.0)

    def test_pilots_lead_to_ways_and_say_so(self):
        noise = {"bounced light": 0.9, "lights": 0.05, "gloss and glass": 0.02, "camera rays": 0.03}
        grainy, smooth = [(4.0, 0.5), (16.0, 0.4), (64.0, 0.3)], [(4.0, 0.2), (16.0, 0.1), (64.0, 0.05)]
        cached = Pilot("irradiance_cache", 0.2, smooth, 0.02**2, 1e-5, 1.0)
        room = Facts(0.5, 0.01, 0.0, 0.01, True, 9, 0.65, noise, 30.0, 0.2, 0.1, 3, 2, rate=0.2, curve=grainy)
        room.ways = [Pilot("brute_force", 0.2, grainy), cached]
        still = advise(room, Recipe(), seconds=12.0).recipes[1]
        self.assertEqual((still.values["gi.seen"], still.match), ("irradiance_cache", []))
        # After 9 bounces a hundredth is left, and a fifth of that after four more.
        self.assertEqual(still.values["limits.diffuse_bounces"], 13)
        self.assertEqual(still.values["sampling.max"], 55)
        self.assertIn("brute force to", still.choices[0].because)
        # Its bias stays, whatever the time: in the end brute force is better.
        self.assertEqual(advise(room, Recipe(), seconds=20000.0).recipes[1].values["gi.seen"], "brute_force")
        # A moving shot is not given what follows the camera.
        self.assertEqual(advise(room, Recipe(), seconds=12.0).recipes[2].values["gi.seen"], "brute_force")
        # Caches that leave no time for the pixels are not advised.
        room.ways[1] = replace(cached, prepares=11.9)
        self.assertEqual(advise(room, Recipe(), seconds=12.0).recipes[1].values["gi.seen"], "brute_force")
        glass = Facts(0.9, 0.03, 0.7, 0.2, True, 1, 0.0, noise, 2.0, 0.99, 0.5, 50, 2, rate=0.4, curve=grainy)
        glass.ways = [Pilot("brute_force", 0.4, grainy), Pilot("brute_force+caustics", 0.4, smooth, prepares=5.0)]
        values = advise(glass, Recipe(), seconds=30.0).recipes[1].values
        self.assertEqual((values["gi.seen"], values["limits.refractions"], values["caustics.on"]), ("brute_force", 16, "yes"))
        self.assertEqual(values["lights.seen"], "chosen")
        for facts in (room, glass):
            for one in advise(facts, Recipe(), seconds=30.0).recipes:
                with_values(Recipe(), one.values)

    def test_ways_for_rare_paths_are_tried_first_where_they_are_the_noise(self):
        noise = {"gloss and glass": 1.0}
        glass, plain = (Facts(0.9, 0.03, share, 0.2, True, 1, 0.0, noise, 2.0, 0.99) for share in (0.7, 0.0))
        names = [name for name, _ in in_turn(glass)]
        self.assertEqual(names[:3], ["brute_force", "brute_force+bidirectional", "brute_force+caustics"])
        rates = [rate for _, rate in in_turn(plain)]
        self.assertEqual(rates, sorted(rates))
        self.assertEqual(sorted(names), sorted(name for name, _ in in_turn(plain)))

    def test_what_was_not_tried_is_said_and_never_lost_to(self):
        curve = [(4.0, 0.2), (16.0, 0.1), (64.0, 0.05)]
        facts = Facts(0.5, 0.01, 0.0, 0.01, True, 9, 0.65, {"bounced light": 0.9}, 30.0, 0.2, 0.1, 3, 2, rate=0.2, curve=curve)
        facts.ways = [Pilot("brute_force", 0.2, curve), Pilot("brute_force/radiance_cache", 0.05, curve, 1e-6, 1e-6, 0.1)]
        facts.untried = {"photon_map": "it would take about 80 s to try, and 9 s were left"}
        made = advise(facts, Recipe(), seconds=12.0)
        self.assertIn("Not tried here, so not compared: a photon map", made.recipes[1].says)
        self.assertEqual(made.as_dict()["untried"][0]["why"], facts.untried["photon_map"])
        moving = made.recipes[2]
        self.assertTrue(any(not guess.tried for guess in moving.guesses))
        self.assertEqual(moving.way, "brute_force", "a bake was not tried here, so nothing loses to it")
        self.assertIn("Not tried here", moving.says)

    def test_biases_are_drawn_together_by_how_uncertain_they_are(self):
        def of(*squares: tuple[float, float]) -> list[float]:
            return list(shrunk([Pilot(f"way {k}", 0.1, [(4.0, 0.1)], *one) for k, one in enumerate(squares)]).values())

        # Certain ones stay, uncertain ones meet, and one that noise made negative is not thought to be without.
        np.testing.assert_allclose(of((1e-4, 1e-8), (9e-4, 1e-8)), (1e-4, 9e-4), rtol=0.01)
        near = of((1e-4, 5e-3), (2e-3, 5e-3))
        self.assertLess(abs(near[0] / near[1] - 1.0), 0.1)
        low, high = of((-5e-4, 4e-4), (9e-4, 4e-4))
        self.assertTrue(0.0 < low < high < 9e-4)
        self.assertEqual(shrunk([Pilot("brute_force", 0.1, [(4.0, 0.1)])]), {})

    def test_where_pilots_do_not_decide_a_match_is_proposed(self):
        curve = [(4.0, 0.2), (16.0, 0.1), (64.0, 0.05)]
        level = Facts(0.1, 0.0, 0.0, 0.3, False, 2, 0.2, {"bounced light": 0.5}, 1.4, 0.1, 0.0, 2, 2, rate=0.1, curve=curve)
        level.ways = [Pilot("brute_force", 0.1, curve), Pilot("irradiance_cache", 0.1, curve, 1e-6, 1e-6, 1.0)]
        guesses = guesses_of(level, 20.0)
        self.assertLess(guesses[1].total, 1.1 * guesses[0].total)
        still = advise(level, Recipe(), seconds=20.0).recipes[1]
        self.assertEqual(still.way, "brute_force")
        self.assertIn("do not decide", still.says)
        # Where the better one's bias is uncertain, brute force is plainer, unless it is foretold far worse.
        for grain, doubt, way in ((0.115, 0.04, "brute_force"), (0.115, 1e-4, "irradiance_cache"), (0.2, 0.04, "irradiance_cache")):
            level.ways[0] = Pilot("brute_force", 0.1, [(samples, noise * grain / 0.1) for samples, noise in curve])
            level.ways[1] = Pilot("irradiance_cache", 0.1, curve, 1e-4, doubt * 0.1, 0.0)
            self.assertEqual(advise(level, Recipe(), seconds=1.6).recipes[1].way, way)
        candidates(still.match, Recipe())


if __name__ == "__main__":
    unittest.main()
