"""The irradiance cache: gradients in closed form, how its error falls, what a record may serve, and cameras that share one."""

import unittest
from dataclasses import replace

import numpy as np

from sivrel.core.caches import CacheFolder
from sivrel.core.gi.record_lookup import COLUMNS, LIGHT, NEAREST, POSITION, RADIUS
from sivrel.core.gi.records import gradients, make_records
from sivrel.core.gi.tree import bounds_of_ranges, sort_into_tree
from sivrel.core.render.film import ASKED, INDIRECT, SERVED
from sivrel.core.render.frame import Frame
from sivrel.core.render.preparation import Preparation
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tiles import render_tiles
from sivrel.core.scene.model import Light, Scene
from tests.scenes import box_inside, lambert, light, looking_down, quad, render

CAMERA = looking_down(height=0.5, tilt=0.4, half_width=0.8)
LAMP = Light("lamp", "sphere", (30.0, 20.0, 10.0), (0.3, 0.2, 0.4), radius=0.1)
ROOM = Scene("room", [box_inside()], [lambert((0.7, 0.5, 0.4))], [LAMP])
A_FEW = np.linspace(-0.45, 0.4, 8)
X, Y = np.array([[1.0, 0.0, 0.0]]), np.array([[0.0, 1.0, 0.0]])


class Gradients(unittest.TestCase):
    """Within a sphere whose radiance rises along x."""

    def cells(self, rings=60, slices=190):
        share, angle = (np.arange(rings) + 0.5) / rings, 2.0 * np.pi * (np.arange(slices) + 0.5) / slices
        along_x = np.sqrt(share)[:, None] * np.cos(angle)[None, :]
        return along_x[None], np.full((1, rings, slices), 2.0)

    def test_as_a_point_moves(self):
        """Radiance 1 + p_x on a sphere of radius 2: irradiance at x is pi + x (pi - pi / 4), to first order."""
        along_x, distance = self.cells()
        light = (1.0 + 2.0 * along_x)[..., None] * np.ones(3)
        moving, _ = gradients(light, distance, X, Y)
        np.testing.assert_allclose(moving[0, 0], [0.75 * np.pi, 0.0, 0.0], atol=0.03)

    def test_as_a_point_turns(self):
        """Radiance 1 + d_x: irradiance for the normal n is pi + 2 pi / 3 n_x; turning about y leads the normal towards x."""
        along_x, distance = self.cells()
        _, turning = gradients((1.0 + along_x)[..., None] * np.ones(3), distance, X, Y)
        np.testing.assert_allclose(turning[0, 1], [0.0, 2.0 * np.pi / 3.0, 0.0], atol=0.03)

    def test_even_light_has_none(self):
        along_x, distance = self.cells(8, 25)
        moving, turning = gradients(np.ones((*distance.shape, 3)), distance, X, Y)
        np.testing.assert_allclose(moving, 0.0, atol=1e-12)
        np.testing.assert_allclose(turning, 0.0, atol=1e-12)


class Records(unittest.TestCase):
    def made(self, scene=ROOM, camera=CAMERA, **values) -> np.ndarray:
        recipe = with_values(Recipe(), {"gi.seen": "irradiance_cache", "limits.diffuse_bounces": 16, **values})
        scene = replace(scene, cameras=[camera])
        ready = prepare(scene, with_values(recipe, {"gi.seen": "off"}))
        job = Preparation(scene, ready.arrays, recipe, camera, Frame(32, 32))
        return make_records(job, recipe.of("irradiance_cache"), np.zeros((0, COLUMNS), np.float32))[0]["records"]

    def test_their_noise_falls_as_stratified_rays_do(self):
        """At least as the root of the rays; the same points, so that the mean over many seeds is the truth."""
        still = {"irradiance_cache.min_spacing": 8.0, "irradiance_cache.max_spacing": 8.0, "irradiance_cache.spacing_unit": "px"}
        spreads = []
        for rays in (64, 256, 1024):
            records = self.made(**still, **{"irradiance_cache.rays": rays})
            floor = records[np.abs(records[:, 2] + 1.0) < 1e-3]
            truth = self.made(**still, **{"irradiance_cache.rays": 16384})
            near = np.linalg.norm(truth[None, :, :3] - floor[:, None, :3], axis=2).argmin(axis=1)
            same = np.linalg.norm(truth[near, :3] - floor[:, :3], axis=1) < 1e-5
            spreads.append(float(np.sqrt(np.mean((floor[same, LIGHT] / truth[near][same, LIGHT] - 1.0) ** 2))))
        slope = np.polyfit(np.log([64, 256, 1024]), np.log(spreads), 1)[0]
        # A root of the rays is chance alone; strata may make it fall faster, up to their own share.
        self.assertLess(slope, -0.35)
        self.assertGreater(slope, -1.1)

    def test_less_error_means_more_records_and_spacing_bounds_them(self):
        coarse, fine = (len(self.made(**{"irradiance_cache.error": e, "irradiance_cache.min_spacing": 1.0})) for e in (0.8, 0.2))
        self.assertGreater(fine, 2 * coarse)
        spaced = self.made(**{"irradiance_cache.min_spacing": 0.4, "irradiance_cache.max_spacing": 0.4, "irradiance_cache.spacing_unit": "m"})
        np.testing.assert_allclose(spaced[:, RADIUS] * 0.4, 0.4, rtol=1e-4)

    def test_the_tree_bounds_what_each_range_serves(self):
        rng = np.random.default_rng(4)
        points, radii = rng.random((500, 3)).astype(np.float32), rng.random(500).astype(np.float32)
        order, _ = sort_into_tree(points)
        points, radii = points[order], radii[order]
        boxes = bounds_of_ranges(points, radii)
        np.testing.assert_allclose(boxes[250], [*(points - radii[:, None]).min(axis=0), *(points + radii[:, None]).max(axis=0)], rtol=1e-6)

    def test_records_know_what_is_nearest(self):
        records = self.made()
        corner = 1.0 - np.abs(records[:, POSITION : POSITION + 3])
        beside = np.sort(corner, axis=1)[:, 1]
        self.assertTrue((records[:, NEAREST] >= 0.9 * np.minimum(beside, 9.0) - 0.05).all())
        self.assertTrue((records[beside < 0.1, NEAREST] < 0.5).all())


class Serving(unittest.TestCase):
    def test_where_no_record_serves_those_a_little_farther_do(self):
        """On tiles a few pixels wide, between which lie gaps that the points of the records miss."""
        tiles = [quad((x, y, -0.5), (x + 0.05, y, -0.5), (x + 0.05, y + 0.05, -0.48), (x, y + 0.05, -0.48)) for x in A_FEW for y in A_FEW]
        scene = Scene("tiles", [box_inside(), *tiles], [lambert(0.6)], [LAMP])
        given = {"limits__diffuse_bounces": 8, "gi__seen": "irradiance_cache", "gi__beyond": "radiance_cache", "irradiance_cache__rays": 256}
        film = render(scene, CAMERA, (40, 40), sampling__max=16, **given)
        truth = render(scene, CAMERA, (40, 40), sampling__max=256, limits__diffuse_bounces=8)
        self.assertGreater(float(film[..., SERVED].sum() / film[..., ASKED].sum()), 0.97)
        np.testing.assert_allclose(light(film, "indirect")[0].mean(), light(truth, "indirect")[0].mean(), rtol=0.03)

    def test_light_leaks_past_a_thin_wall_only_where_it_is_let(self):
        """Two rooms, one dark, with a sheet between, and a cache that both cameras share: records of the lit room would serve beyond it."""
        sheet = quad((0.0, -1, -1), (0.0, 1, -1), (0.0, 1, 1), (0.0, -1, 1))
        cameras = [replace(looking_down(height=0.9, half_width=0.9, at=(x, 0.0)), name=name) for x, name in ((0.5, "lit"), (-0.5, "dark"))]
        scene = Scene("rooms", [box_inside(), sheet], [lambert(0.7)], [LAMP], cameras=cameras)
        given = {"gi.seen": "irradiance_cache", "irradiance_cache.camera": "shared", "irradiance_cache.smoothing": 2.0, "sampling.max": 4}
        bounced = {}
        for visible in ("yes", "no"):
            recipe, caches, frame = with_values(Recipe(), {**given, "irradiance_cache.visible": visible}), CacheFolder(), Frame(32, 32)
            for name in ("lit", "dark"):
                ready, tiles = prepare(scene, recipe, camera=name, caches=caches, frame=frame), {}
            render_tiles(ready.arrays, ready.camera, recipe, frame, tiles.__setitem__)
            bounced[visible] = float(sum(film[..., INDIRECT].sum() for film in tiles.values()))
        self.assertEqual(bounced["yes"], 0.0)
        self.assertGreater(bounced["no"], 0.0)

    def test_gradients_serve_better_than_flat_records(self):
        truth = render(ROOM, CAMERA, (32, 32), sampling__max=512, limits__diffuse_bounces=16)[..., INDIRECT].astype(float)
        errors = {}
        for gradient in ("yes", "no"):
            film = render(
                ROOM, CAMERA, (32, 32), sampling__max=16, limits__diffuse_bounces=16, gi__seen="irradiance_cache", irradiance_cache__rays=2048,
                irradiance_cache__error=0.8, irradiance_cache__max_spacing=16, irradiance_cache__gradients=gradient,
            )  # fmt: skip
            errors[gradient] = float(np.sqrt(np.mean((film[..., INDIRECT] / truth - 1.0) ** 2)))
        self.assertLess(errors["yes"], errors["no"])

    def test_light_that_bends_is_not_too_bright(self):
        """Between plates with a lamp, light falls off to all sides: on the tangents of far records all of it was 6 % too bright."""
        a, h = 2.0, 1.0
        plates = [quad((-a, -a, 0), (a, -a, 0), (a, a, 0), (-a, a, 0)), quad((-a, -a, h), (-a, a, h), (a, a, h), (a, -a, h))]
        scene = Scene("plates", plates, [lambert(0.7)], [Light("lamp", "sphere", (1.0,) * 3, (0.0, 0.0, 0.5), radius=0.05)])

        def means(count, **settings):
            camera = looking_down(0.4, half_width=1.2)
            return np.array([
                render(scene, camera, (48, 32), seed=seed, limits__diffuse_bounces=32, limits__total=64, **settings)[..., INDIRECT].mean(dtype=float)
                for seed in range(count)
            ])  # fmt: skip

        truth = means(4, sampling__max=128)
        cached = means(
            12, sampling__max=1, gi__seen="irradiance_cache", irradiance_cache__spacing_unit="m", irradiance_cache__min_spacing=0.02,
            irradiance_cache__max_spacing=0.5,
        )  # fmt: skip
        error = np.hypot(truth.std() / 2.0, cached.std() / np.sqrt(12.0)) / truth.mean()
        self.assertLess(error, 0.01)
        self.assertLess(abs(cached.mean() / truth.mean() - 1.0), 0.015 + 2.0 * error)

    def test_cameras_that_share_it_add_to_it_and_one_of_its_own_does_not(self):
        other = replace(looking_down(height=0.5, tilt=-0.9, half_width=0.8), name="other")
        scene = replace(ROOM, cameras=[CAMERA, other])
        for camera, added in (("shared", True), ("own", False)):
            recipe = with_values(Recipe(), {"gi.seen": "irradiance_cache", "irradiance_cache.rays": 64, "irradiance_cache.camera": camera})
            caches = CacheFolder()
            first = prepare(scene, recipe, camera="down", caches=caches, frame=Frame(32, 32)).ways[0]
            second = prepare(scene, recipe, camera="other", caches=caches, frame=Frame(32, 32)).ways[0]
            back = prepare(scene, recipe, camera="down", caches=caches, frame=Frame(32, 32)).ways[0]
            self.assertEqual((second.added, second.made), (added, not added))
            self.assertEqual((back.made, back.added), (False, False))
            self.assertEqual(second.digest == first.digest, added)
            if added:
                self.assertGreater(second.count, first.count)


if __name__ == "__main__":
    unittest.main()
