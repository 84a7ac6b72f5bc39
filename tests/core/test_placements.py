"""The hierarchy of two levels: rays hit placed shapes where their flattened triangles are."""

import unittest

import numpy as np

from sivrel.core.trace.bvh import build_bvh
from sivrel.core.trace.placements import placements_of
from sivrel.core.trace.traverse import NO_HIT, any_hits, closest_hits
from sivrel.core.trace.two_levels import build_in_parts, build_two_levels


def blobs(random: np.random.Generator, count: int) -> np.ndarray:
    """Small triangles in a unit cube about the origin, float32 [count, 3, 3]."""
    return (random.uniform(-0.5, 0.5, (count, 1, 3)) + random.uniform(-0.1, 0.1, (count, 3, 3))).astype(np.float32)


def transforms(random: np.random.Generator, count: int) -> np.ndarray:
    """Turned, stretched and sometimes mirrored matrices [count, 3, 4], a few metres around the origin."""
    made = np.zeros((count, 3, 4))
    for k in range(count):
        q, _ = np.linalg.qr(random.normal(size=(3, 3)))
        made[k, :, :3] = q * random.uniform(0.3, 2.0, 3)
        made[k, :, 3] = random.uniform(-4.0, 4.0, 3)
    return made


def apart(vertices: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(points, corners) of triangles [n, 3, 3] that share no point."""
    return vertices.reshape(-1, 3), np.arange(3 * len(vertices), dtype=np.uint32).reshape(-1, 3)


class TwoLevels(unittest.TestCase):
    def hits(self, standing: int, seed: int) -> None:
        random = np.random.default_rng(seed)
        ground, shapes = blobs(random, standing), [blobs(random, 300), blobs(random, 5)]
        stored = np.concatenate([ground, *shapes])
        rows = [standing, standing + 300]
        which, matrices = random.integers(0, 2, 40), transforms(random, 40)
        counts = [len(shapes[k]) for k in which]
        placements = placements_of(counts, [rows[k] for k in which], list(range(40)), matrices, standing)
        bvh = build_two_levels(*apart(stored), standing, placements)
        flat = [ground] + [np.einsum("ij,nkj->nki", m[:, :3], shapes[k]) + m[:, 3] for k, m in zip(which, matrices, strict=True)]
        triangles = np.concatenate(flat).astype(np.float32)
        reference = build_bvh(triangles)
        origins = random.uniform(-6.0, 6.0, (20000, 3)).astype(np.float32)
        d = (random.uniform(-3.0, 3.0, (20000, 3)) - origins).astype(np.float32)
        a, ta = closest_hits(bvh, origins, d, np.float32(0.0), np.float32(1e30))
        b, tb = closest_hits(reference, origins, d, np.float32(0.0), np.float32(1e30))
        self.assertGreater((b != NO_HIT).mean(), 0.2)
        self.assertTrue(np.isin(a[a != NO_HIT], np.arange(len(triangles))).all())
        self.assertGreater((a == b).mean(), 0.9995)  # rays along an edge may differ by a rounding
        met = (a == b) & (a != NO_HIT)
        np.testing.assert_allclose(ta[met], tb[met], rtol=1e-4, atol=1e-5)
        some = any_hits(bvh, origins, d, np.float32(0.0), np.float32(0.7))
        others = any_hits(reference, origins, d, np.float32(0.0), np.float32(0.7))
        self.assertGreater((some == others).mean(), 0.9995)

    def test_rays_hit_placed_shapes_where_their_flattened_triangles_are(self) -> None:
        self.hits(200, 1)

    def test_a_scene_may_consist_of_placed_shapes_only(self) -> None:
        self.hits(0, 2)

    def test_identical_geometry_gives_identical_hits(self) -> None:
        random = np.random.default_rng(3)
        shape = blobs(random, 500)
        still = np.eye(4)[None, :3]
        bvh = build_two_levels(*apart(shape), 0, placements_of([500], [0], [0], still, 0))
        reference = build_bvh(shape)
        origins, d = random.uniform(-2.0, 2.0, (2, 5000, 3)).astype(np.float32)
        for one, other in zip(
            closest_hits(bvh, origins, d, np.float32(0.0), np.float32(1e30)),
            closest_hits(reference, origins, d, np.float32(0.0), np.float32(1e30)),
            strict=True,
        ):
            np.testing.assert_array_equal(one, other)

    def test_a_hierarchy_built_in_parts_finds_the_same_hits(self) -> None:
        random = np.random.default_rng(6)
        triangles = blobs(random, 5003)
        origins, d = random.uniform(-2.0, 2.0, (2, 20000, 3)).astype(np.float32)
        one, other = build_bvh(triangles), build_in_parts(triangles, 1000)
        for a, b in zip(*(closest_hits(bvh, origins, d, np.float32(0.0), np.float32(1e30)) for bvh in (one, other)), strict=True):
            np.testing.assert_array_equal(a, b)
        for a, b in zip(*(any_hits(bvh, origins, d, np.float32(0.0), np.float32(0.5)) for bvh in (one, other)), strict=True):
            np.testing.assert_array_equal(a, b)

    def test_a_ray_that_a_placement_makes_too_large_to_trace_misses_it_only(self) -> None:
        shape = blobs(np.random.default_rng(4), 50)
        tiny = np.eye(4)[:3] * 1e-35
        tiny[:, 3] = 0.0
        big = np.eye(4)[:3].copy()
        bvh = build_two_levels(*apart(shape), 0, placements_of([50, 50], [0, 0], [0, 1], np.stack([tiny, big]), 0))
        random = np.random.default_rng(5)
        o = random.uniform(-2.0, 2.0, (4000, 3)).astype(np.float32)
        hits, _ = closest_hits(bvh, o, -o, np.float32(0.0), np.float32(1e30))
        there, _ = closest_hits(build_bvh(shape), o, -o, np.float32(0.0), np.float32(1e30))
        np.testing.assert_array_equal(hits == NO_HIT, there == NO_HIT)


if __name__ == "__main__":
    unittest.main()
