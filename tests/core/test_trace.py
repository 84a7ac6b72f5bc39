"""Hierarchy, intersection and random numbers."""

import unittest

import numpy as np
from scipy.stats import qmc

from sivrel.core.trace.bvh import build_bvh
from sivrel.core.trace.sampler import pixel_key, sample_1d, sample_2d, sobol_2d
from sivrel.core.trace.traverse import NO_HIT, any_hits, closest_hits

FAR = np.float32(1e30)
ZERO = np.float32(0.0)


def every_triangle(triangles, origins, directions):
    """Nearest hits by testing all triangles in 64 bits (Möller & Trumbore 1997): numbers (-1 none), distances."""
    numbers, distances = np.full(len(origins), -1), np.full(len(origins), np.inf)
    v0, e1, e2 = triangles[:, 0], triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0]
    for i, (o, d) in enumerate(zip(origins, directions, strict=True)):
        p = np.cross(d, e2)
        det = np.einsum("ij,ij->i", e1, p)
        with np.errstate(divide="ignore", invalid="ignore"):
            s = o - v0
            u = np.einsum("ij,ij->i", s, p) / det
            q = np.cross(s, e1)
            v, t = q @ d / det, np.einsum("ij,ij->i", e2, q) / det
            t = np.where((u >= 0) & (v >= 0) & (u + v <= 1) & (t > 0), t, np.inf)
        if np.isfinite(t.min()):
            numbers[i], distances[i] = t.argmin(), t.min()
    return numbers, distances


def sphere_mesh(rings: int = 24) -> np.ndarray:
    theta, phi = np.linspace(0, np.pi, rings + 1), np.linspace(0, 2 * np.pi, 2 * rings + 1)
    theta, phi = np.meshgrid(theta, phi, indexing="ij")
    p = np.stack([np.sin(theta) * np.cos(phi), np.sin(theta) * np.sin(phi), np.cos(theta)], -1)
    p[:, -1] = p[:, 0]
    p[0], p[-1] = (0, 0, 1), (0, 0, -1)
    a, b, c, d = p[:-1, :-1], p[1:, :-1], p[1:, 1:], p[:-1, 1:]
    return np.concatenate([np.stack([a, b, c], 2).reshape(-1, 3, 3), np.stack([a, c, d], 2).reshape(-1, 3, 3)]).astype(np.float32)


class Intersection(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(7)
        self.triangles = (rng.uniform(-2, 2, (900, 1, 3)) + rng.normal(0, 0.25, (900, 3, 3))).astype(np.float32)
        self.origins = rng.uniform(-3, 3, (1500, 3)).astype(np.float32)
        d = rng.normal(size=(1500, 3))
        self.directions = (d / np.linalg.norm(d, axis=1, keepdims=True)).astype(np.float32)
        self.directions[:60] = np.eye(3, dtype=np.float32)[np.arange(60) % 3] * np.where(np.arange(60) % 2, 1, -1)[:, None]

    def test_agrees_with_testing_every_triangle(self):
        numbers, distances = closest_hits(build_bvh(self.triangles), self.origins, self.directions, ZERO, FAR)
        expected, at = every_triangle(self.triangles.astype(float), self.origins.astype(float), self.directions.astype(float))
        found = np.where(numbers == NO_HIT, -1, numbers.astype(np.int64))
        self.assertGreater((expected >= 0).mean(), 0.2)
        differ = found != expected
        # Where they differ, a ray grazes an edge within rounding.
        self.assertLessEqual(differ.sum(), 3)
        same = (expected >= 0) & ~differ
        np.testing.assert_allclose(distances[same], at[same], rtol=2e-5, atol=2e-6)

    def test_any_hit_and_limits_agree_with_the_nearest(self):
        bvh = build_bvh(self.triangles)
        numbers, distances = closest_hits(bvh, self.origins, self.directions, ZERO, FAR)
        np.testing.assert_array_equal(any_hits(bvh, self.origins, self.directions, ZERO, FAR), numbers != NO_HIT)
        limit = np.float32(0.7)
        np.testing.assert_array_equal(any_hits(bvh, self.origins, self.directions, ZERO, limit), (numbers != NO_HIT) & (distances < limit))

    def test_no_ray_leaves_a_closed_mesh(self):
        """Aimed at vertices and along edges, where a test that is not watertight lets some through."""
        triangles = sphere_mesh()
        corners = triangles.reshape(-1, 3)
        targets = np.concatenate([corners, 0.5 * (triangles[:, 0] + triangles[:, 1]), 0.3 * triangles[:, 1] + 0.7 * triangles[:, 2]])
        for origin in ((0.0, 0.0, 0.0), (0.31, -0.2, 0.44)):
            origins = np.broadcast_to(np.array(origin, np.float32), targets.shape).copy()
            directions = (targets - origins).astype(np.float32)
            numbers, _ = closest_hits(build_bvh(triangles), origins, directions, ZERO, FAR)
            self.assertEqual((numbers == NO_HIT).sum(), 0)

    def test_odd_geometry(self):
        same_place = np.repeat(self.triangles[:1], 300, axis=0)
        flat = np.zeros((40, 3, 3), np.float32)
        for triangles in (same_place, flat, self.triangles[:1], np.zeros((0, 3, 3), np.float32)):
            numbers, _ = closest_hits(build_bvh(triangles), self.origins, self.directions, ZERO, FAR)
            hits = numbers[numbers != NO_HIT]
            self.assertTrue((hits < max(1, len(triangles))).all())
        middle = same_place[0].mean(axis=0)
        toward = (middle - self.origins[:1]).astype(np.float32)
        self.assertNotEqual(closest_hits(build_bvh(same_place), self.origins[:1], toward, ZERO, FAR)[0][0], NO_HIT)


class Sampler(unittest.TestCase):
    def test_is_the_sobol_sequence(self):
        gray = [i ^ (i >> 1) for i in range(256)]  # SciPy's order
        ours = np.array([sobol_2d(np.uint32(i)) for i in gray]) / 2.0**32
        np.testing.assert_array_equal(ours, qmc.Sobol(2, scramble=False).random(256))

    def test_scrambled_samples_fill_every_elementary_interval(self):
        for pixel in (0, 12345):
            for dimension in (0, 4711):
                points = np.array([sample_2d(pixel_key(3, pixel), i, dimension) for i in range(64)])
                for a in range(7):
                    cells = np.floor(points[:, 0] * 2**a) * 2 ** (6 - a) + np.floor(points[:, 1] * 2 ** (6 - a))
                    self.assertEqual(len(set(cells)), 64)
                line = np.array([sample_1d(pixel_key(3, pixel), i, dimension) for i in range(64)])
                self.assertEqual(len(set(np.floor(line * 64))), 64)

    def test_pixels_seeds_and_dimensions_are_independent(self):
        keys = [pixel_key(seed, pixel) for seed in (0, 1) for pixel in range(1500)]
        values = np.array([[*sample_2d(k, 0, 0), *sample_2d(k, 0, 1), sample_1d(k, 0, 2), sample_1d(k, 1, 2)] for k in keys])
        correlation = np.corrcoef(values[:, :5].T)
        self.assertLess(np.abs(correlation - np.eye(5)).max(), 5.0 / np.sqrt(len(keys)))
        self.assertLess(abs(np.corrcoef(values[:1500, 0], values[1500:, 0])[0, 1]), 5.0 / np.sqrt(1500))
        self.assertLess(np.abs(values.mean(axis=0) - 0.5).max(), 5.0 * np.sqrt(1 / 12 / len(keys)))


if __name__ == "__main__":
    unittest.main()
