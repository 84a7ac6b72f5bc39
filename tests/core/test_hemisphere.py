"""Directions over hemispheres: square axes everywhere, and as dense as the cosine."""

import unittest

import numpy as np

from sivrel.core.gi.hemisphere import cosine_directions, frames, stratified_directions


def normals(n: int, seed: int = 1) -> np.ndarray:
    """Of all directions, with those along the axes, where bases break."""
    some = np.random.default_rng(seed).normal(size=(n, 3))
    sharp = np.array([[0.0, 0.0, -1.0], [0.0, 0.0, 1.0], [1.0, 0.0, 0.0], [0.0, -1.0, 0.0], [1e-9, 0.0, -1.0], [0.0, 1e-4, -1.0]])
    made = np.concatenate([some, sharp])
    return made / np.linalg.norm(made, axis=1, keepdims=True)


class HemisphereTest(unittest.TestCase):
    def test_axes_stand_square_on_every_normal(self):
        n = normals(2000)
        x, y = frames(n)
        for a, b in ((x, y), (x, n), (y, n)):
            np.testing.assert_allclose((a * b).sum(axis=1), 0.0, atol=1e-12)
        for a in (x, y):
            np.testing.assert_allclose(np.linalg.norm(a, axis=1), 1.0, atol=1e-12)
        # Right-handed: across, across, up.
        np.testing.assert_allclose(np.cross(x, y), n, atol=1e-9)

    def test_directions_are_dense_as_the_cosine(self):
        """Of a density cos / pi the mean cosine is 2/3, its square 1/2, and the mean direction lies on the normal (closed forms)."""
        n = np.repeat(normals(10, 2), 4000, axis=0)
        d = cosine_directions(n, np.random.default_rng(3))
        np.testing.assert_allclose(np.linalg.norm(d, axis=1), 1.0, atol=1e-9)
        cosine = (d * n).sum(axis=1).reshape(-1, 4000)
        self.assertGreaterEqual(cosine.min(), 0.0)
        np.testing.assert_allclose(cosine.mean(axis=1), 2.0 / 3.0, atol=0.02)
        np.testing.assert_allclose((cosine**2).mean(axis=1), 0.5, atol=0.02)
        means = d.reshape(-1, 4000, 3).mean(axis=1)
        np.testing.assert_allclose(means, 2.0 / 3.0 * n[::4000], atol=0.03)

    def test_one_direction_lies_in_each_cell(self):
        n, rings, slices = normals(5, 4), 6, 9
        d, x, y = stratified_directions(n, rings, slices, np.random.default_rng(5))
        self.assertEqual(d.shape, (len(n), rings, slices, 3))
        cosine = np.einsum("krsa,ka->krs", d, n)
        ring = np.floor((1.0 - cosine**2) * rings - 1e-9).astype(int)
        np.testing.assert_array_equal(np.clip(ring, 0, rings - 1), np.broadcast_to(np.arange(rings)[None, :, None], ring.shape))
        turned = np.arctan2(np.einsum("krsa,ka->krs", d, y), np.einsum("krsa,ka->krs", d, x)) % (2.0 * np.pi)
        np.testing.assert_array_equal(np.floor(turned / (2.0 * np.pi) * slices), np.broadcast_to(np.arange(slices)[None, None, :], ring.shape))

    def test_cells_leave_less_to_chance(self):
        """Light that changes smoothly over a hemisphere is estimated with less noise by one direction in each cell than by as many at random."""
        n = np.repeat(np.array([[0.3, 0.8, 0.52]]) / np.linalg.norm([0.3, 0.8, 0.52]), 400, axis=0)
        random = np.random.default_rng(6)

        def light(d: np.ndarray) -> np.ndarray:
            return 1.0 + d[..., 0] + 0.5 * d[..., 1] ** 2

        cells = light(stratified_directions(n, 4, 8, random)[0]).mean(axis=(1, 2))
        free = light(np.stack([cosine_directions(n, random) for _ in range(32)], axis=1)).mean(axis=1)
        self.assertAlmostEqual(cells.mean(), free.mean(), delta=0.02)
        self.assertLess(cells.std(), 0.5 * free.std())


if __name__ == "__main__":
    unittest.main()
