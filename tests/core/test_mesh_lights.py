"""Mesh lights against Lambert's closed form for polygons, against the same light met by chance, and against lights of the same shape."""

import math
import unittest
from dataclasses import replace

import numpy as np

from sivrel.core.lights.mesh_emitter import mesh_density, sample_mesh
from sivrel.core.lights.mesh_tree import CHILD, CHILDREN, NONE, TRIANGLE, build_mesh_tree
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.scene.model import Light, Scene, Texture, TextureUse
from sivrel.core.scene.texels import texels_of
from sivrel.core.scene.triangles import corners_at
from tests.scenes import assert_agrees, floor, lambert, light, looking_down, mesh, render

GLOW = [lambert(1.0), lambert(0.0, (1.0,) * 3)]


def ball(rings: int, radius: float, at) -> np.ndarray:
    """Corners of a sphere of 4 x rings x (rings - 1) triangles that faces outwards."""
    theta, phi = np.meshgrid(np.linspace(0, np.pi, rings + 1), np.linspace(0, 2 * np.pi, 2 * rings + 1), indexing="ij")
    p = np.stack([np.sin(theta) * np.cos(phi), np.sin(theta) * np.sin(phi), np.cos(theta)], axis=-1) * radius + np.asarray(at, float)
    a, b, c, d = p[:-1, :-1], p[1:, :-1], p[1:, 1:], p[:-1, 1:]
    return np.concatenate([np.stack([a, b, c], axis=2)[:-1].reshape(-1, 3, 3), np.stack([a, c, d], axis=2)[1:].reshape(-1, 3, 3)])


def lit_by_facing(triangles: np.ndarray, p=(0.0, 0.0, 0.0)) -> float:
    """Radiance of a white floor at `p`, lit by those of the triangles that face it, of radiance 1 and all above the floor: Lambert's formula
    for polygons (1760; Arvo 1994, "The Irradiance Jacobian", equation 2)."""
    corners = triangles.astype(np.float32).astype(float) - np.asarray(p)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    corners = corners[(normal * corners[:, 0]).sum(axis=1) < 0.0]
    unit = corners / np.linalg.norm(corners, axis=2, keepdims=True)
    total = 0.0
    for a, b in ((0, 1), (1, 2), (2, 0)):
        across = np.cross(unit[:, b], unit[:, a])
        length = np.linalg.norm(across, axis=1)
        angle = np.arctan2(length, (unit[:, a] * unit[:, b]).sum(axis=1))
        total += float((angle * across[:, 2] / np.maximum(length, 1e-300)).sum())
    return total / 2.0 / math.pi


def under(triangles: np.ndarray, aimed: bool, samples: int, surface=GLOW[1], scale: float = 1.0, **settings) -> np.ndarray:
    lamp = replace(mesh(triangles, 1), name="lamp", aimed=aimed)
    scene = Scene("lamp", [floor(50.0 * scale), lamp], [GLOW[0], surface])
    return render(scene, looking_down(scale, half_width=1e-6), size=(32, 32), sampling__max=samples, **settings)


def noise(film: np.ndarray) -> float:
    mean, error = light(film)
    return float(error[0] / mean[0]) * math.sqrt(film.shape[0] * film.shape[1])


class EqualLight(unittest.TestCase):
    def test_ball_of_any_number_of_triangles_by_both_ways(self):
        for rings in (5, 16, 159):
            triangles = ball(rings, 0.2, (0.3, 0.0, 1.0))
            expected = lit_by_facing(triangles)
            assert_agrees(self, under(triangles, True, 256), expected, largest_error=1e-3)
            assert_agrees(self, under(triangles, False, 2048), expected, largest_error=5e-3)

    def test_ray_offsets_do_not_darken(self):
        triangles = ball(16, 0.2, (0.3, 0.0, 1.0))
        for offset in (1e-6, 1e-4, 1e-3):
            assert_agrees(self, under(triangles, True, 64, limits__ray_offset=offset), lit_by_facing(triangles), largest_error=1e-3)

    def test_scales(self):
        for scale in (1e-3, 1e3):
            triangles = ball(16, 0.2, (0.3, 0.0, 1.0)) * scale
            assert_agrees(self, under(triangles, True, 64, scale=scale), lit_by_facing(triangles), largest_error=1e-3)

    def test_cove_strip_in_its_trough(self):
        """A strip that faces up, in a trough whose lip hides it: only what both ways find by a white lid."""
        strip = [((x, 0.0, 1.0), (x + 0.02, 0.0, 1.0), (x + 0.02, 0.05, 1.0)) for x in np.arange(-1.0, 1.0, 0.02)]
        strip += [((x, 0.0, 1.0), (x + 0.02, 0.05, 1.0), (x, 0.05, 1.0)) for x in np.arange(-1.0, 1.0, 0.02)]
        lid = [((-3, -3, 1.4), (-3, 3, 1.4), (3, 3, 1.4)), ((-3, -3, 1.4), (3, 3, 1.4), (3, -3, 1.4))]
        lip = [((-3, 0.06, 0.95), (3, 0.06, 0.95), (3, 0.06, 1.1)), ((-3, 0.06, 0.95), (3, 0.06, 1.1), (-3, 0.06, 1.1))]
        found = []
        for aimed, samples in ((True, 1024), (False, 16384)):
            lamp = replace(mesh(strip, 1), name="lamp", aimed=aimed)
            room = [floor(), lamp, replace(mesh(lid, 0), name="lid"), replace(mesh(lip, 0), name="lip")]
            film = render(Scene("cove", room, GLOW), looking_down(0.5, half_width=1e-6, at=(0.0, 1.0)), size=(24, 24), sampling__max=samples)
            found.append(light(film))
        (by_aim, error), (by_chance, other) = found
        self.assertLess(other[0] / by_chance[0], 0.02)
        self.assertLess(abs(by_aim[0] - by_chance[0]), 3.0 * math.hypot(error[0], other[0]))

    def test_what_is_cut_out_shines_by_as_much_as_it_is_there(self):
        texels = np.ones((1, 2, 4), np.float32)
        texels[0, 1] = 0.0
        panel = [((-0.5, -0.5, 1.0), (-0.5, 0.5, 1.0), (0.5, 0.5, 1.0)), ((-0.5, -0.5, 1.0), (0.5, 0.5, 1.0), (0.5, -0.5, 1.0))]
        whole = lit_by_facing(np.array(panel))
        masked = replace(GLOW[1], opacity_map=TextureUse(Texture(texels_of(texels), wrap=("clamp", "clamp"))))
        for look, share in ((replace(GLOW[1], opacity=0.25), 0.25), (masked, 0.5)):
            for aimed, samples in ((True, 512), (False, 1024)):
                lamp = replace(mesh(panel, 1), name="lamp", aimed=aimed)
                lamp = lamp.changed(uvs=lamp.vertices[..., :2] + 0.5)
                scene = Scene("cut", [floor(), lamp], [GLOW[0], look])
                film = render(scene, looking_down(0.5, half_width=1e-6), size=(24, 24), sampling__max=samples)
                assert_agrees(self, film, whole * share, largest_error=0.01)


class Noise(unittest.TestCase):
    def test_no_more_than_twice_that_of_the_equal_sphere(self):
        near = Light("ball", "sphere", (1.0,) * 3, (0.0, 0.0, 0.3), radius=0.2)
        sphere = render(Scene("s", [floor()], GLOW[:1], [near]), looking_down(half_width=1e-6), size=(48, 48), sampling__max=1)
        for rings in (16, 60):
            film = under(ball(rings, 0.2, (0.0, 0.0, 0.3)), True, 1)
            self.assertLess(noise(film), 2.0 * noise(sphere), rings)

    def test_a_thousand_bulbs_in_one_mesh_like_lights_of_a_tree(self):
        rng = np.random.default_rng(3)
        places = rng.uniform((-3, -3, 0.4), (3, 3, 2.5), (1000, 3))
        one = np.concatenate([ball(4, 0.02, place) for place in places])
        lamps = [Light(f"bulb {k}", "sphere", (1.0,) * 3, tuple(place), radius=0.02) for k, place in enumerate(places)]
        film = render(
            Scene("s", [floor()], GLOW[:1], lamps), looking_down(0.3, half_width=1e-6), size=(32, 32), sampling__max=4,
            lights__seen="chosen", lights__draws=1,
        )  # fmt: skip
        own = under(one, True, 4)
        self.assertLess(noise(own), 1.5 * noise(film))
        mean, error = light(own)
        self.assertLess(abs(mean[0] - lit_by_facing(one)), 0.01 * mean[0] + 3.0 * error[0])


class Tree(unittest.TestCase):
    def test_depth_grows_with_the_logarithm(self):
        for rings in (5, 50, 150):
            triangles = ball(rings, 1.0, (0, 0, 0))
            _, links, leaf = build_mesh_tree(triangles, np.arange(len(triangles), dtype=np.uint32), np.ones(len(triangles)))
            self.assertEqual(sorted(links[leaf, TRIANGLE]), list(range(len(triangles))))
            depth, level = 0, np.array([0])
            while len(level):
                whole = level[links[level, TRIANGLE] == NONE]
                level = np.concatenate([np.arange(links[k, CHILD], links[k, CHILD] + links[k, CHILDREN]) for k in whole] or [np.zeros(0, int)])
                depth += 1
            self.assertLessEqual(depth, 2 + math.ceil(math.log(len(triangles), 8)))

    def test_what_is_aimed_at_has_the_density_that_a_met_triangle_is_given(self):
        triangles = np.concatenate([ball(6, 0.3, (0.2, 0.1, 0.9)), ball(3, 0.01, (-1.0, 0.5, 0.3))])
        for both in (False, True):
            lamp = replace(mesh(triangles, 1, double_sided=both), name="lamp", aimed=True)
            arrays = pack_scene(Scene("s", [floor(), lamp], GLOW))
            p, n = (0.1, -0.2, 0.05), (0.0, 0.0, 1.0)
            rng = np.random.default_rng(1)
            reciprocal = []
            for u, v in rng.random((400, 2)):
                d, distance, _, density, triangle = sample_mesh(arrays, 0, p, n, u, v)
                if density == 0.0:
                    reciprocal.append(0.0)
                    continue
                corners = corners_at(arrays, np.array(triangle))
                normal = np.cross(corners[1] - corners[0], corners[2] - corners[0])
                cos = float(normal @ np.array(d)) / np.linalg.norm(normal)
                self.assertAlmostEqual(mesh_density(arrays, 0, triangle, p, n, distance, cos) / density, 1.0, places=5)
                reciprocal.append(1.0 / density)
            # The mean of one over the density is what all the triangles cover.
            mean, error = np.mean(reciprocal), np.std(reciprocal) / math.sqrt(len(reciprocal))
            unit = (triangles - p) / np.linalg.norm(triangles - p, axis=2, keepdims=True)
            a, b, c = unit[:, 0], unit[:, 1], unit[:, 2]
            below = 1.0 + (a * b).sum(1) + (b * c).sum(1) + (c * a).sum(1)
            covers = -2.0 * np.arctan2((a * np.cross(b, c)).sum(1), below)
            expected = np.abs(covers).sum() if both else np.maximum(covers, 0.0).sum()
            self.assertLess(abs(mean - expected), 4.0 * error)
