"""How triangles hang together, and what a plane cuts of them: against Euler's formula, known solids, and solids turned by chance."""

import unittest

import numpy as np

from sivrel.core.formats.framing import framing_camera
from sivrel.core.scene.topology import facets, topology, turned_triangles, volume
from sivrel.core.survey.plan import cut_lines, inside_cut
from tests.rooms import ball, box

BALL = ball("/Ball", (0.0, 0.0, 0.0), 1.0, 0, 12).vertices.astype(float)
BOX = box("/Box", (0.0, 0.0, 0.0), (2.0, 3.0, 4.0), 0).vertices.astype(float)


def turning(seed: int) -> np.ndarray:
    """A rotation by chance."""
    q, r = np.linalg.qr(np.random.default_rng(seed).normal(size=(3, 3)))
    q *= np.sign(np.diag(r))
    return q * np.sign(np.linalg.det(q))


def euler(mesh) -> int:
    """Vertices - edges + faces: 2 for all that is like a ball."""
    return len(mesh.points) - len(mesh.edges) + len(mesh.corners)


class TopologyTest(unittest.TestCase):
    def test_closed_solids_meet_eulers_formula(self):
        for name, triangles in (("ball", BALL), ("box", BOX)):
            for seed in range(3):
                with self.subTest(name=name, seed=seed):
                    mesh = topology(triangles @ turning(seed).T * 7.0 + [100.0, -3.0, 0.5])
                    self.assertEqual(euler(mesh), 2)
                    self.assertTrue((mesh.uses == 2).all())
                    self.assertFalse(mesh.rim().any())
                    self.assertEqual(len(np.unique(mesh.part)), 1)
                    # Each edge of a solid that faces outwards is run along once each way.
                    runs = np.bincount(mesh.edge_of.reshape(-1), weights=np.where(mesh.forward.reshape(-1), 1, -1))
                    self.assertTrue((runs == 0).all())

    def test_a_hole_has_a_rim_and_pieces_are_parts(self):
        mesh = topology(BOX[2:])
        self.assertEqual(int(mesh.rim().sum()), 4)
        self.assertEqual(euler(mesh), 1)
        both = topology(np.concatenate([BALL, BOX + 10.0]))
        self.assertEqual(len(np.unique(both.part)), 2)
        self.assertEqual(len(np.unique(both.part[: len(BALL)])), 1)

    def test_corners_that_nearly_meet_are_one(self):
        moved = BOX + np.random.default_rng(1).uniform(-1e-7, 1e-7, BOX.shape)
        self.assertEqual(len(topology(moved).points), 8)
        apart = BOX.copy()
        apart[0, 0] += 1e-3
        self.assertEqual(len(topology(apart).points), 9)

    def test_what_was_turned_over_is_found(self):
        random = np.random.default_rng(2)
        for triangles in (BALL, BOX):
            turned = random.random(len(triangles)) < 0.3
            mixed = np.where(turned[:, None, None], triangles[:, ::-1], triangles)
            np.testing.assert_array_equal(turned_triangles(topology(mixed)), turned)

    def test_area_and_volume_of_known_solids(self):
        self.assertAlmostEqual(volume(BOX), 24.0, places=4)
        self.assertAlmostEqual(float(np.linalg.norm(facets(BOX), axis=1).sum()) / 2.0, 52.0, places=4)
        self.assertAlmostEqual(volume(BOX @ turning(3).T + 50.0), 24.0, places=3)
        self.assertAlmostEqual(volume(BOX[:, ::-1]), -24.0, places=4)
        # A ball of flat pieces lies a little within its sphere.
        self.assertTrue(0.95 < volume(BALL) / (4.0 / 3.0 * np.pi) < 1.0)


class CutTest(unittest.TestCase):
    def test_every_cut_of_a_solid_closes(self):
        """Lines of a closed outline, run along in turn, add up to nothing; each end is the beginning of another."""
        for seed in range(6):
            normal = turning(seed)[0]
            lines, of = cut_lines(BALL, np.zeros(3), normal)
            self.assertEqual(len(lines), len(of))
            np.testing.assert_allclose((lines[:, 1] - lines[:, 0]).sum(axis=0), 0.0, atol=1e-9)
            np.testing.assert_allclose(lines @ normal, 0.0, atol=1e-9)
            ends, begins = (np.unique(np.round(lines[:, k], 6), axis=0) for k in (1, 0))
            np.testing.assert_allclose(ends, begins, atol=2e-6)
            length = float(np.linalg.norm(lines[:, 1] - lines[:, 0], axis=1).sum())
            self.assertTrue(0.97 < length / (2.0 * np.pi) <= 1.0)

    def test_a_plane_beside_it_cuts_nothing(self):
        lines, of = cut_lines(BOX, np.array([0.0, 9.0, 0.0]), np.array([0.0, 1.0, 0.0]))
        self.assertEqual((len(lines), len(of)), (0, 0))

    def test_the_inside_has_the_area_of_the_cut(self):
        for height in (-0.8, -0.3, 0.0, 0.5):
            lines, _ = cut_lines(BALL, np.array([0.0, height, 0.0]), np.array([0.0, 1.0, 0.0]))
            flat = lines[:, :, [0, 2]] + 1.5
            # The outline's own area (shoelace), to which pixels come close.
            exact = abs(np.sum(flat[:, 0, 0] * flat[:, 1, 1] - flat[:, 1, 0] * flat[:, 0, 1])) / 2.0
            inside = inside_cut(flat, (300, 300), (0.01, 0.01))
            self.assertAlmostEqual(inside.sum() * 1e-4, exact, delta=0.02)

    def test_a_hollow_is_not_inside(self):
        inner = BALL[:, ::-1] * 0.5  # its inside faces the hollow
        lines, _ = cut_lines(np.concatenate([BALL, inner]), np.zeros(3), np.array([0.0, 1.0, 0.0]))
        inside = inside_cut(lines[:, :, [0, 2]] + 1.5, (60, 60), (0.05, 0.05))
        self.assertFalse(inside[30, 30])
        self.assertTrue(inside[30, 15])
        self.assertFalse(inside[30, 5])


class FramingTest(unittest.TestCase):
    def test_all_of_a_box_is_in_the_picture(self):
        random = np.random.default_rng(4)
        for _ in range(20):
            low = random.uniform(-50.0, 50.0, 3)
            high = low + random.uniform(0.01, 30.0, 3)
            camera = framing_camera(low, high)
            axes, eye = camera.to_world[:, :3], camera.to_world[:, 3]
            np.testing.assert_allclose(axes.T @ axes, np.eye(3), atol=1e-9)
            corners = np.array([[(low, high)[i][0], (low, high)[j][1], (low, high)[k][2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)])
            seen = (corners - eye) @ axes
            self.assertLess(seen[:, 2].max(), 0.0)  # all lies before it
            across, up = seen[:, 0] / -seen[:, 2], seen[:, 1] / -seen[:, 2]
            self.assertLessEqual(np.abs(across).max(), camera.half_width)
            self.assertLessEqual(np.abs(up).max(), camera.half_width * 9.0 / 16.0)

    def test_a_single_point_has_a_camera(self):
        camera = framing_camera(np.ones(3), np.ones(3))
        self.assertTrue(np.isfinite(camera.to_world).all())
        self.assertGreater(np.linalg.norm(camera.to_world[:, 3] - 1.0), 0.0)


if __name__ == "__main__":
    unittest.main()
