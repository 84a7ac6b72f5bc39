"""The photon map: emission against the lights' power, the tree against a plain search, and light against closed forms and brute force."""

import unittest
from dataclasses import replace

import numpy as np

from sivrel.core.caches import CacheFolder
from sivrel.core.gi.importance import Importance
from sivrel.core.gi.photon_map import DEEPEST, MOST_GATHERED, as_tree, irradiance_at, nearest_photon
from sivrel.core.gi.photons import COLUMNS, KIND_OF_PHOTON, shoot_photons
from sivrel.core.gi.shielding import SERVED_COLUMNS
from sivrel.core.lights.emission import emit
from sivrel.core.lights.targets import NO_TARGETS
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.render.film import DIRECT, INDIRECT
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.scene.model import Light, Scene, Surface
from sivrel.core.trace.traverse import make_stack
from tests.core.test_glass import CLEAR, slab
from tests.scenes import NOWHERE, box_inside, floor, lambert, looking_down, quad, render

BOX = Scene("box", [box_inside()], [lambert(0.6, (0.25,) * 3)], [])
CAMERA = looking_down(height=0.5, tilt=0.4, half_width=0.8)
LAMP = Light("lamp", "sphere", (30.0, 20.0, 10.0), (0.3, 0.2, 0.4), radius=0.1)
ROOM = Scene("room", [box_inside()], [lambert((0.7, 0.5, 0.4))], [LAMP])
UP = (0.0, 0.0, 1.0)


def mean(film: np.ndarray, column: int = INDIRECT) -> np.ndarray:
    return film[..., column : column + 3].reshape(-1, 3).astype(float).mean(axis=0)


def working_memory() -> np.ndarray:
    return np.zeros((MOST_GATHERED + 2 * DEEPEST, 4))


class Emission(unittest.TestCase):
    def power(self, light: Light, more=(), count=4000) -> np.ndarray:
        scene = pack_scene(Scene("e", [floor(1.0)], [lambert(0.5)], [light, *more]))
        rng = np.random.default_rng(1)
        sent = [emit(scene, 0, NO_TARGETS, (0.0, 0.0, 0.0), 2.0, *rng.random(4)) for _ in range(count)]
        self.assertTrue(all(abs(np.linalg.norm(d) - 1.0) < 1e-9 for _, d, flux in sent if max(flux) > 0))
        return np.mean([flux for _, _, flux in sent], axis=0)

    def test_power_of_each_kind_in_closed_form(self):
        colour = (1.0, 2.0, 3.0)
        for light, power in (
            (Light("l", "rect", colour, width=0.5, height=0.4), np.pi * 0.2),
            (Light("l", "disk", colour, width=0.5, height=0.4), np.pi * np.pi * 0.05),
            (Light("l", "sphere", colour, radius=0.3), np.pi * 4 * np.pi * 0.09),
            (Light("l", "cylinder", colour, radius=0.1, length=2.0), np.pi * 2 * np.pi * 0.2),
            (Light("l", "point", colour), 4 * np.pi),
            (Light("l", "sun", colour), np.pi * 4.0),
            (Light("l", "dome", colour), 4 * np.pi * np.pi * 4.0),
        ):
            with self.subTest(kind=light.kind):
                np.testing.assert_allclose(self.power(light), power * np.array(colour), rtol=0.03)

    def test_a_cone_is_shot_into_itself(self):
        light = Light("l", "point", (1.0,) * 3)
        light.shaping = replace(light.shaping, cone_angle=20.0)
        self.assertAlmostEqual(self.power(light)[0], 2 * np.pi * (1 - np.cos(np.radians(20.0))), delta=1e-6)

    def test_a_sky_comes_through_its_portals(self):
        portal = Light("p", "portal", position=(0.0, 0.0, 1.0), width=0.5, height=0.8)
        np.testing.assert_allclose(self.power(Light("l", "dome", (1.0,) * 3), [portal]), np.pi * 0.4, rtol=1e-9)


def served(photons: np.ndarray) -> np.ndarray:
    """Photons as the kernels get them, with nothing beside them."""
    return np.concatenate([photons, np.zeros((len(photons), SERVED_COLUMNS - COLUMNS), np.float32)], axis=1)


class Shielding(unittest.TestCase):
    """A room of single sheets on a ground in full sun, which no light enters."""

    def room(self):
        a, h = 1.0, 2.0
        ground = replace(floor(6.0), name="ground")
        walls = [
            quad((-a, -a, 0), (-a, a, 0), (-a, a, h), (-a, -a, h)), quad((a, a, 0), (a, -a, 0), (a, -a, h), (a, a, h)),
            quad((-a, a, 0), (a, a, 0), (a, a, h), (-a, a, h)), quad((a, -a, 0), (-a, -a, 0), (-a, -a, h), (a, -a, h)),
            quad((-a, -a, h), (-a, a, h), (a, a, h), (a, -a, h)),
        ]  # fmt: skip
        sun = Light("sun", "sun", (3.0,) * 3, frame=np.array([[0.8, 0, -0.6], [0, 1, 0], [0.6, 0, 0.8]]))
        return Scene("room", [ground, *walls], [lambert(0.7)], [sun])

    def test_no_light_comes_through_single_sheets(self):
        camera = looking_down(1.9, half_width=0.5)
        for settings in (
            {"gi__seen": "photon_map"}, {"gi__seen": "photon_map", "photon_map__final_gather_rays": 0},
            {"gi__seen": "brute_force", "gi__beyond": "photon_map"},
        ):  # fmt: skip
            inside = {}
            for visible in ("yes", "no"):
                film = render(
                    self.room(), camera, (24, 24), sampling__max=4, photon_map__count=20_000, photon_map__radius=0.4, photon_map__visible=visible,
                    photon_map__corner_distance=0.0, **settings,
                )  # fmt: skip
                inside[visible] = float(film[..., INDIRECT].mean())
            self.assertGreater(inside["no"], 0.005, settings)
            self.assertLess(inside["yes"], 0.01 * inside["no"], settings)

    def test_in_the_open_nothing_changes(self):
        films = [
            render(
                Scene("open", [floor(3.0), box_inside(5.0)], [lambert(0.6)], [Light("p", "point", (3.0,) * 3, (0.0, 0.0, 2.0))]),
                looking_down(1.0, half_width=0.3), (16, 16), sampling__max=1, gi__seen="photon_map", photon_map__count=20_000,
                photon_map__final_gather_rays=0, photon_map__visible=visible,
            )[..., INDIRECT]
            for visible in ("yes", "no")
        ]  # fmt: skip
        np.testing.assert_array_equal(*films)


class Tree(unittest.TestCase):
    def test_it_finds_what_a_plain_search_finds(self):
        rng = np.random.default_rng(2)
        photons = np.zeros((3000, COLUMNS), np.float32)
        photons[:, :3], photons[:, 5], photons[:, 6:9] = rng.random((3000, 3)), 1.0, rng.random((3000, 3))
        photons[::7, 3:6] = (0.0, 0.0, -1.0)
        (tree, axes), near = as_tree(served(photons)), working_memory()
        self.assertEqual(sorted(map(tuple, tree.tolist())), sorted(map(tuple, served(photons).tolist())))
        facing = photons[:, 5] > 0.5
        for p in rng.random((40, 3)):
            distance = np.linalg.norm(photons[:, :3] - p, axis=1)
            for gathered, radius in ((20, 0.5), (500, 0.11)):
                usable = np.flatnonzero(facing & (distance < radius))
                nearest = usable[np.argsort(distance[usable])][:gathered]
                full = len(nearest) == gathered
                r = distance[nearest[-1]] if full else radius
                expected = photons[nearest[:-1] if full else nearest, 6:9].astype(float).sum(axis=0) / (np.pi * r * r)
                light = irradiance_at(NOWHERE, make_stack(), tree, axes, near, tuple(p), UP, gathered, radius, 0.5)
                np.testing.assert_allclose(light, expected, rtol=1e-4)
            first = np.argmin(np.where(facing, distance, 9.0))
            found = nearest_photon(NOWHERE, make_stack(), tree, axes, near, tuple(p), UP, 0.5, 0.5)
            np.testing.assert_array_equal(tree[found, :COLUMNS], photons[first])

    def test_an_even_field_of_photons_is_an_even_irradiance(self):
        rng = np.random.default_rng(3)
        photons = np.zeros((20000, COLUMNS), np.float32)
        photons[:, :2], photons[:, 5], photons[:, 6:9] = rng.random((20000, 2)), 1.0, 1.0 / 20000
        (tree, axes), near = as_tree(served(photons)), working_memory()
        seen = [irradiance_at(NOWHERE, make_stack(), tree, axes, near, (x, y, 0.0), UP, 50, 1.0, 0.5)[0] for x, y in rng.uniform(0.2, 0.8, (400, 2))]
        self.assertAlmostEqual(float(np.mean(seen)), 1.0, delta=0.03)
        self.assertAlmostEqual(float(np.std(seen)), 1.0 / np.sqrt(50), delta=0.03)


class Agreement(unittest.TestCase):
    def test_the_closed_box_is_its_series(self):
        """A box that glows evenly: indirect light is the glow times a geometric series, found by photons seen at once or from afar."""
        indirect = 0.25 * 0.6**2 / (1 - 0.6)
        for rays in (0, 4):
            film = render(BOX, CAMERA, (24, 24), sampling__max=16, gi__seen="photon_map", photon_map__bounces=32, photon_map__final_gather_rays=rays)
            np.testing.assert_allclose(mean(film), indirect, rtol=0.03)

    def test_a_room_with_a_lamp_agrees_with_brute_force(self):
        truth = render(ROOM, CAMERA, (24, 24), sampling__max=512, limits__diffuse_bounces=32)
        for settings, tolerance in (
            ({"gi__seen": "photon_map", "photon_map__final_gather_rays": 0}, 0.04),
            ({"gi__seen": "photon_map", "photon_map__final_gather_rays": 8}, 0.02),
            ({"gi__beyond": "photon_map"}, 0.02),
        ):
            with self.subTest(**settings):
                film = render(ROOM, CAMERA, (24, 24), sampling__max=64, photon_map__bounces=32, **settings)
                np.testing.assert_allclose(mean(film), mean(truth), rtol=tolerance)
                np.testing.assert_allclose(mean(film, DIRECT), mean(truth, DIRECT), rtol=0.01)

    def test_glossy_and_coated_surfaces_keep_their_gloss(self):
        shiny = Surface("shiny", (0.6, 0.5, 0.4), roughness=0.25, coat=0.5, coat_roughness=0.1)
        scene = Scene("shiny", [box_inside()], [shiny], [LAMP])
        truth = render(scene, CAMERA, (24, 24), sampling__max=512, limits__diffuse_bounces=32, limits__reflections=32)
        film = render(
            scene,
            CAMERA,
            (24, 24),
            sampling__max=64,
            gi__seen="photon_map",
            photon_map__bounces=32,
            photon_map__count=800_000,
            limits__reflections=32,
        )
        np.testing.assert_allclose(mean(film), mean(truth), rtol=0.04)

    def test_a_caustic_comes_out_of_glass(self):
        """Light of a sphere over a slab of solid glass, looked up on the floor under it."""
        lamp = Light("lamp", "sphere", (50.0,) * 3, (0.0, 0.0, 1.5), radius=0.3)
        scene = Scene("caustic", [floor(6.0), slab(6.0, 0.4, 0.5)], [lambert(0.5), CLEAR], [lamp])
        camera = looking_down(0.3, half_width=0.5)
        truth = render(scene, camera, (16, 16), sampling__max=2048, limits__refractions=16, limits__reflections=16)
        film = render(scene, camera, (16, 16), sampling__max=16, gi__seen="photon_map", photon_map__final_gather_rays=0)
        np.testing.assert_allclose(mean(film), mean(truth), rtol=0.06)

    def test_few_photons_blur_and_few_gathered_are_grainy(self):
        """The edge of a shadow of bounced light."""
        wall = quad((-1, 0.2, -1), (1, 0.2, -1), (1, 0.2, 0.3), (-1, 0.2, 0.3))
        scene = Scene("edge", [box_inside(), wall], [lambert(0.6)], [LAMP])
        truth = render(scene, CAMERA, (16, 16), sampling__max=1024, limits__diffuse_bounces=16)[..., INDIRECT].astype(float)

        def error(**settings) -> float:
            plain = {"gi__seen": "photon_map", "photon_map__final_gather_rays": 0, "photon_map__visible": "no"}
            film = render(scene, CAMERA, (16, 16), sampling__max=8, **plain, **settings)
            return float(np.sqrt(np.mean((film[..., INDIRECT] - truth) ** 2)))

        # Five hundred of few photons reach far round the wall, of many they do not; gathered in equal number, both are as grainy.
        wide, fine = (error(photon_map__count=n, photon_map__gather=512, photon_map__radius=2) for n in (6000, 400000))
        self.assertGreater(wide, 1.5 * fine)
        grainy = error(photon_map__count=400000, photon_map__gather=12, photon_map__radius=2)
        self.assertGreater(grainy, 1.5 * fine)


class Map(unittest.TestCase):
    def test_the_same_on_any_number_of_threads(self):
        arrays = pack_scene(ROOM)
        one, shot = shoot_photons(arrays, 5000, 8, arrays.offset, threads=1)
        three, _ = shoot_photons(arrays, 5000, 8, arrays.offset, threads=3)
        np.testing.assert_array_equal(one, three)
        self.assertGreaterEqual(int((one[:, KIND_OF_PHOTON] > 0).sum()), 5000)
        self.assertGreater(shot, 0)

    def test_flux_that_lands_is_the_power_times_the_series(self):
        """All that lands after scattering in a closed room: the power times albedo / (1 - albedo)."""
        arrays = pack_scene(Scene("grey", [box_inside()], [lambert(0.5)], [LAMP]))
        photons, _ = shoot_photons(arrays, 60000, 40, arrays.offset)
        power = np.pi * 4 * np.pi * 0.01 * np.array([30.0, 20.0, 10.0])
        scattered = photons[photons[:, KIND_OF_PHOTON] > 0]
        np.testing.assert_allclose(scattered[:, 6:9].astype(float).sum(axis=0), power * 0.5 / 0.5, rtol=0.02)

    def test_photons_go_where_light_matters_and_bring_no_more_of_it(self):
        """A lamp between two rooms; one of them is looked into: it gets most of the photons, and both their share of the flux."""
        wall = quad((0.0, -1, -1), (0.0, 1, -1), (0.0, 1, 1), (0.0, -1, 1))
        lamps = [Light("a", "sphere", (10.0,) * 3, (-0.5, 0, 0.3), radius=0.1), Light("b", "sphere", (40.0,) * 3, (0.5, 0, 0.3), radius=0.1)]
        arrays = pack_scene(Scene("two", [box_inside(), wall], [lambert(0.5)], lamps))
        grid = np.zeros((2, 1, 1), np.float32)
        grid[0] = 1.0
        photons, _ = shoot_photons(arrays, 100_000, 30, arrays.offset, importance=Importance(grid, (-2.0, -2.0, -2.0), 2.0))
        photons = photons[photons[:, KIND_OF_PHOTON] > 0]
        # What landed on the wall lies on the side that it faces.
        left = np.where(np.abs(photons[:, 0]) < 1e-3, photons[:, 3], photons[:, 0]) < 0.0
        self.assertGreater(left.mean(), 0.6)
        flux = photons[:, 6].astype(float)
        self.assertAlmostEqual(flux[~left].sum() / flux[left].sum(), 4.0, delta=0.2)

    def test_no_light_gives_no_photons(self):
        dark = Scene("dark", [box_inside()], [lambert(0.5)], [])
        arrays = pack_scene(dark)
        self.assertEqual(len(shoot_photons(arrays, 1000, 4, arrays.offset)[0]), 0)
        film = render(dark, CAMERA, (4, 4), gi__seen="photon_map", photon_map__final_gather_rays=0)
        self.assertEqual(float(film[..., :6].sum()), 0.0)

    def test_it_is_a_cache_that_the_camera_does_not_touch(self):
        caches = CacheFolder()
        recipe = with_values(Recipe(), {"gi.seen": "photon_map", "photon_map.count": 1000})
        scene = replace(ROOM, cameras=[CAMERA, replace(CAMERA, name="other", half_width=0.2)])
        first = prepare(scene, recipe, caches=caches).ways[0]
        again = prepare(scene, recipe, camera="other", caches=caches).ways[0]
        self.assertEqual((first.made, again.made, first.digest), (True, False, again.digest))
        self.assertFalse(prepare(scene, with_values(recipe, {"photon_map.gather": 20}), caches=caches).ways[0].made)
        stale = prepare(replace(scene, surfaces=[lambert(0.2)]), recipe, caches=caches).ways[0]
        self.assertEqual((stale.made, stale.because), (True, "surface lambert"))
        self.assertEqual(prepare(scene, with_values(recipe, {"gi.seen": "off"}), caches=caches).ways, [])


if __name__ == "__main__":
    unittest.main()
