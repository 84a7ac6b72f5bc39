"""The light guide: its densities are those of its directions, its choices those of its lights, and its pictures those of brute force."""

import math
import unittest
from dataclasses import replace
from types import SimpleNamespace

import numpy as np

from sivrel.core.cache_contents import check_contents
from sivrel.core.caches import CacheFolder, from_bytes, to_bytes
from sivrel.core.errors import InputError
from sivrel.core.gi import guiding
from sivrel.core.guide.directions import MOST_LOBES, RANGE_COLUMNS, find_lobes, guided_density, guided_direction
from sivrel.core.guide.regions import COORDINATE, LOBES, SHARE, divide, region_at
from sivrel.core.lights.choice import chance_of_light, light_chosen
from sivrel.core.render.frame import Frame
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tiles import render_tiles
from sivrel.core.scene.arrays import GUIDE
from sivrel.core.scene.model import Camera, Light, Scene
from tests.scenes import box_inside, lambert, light, quad, render

CAMERA = Camera("inside", np.array([[1.0, 0, 0, 0], [0, 0, -1.0, -0.95], [0, 1.0, 0, 0]]), 0.7)
"""Looks along +y from one wall of the box to the other."""
SCREEN = quad((-0.9, -0.3, 0.6), (-0.9, 0.9, 0.6), (0.9, 0.9, 0.6), (0.9, -0.3, 0.6))
"""A screen under the ceiling, so that what the lamp above it lights is bright, small and seen from few places."""
LAMPS = [
    Light("lamp", "sphere", (40.0,) * 3, (0.0, 0.5, 0.8), radius=0.05),
    Light("outside", "sphere", (900.0,) * 3, (0.0, 0.0, 3.0), radius=0.4),
]
ROOM = Scene("room", [box_inside(), SCREEN], [lambert(0.6)], LAMPS, cameras=[CAMERA])
GUIDED = {"guiding.on": "yes", "guiding.rays": 30_000}


def prepared(scene: Scene = ROOM, caches: CacheFolder | None = None, seed: int = 0, **values):
    recipe = with_values(Recipe(), {**GUIDED, **{key.replace("__", "."): value for key, value in values.items()}})
    return prepare(scene, recipe, caches=caches, frame=Frame(32, 32, seed=seed))


class Directions(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.guide = prepared().arrays.prepared[GUIDE]
        cls.region = int(np.argmax(cls.guide.regions[:, LOBES]))
        cls.p = tuple(cls.guide.regions[cls.region, 4:7] + 0.01)

    def test_some_regions_have_learned_bright_places(self):
        self.assertGreater((self.guide.regions[:, LOBES] > 0).mean(), 0.3)
        self.assertGreater(np.median(self.guide.regions[self.guide.regions[:, LOBES] > 0, SHARE]), 0.02)

    def test_the_density_is_that_of_the_directions(self):
        """Shares of the directions in parts of the sphere, against the integral of the density over each."""
        rng = np.random.default_rng(1)
        drawn = np.array([guided_direction(self.guide, self.region, self.p, *rng.random(2)) for _ in range(20_000)])
        even = rng.normal(size=(60_000, 3))
        even /= np.linalg.norm(even, axis=1, keepdims=True)
        density = np.array([guided_density(self.guide, self.region, self.p, tuple(d)) for d in even])
        np.testing.assert_allclose(density.mean() * 4.0 * math.pi, 1.0, atol=4.0 * density.std() * 4.0 * math.pi / math.sqrt(len(even)))
        for axis in range(3):
            for sign in (-1.0, 1.0):
                share = (drawn[:, axis] * sign > 0.3).mean()
                inside = density * (even[:, axis] * sign > 0.3)
                error = 4.0 * math.hypot(inside.std() * 4.0 * math.pi / math.sqrt(len(even)), 0.5 / math.sqrt(len(drawn)))
                np.testing.assert_allclose(share, inside.mean() * 4.0 * math.pi, atol=error)
        self.assertTrue(all(guided_density(self.guide, self.region, self.p, tuple(d)) > 0.0 for d in drawn[:500]))

    def test_a_bright_spot_becomes_a_place_that_is_right_from_aside(self):
        rng = np.random.default_rng(2)
        hits = np.concatenate([rng.normal((2.0, 0.0, 1.0), 0.02, (20, 3)), rng.uniform((-2, -2, 0.5), (2, 2, 3), (180, 3))])
        bright, even = np.concatenate([np.full(20, 8.0), np.full(180, 0.3)]), np.ones(200)
        lobes, counts, shares = np.zeros((1, MOST_LOBES, 5)), np.zeros(1, np.int64), np.zeros(1)
        ranges = np.zeros((MOST_LOBES, RANGE_COLUMNS))
        find_lobes(np.array([0, 200]), hits, bright, even, np.zeros((1, 3)), 0, 1, np.zeros(200, np.int64), ranges, lobes, counts, shares)
        self.assertGreater(counts[0], 0)
        near = np.linalg.norm(lobes[0, : counts[0], :3] - np.array([2.0, 0.0, 1.0]), axis=1)
        self.assertLess(near.min(), 0.15)
        self.assertGreater(shares[0], 0.4)


class Regions(unittest.TestCase):
    def test_they_hold_few_samples_of_one_facing(self):
        rng = np.random.default_rng(3)
        p, side = rng.random((5000, 3)), rng.integers(0, 2, 5000)
        n = np.where(side[:, None] == 0, np.array([0.0, 0.0, 1.0]), np.array([0.0, 0.0, -1.0]))
        nodes, order, starts = divide(p, n, 100)
        self.assertEqual(sorted(order), list(range(5000)))
        self.assertLessEqual(np.diff(starts).max(), 100)
        for first, last in zip(starts[:-1], starts[1:], strict=True):
            self.assertEqual(len(set(side[order[first:last]])), 1)
        guide = guiding.NO_GUIDE._replace(nodes=nodes)
        for k in range(0, 5000, 97):
            region = region_at(guide, tuple(p[k]), tuple(n[k]))
            self.assertIn(k, order[starts[region] : starts[region + 1]])

    def test_points_in_one_place_are_one_region(self):
        nodes, _, starts = divide(np.zeros((300, 3)), np.tile([0.0, 0.0, 1.0], (300, 1)), 50)
        self.assertEqual((len(nodes), len(starts)), (1, 2))


class Lights(unittest.TestCase):
    def test_a_lamp_behind_a_wall_is_seldom_chosen(self):
        arrays = prepared().arrays
        p, n = (0.3, 0.2, -1.0), (0.0, 0.0, 1.0)
        region = region_at(arrays.prepared[GUIDE], p, n)
        chances = [chance_of_light(arrays, region, i, p, n) for i in range(2)]
        by_importance = [chance_of_light(arrays, -1, i, p, n) for i in range(2)]
        self.assertGreater(by_importance[1], 0.4)  # it would be bright, but for the wall
        self.assertLess(chances[1], 0.2)
        self.assertGreater(chances[1], 0.005)
        self.assertAlmostEqual(sum(chances), 1.0, places=6)

    def test_lights_are_chosen_as_often_as_their_chance_says(self):
        lamps = [Light(f"l{k}", "sphere", (1.0 + 5.0 * (k % 3),) * 3, (0.8 * math.cos(k), 0.8 * math.sin(k), 0.7), radius=0.02) for k in range(60)]
        arrays = prepared(replace(ROOM, lights=lamps)).arrays
        p, n = (0.1, -0.2, -1.0), (0.0, 0.0, 1.0)
        region = region_at(arrays.prepared[GUIDE], p, n)
        drawn = [light_chosen(arrays, region, p, n, (k + 0.5) / 20_000) for k in range(20_000)]
        counts = np.bincount([i for i, _ in drawn], minlength=60) / len(drawn)
        chances = np.array([chance_of_light(arrays, region, i, p, n) for i in range(60)])
        np.testing.assert_allclose(counts, chances, atol=2e-3)
        self.assertTrue(all(abs(chance - chances[i]) < 1e-9 for i, chance in drawn[::501]))


class Pictures(unittest.TestCase):
    SIZE = {"size": (20, 20), "limits__diffuse_bounces": 6}

    def test_guided_paths_find_the_light_of_brute_force(self):
        for scene in (ROOM, replace(ROOM, lights=[Light("sky", "dome", (1.0,) * 3)], meshes=[_open_box(), SCREEN])):
            plain = [light(render(scene, CAMERA, seed=seed, sampling__max=256, **self.SIZE)) for seed in (1, 2)]
            guided = [light(render(scene, CAMERA, seed=seed, sampling__max=192, guiding__on="yes", **self.SIZE)) for seed in (3, 4)]
            mean, other = (np.mean([one[0] for one in films], axis=0) for films in (plain, guided))
            error = math.hypot(*(np.max([one[1] for one in films]) / math.sqrt(2.0) for films in (plain, guided)))
            # The pixels differ by themselves, too: this error is generous.
            np.testing.assert_allclose(other, mean, atol=3.0 * error)
            np.testing.assert_allclose(other, mean, rtol=0.03)

    def test_noise_falls_where_light_comes_from_small_bright_places(self):
        def squares(seed: int, **values) -> float:
            found = render(ROOM, CAMERA, seed=seed, sampling__max=32, **self.SIZE, **values)
            return float(np.mean(((found[..., 0:6] - reference) / (reference + 0.05)) ** 2))

        reference = np.mean([render(ROOM, CAMERA, seed=seed, sampling__max=512, **self.SIZE)[..., 0:6] for seed in (8, 9)], axis=0)
        plain, guided = (np.mean([squares(seed, guiding__on=on) for seed in (1, 2, 3)]) for on in ("no", "yes"))
        self.assertLess(guided, 0.75 * plain)

    def test_a_white_furnace_stays_even(self):
        """Inside a box that glows everywhere, radiance is that of the glow over one minus the albedo, cut after the last bounce."""
        glowing = Scene("furnace", [box_inside()], [lambert(0.5, emission=(1.0,) * 3)], [], cameras=[CAMERA])
        found = render(glowing, CAMERA, size=(8, 8), sampling__max=128, limits__diffuse_bounces=20, limits__total=30, guiding__on="yes")
        mean, error = light(found)
        np.testing.assert_allclose(mean, 2.0, atol=max(0.005, 3.0 * error.max()))

    def test_same_bytes_on_any_threads_and_in_a_region(self):
        whole = render(ROOM, CAMERA, size=(40, 40), threads=2, sampling__max=8, guiding__on="yes")
        again = render(ROOM, CAMERA, size=(40, 40), threads=1, sampling__max=8, guiding__on="yes")
        part = render(ROOM, CAMERA, size=(40, 40), threads=1, region=(8, 4, 30, 20), sampling__max=8, guiding__on="yes")
        self.assertEqual(whole.tobytes(), again.tobytes())
        self.assertEqual(whole[4:20, 8:30].tobytes(), part.tobytes())

    def test_the_guide_is_the_same_on_any_threads(self):
        made = []
        for threads in (1, 3):
            job_of = guiding._samples

            def with_threads(job, *rest, threads=threads, job_of=job_of):
                job.threads = threads
                return job_of(job, *rest)

            guiding._samples = with_threads
            try:
                made.append(prepared().arrays.prepared[GUIDE])
            finally:
                guiding._samples = job_of
        for one, other in zip(*made, strict=True):
            self.assertEqual(one.tobytes(), other.tobytes())


class Cache(unittest.TestCase):
    def test_it_is_kept_until_light_or_geometry_changes(self):
        caches = CacheFolder()
        self.assertTrue(prepared(caches=caches).ways[0].made)
        self.assertFalse(prepared(caches=caches, limits__diffuse_bounces=2, limits__indirect_clamp=1.0).ways[0].made)
        moved = replace(ROOM, lights=[replace(LAMPS[0], color=(20.0,) * 3)])
        note = prepared(moved, caches=caches).ways[0]
        self.assertTrue(note.made)
        self.assertIn("light", note.because)
        self.assertIn("regions", note.notes)

    def test_one_from_outside_is_checked(self):
        caches = CacheFolder()
        prepared(caches=caches)
        cache = next(iter(caches.alike("light guide", "room")))
        check_contents(from_bytes(to_bytes(cache), "guide"), "guide")
        for name, change in (
            ("nodes", lambda a: a.__setitem__((slice(None), COORDINATE), 2.0)),
            ("nodes", lambda a: a.__setitem__((-1, 1), 1e9)),
            ("regions", lambda a: a.__setitem__((0, LOBES), 99.0)),
            ("lobes", lambda a: a.__setitem__((0, 3), -1.0)),
            ("chances", lambda a: a.__setitem__(0, 7.0)),
        ):  # fmt: skip
            damaged = replace(cache, arrays={key: array.copy() for key, array in cache.arrays.items()})
            change(damaged.arrays[name])
            with self.subTest(name), self.assertRaises(InputError):
                check_contents(damaged, "guide")

    def test_a_locked_guide_of_other_lights_is_used_without_their_choices(self):
        caches = CacheFolder()
        prepared(caches=caches)
        cache = next(iter(caches.alike("light guide", "room")))
        ready = prepared(replace(ROOM, lights=LAMPS[:1]))
        guide = guiding._serve(SimpleNamespace(arrays=ready.arrays), None, cache.arrays, {})
        self.assertEqual(len(guide.choices), 0)
        arrays = ready.arrays._replace(prepared=(guide, *ready.arrays.prepared[1:]))
        recipe = with_values(Recipe(), {"sampling.max": 2})
        render_tiles(arrays, ready.camera, recipe, Frame(8, 8), lambda *_: None)


def _open_box():
    """The box without its ceiling's middle: the sky is seen through a gap."""
    box = box_inside()
    keep = ~np.all(np.isclose(box.vertices[:, :, 2], 1.0), axis=1)
    return box.changed(vertices=box.vertices[keep], normals=box.normals[keep], uvs=box.uvs[keep], surfaces=box.surfaces[keep])


if __name__ == "__main__":
    unittest.main()
