"""The demo shots: modelled parts that are whole, and files that are what their scripts write."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np

from sivrel.core.errors import InputError
from sivrel.core.formats.scenes import read_scene
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.trace.traverse import NO_HIT, any_hits, closest_hits
from sivrel.demo.model import keepers_kitchen, parts, pictures
from sivrel.demo.model.boat import boat
from sivrel.demo.model.stage import Stage, corner_normals
from sivrel.demo.shots import SHOTS, find_shot


def volume(part: parts.Part) -> float:
    """Signed volume inside a closed part, positive when its faces look outwards (divergence theorem)."""
    p = part.points[part.faces]
    halves = (p[:, [0, 1, 2]], p[:, [0, 2, 3]])
    return sum(float(np.einsum("ij,ij->", t[:, 0], np.cross(t[:, 1], t[:, 2]))) / 6.0 for t in halves)


class Parts(unittest.TestCase):
    def test_box_with_rounded_edges(self):
        sharp, round_ = parts.box(2.0, 1.0, 0.5, 0.001), parts.box(2.0, 1.0, 0.5, 0.1, 6)
        self.assertAlmostEqual(volume(sharp), 1.0, delta=0.001)
        # A box whose edges are rounded with r: the inner box, its slabs, quarter cylinders and a sphere.
        r, (a, b, c) = 0.1, (1.8, 0.8, 0.3)
        exact = a * b * c + 2 * r * (a * b + b * c + c * a) + np.pi * r * r * (a + b + c) + 4 / 3 * np.pi * r**3
        self.assertAlmostEqual(volume(round_), exact, delta=0.02 * exact)
        np.testing.assert_allclose(np.ptp(round_.points, axis=0), (2.0, 1.0, 0.5))

    def test_lathe_tube_and_joining(self):
        cylinder = parts.lathe([(0, 0), (0.5, 0), (0.5, 2), (0, 2)], 200)
        self.assertAlmostEqual(volume(cylinder), np.pi * 0.25 * 2, delta=0.01)
        path = np.stack([np.linspace(0, 3, 9), np.zeros(9), np.zeros(9)], axis=1)
        tube = parts.tube(path, 0.2, 64)
        self.assertAlmostEqual(volume(tube), np.pi * 0.04 * 3, delta=0.01)
        both = parts.join(cylinder, tube.moved(y=9))
        self.assertAlmostEqual(volume(both), volume(cylinder) + volume(tube), places=6)
        self.assertAlmostEqual(volume(cylinder.turned("x", 70).scaled(2, 1, 1)), 2 * volume(cylinder), places=6)

    def test_rope_has_three_strands_of_its_length(self):
        path = np.stack([np.linspace(0, 1, 20), np.zeros(20), np.zeros(20)], axis=1)
        rope = parts.rope(path, 0.02)
        self.assertLess(np.hypot(rope.points[:, 1], rope.points[:, 2]).max(), 0.0225)
        self.assertAlmostEqual(np.ptp(rope.points[:, 0]), 1.0, delta=0.03)

    def test_curve_passes_its_points(self):
        knots = np.array([(0, 0, 0), (1, 2, 0), (3, 1, 1)], float)
        line = parts.curve(knots, 400)
        for knot in knots:
            self.assertLess(np.linalg.norm(line - knot, axis=1).min(), 0.01)

    def test_noise_is_smooth_bounded_and_repeats_by_seed(self):
        at = np.random.default_rng(0).uniform(-5, 5, (2000, 3))
        a, b, c = parts.noise(at, 0.7, 1), parts.noise(at, 0.7, 1), parts.noise(at, 0.7, 2)
        np.testing.assert_array_equal(a, b)
        self.assertLess(abs(np.corrcoef(a, c)[0, 1]), 0.1)
        self.assertLess(np.abs(a).max(), 1.7)
        self.assertLess(np.abs(parts.noise(at + 1e-4, 0.7, 1) - a).max(), 0.01)

    def test_normals_are_shared_over_soft_edges_and_not_over_sharp_ones(self):
        cylinder = parts.lathe([(0.5, 0), (0.5, 1)], 48)
        normals = corner_normals(cylinder)
        radial = cylinder.points[cylinder.faces] * (1, 0, 1) / 0.5
        np.testing.assert_allclose(normals, radial, atol=0.01)
        cube = parts.join(*[parts.sheet(np.array([[(0, 0, 0), (1, 0, 0)], [(0, 1, 0), (1, 1, 0)]], float))])
        np.testing.assert_allclose(np.abs(corner_normals(cube)[..., 2]), 1.0)

    def test_boat_is_symmetric_and_its_size(self):
        hull = boat()["Hull"][0].points
        self.assertAlmostEqual(hull[:, 2].min(), -hull[:, 2].max(), places=9)
        self.assertAlmostEqual(np.ptp(hull[:, 0]), 4.2, delta=0.3)
        self.assertAlmostEqual(np.ptp(hull[:, 2]), 1.5, delta=0.15)

    def test_pictures_repeat_at_their_edges(self):
        for picture in (pictures.whitewash(1), pictures.stone(2), pictures.weave(3)):
            seam = np.abs(picture[:, 0] - picture[:, -1]).mean()
            inside = np.abs(picture[:, 100] - picture[:, 101]).mean()
            self.assertLess(seam, 2.5 * inside + 0.01)
            self.assertGreaterEqual(picture.min(), 0.0)


class Stages(unittest.TestCase):
    def test_what_is_written_is_read_back(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "s.usdc"
            stage = Stage(path, "Room")
            stage.texture("grey", np.full((8, 8, 3), 0.25))
            stage.material("Plain", (0.1, 0.2, 0.3), 0.7)
            stage.material("Papered", picture="grey", repeat=2.0)
            stage.add("Box", parts.box(1, 1, 1), "Plain")
            stage.prototype("Thing", {"Part": (parts.box(0.1, 0.1, 0.1), "Papered")})
            for k in range(3):
                stage.place(f"Things/Thing{k}", "Thing", (k, 2.0, 0.0))
            stage.light("Rect", "Lamp", 4.0, at=(0, 3, 0), towards=(0.0, 0.0, 0.1), width=2.0)
            stage.camera("eye", (0, 1, 5), (0, 0, 0), 36.0, 0.5)
            stage.save()
            scene = read_scene(path)
        self.assertEqual(len(scene.meshes), 4)
        self.assertEqual(sorted(float(m.vertices[..., 0].mean().round()) for m in scene.meshes), [0.0, 0.0, 1.0, 2.0])
        papered = next(s for s in scene.surfaces if s.base_color_map)
        np.testing.assert_allclose(papered.base_color_map.texture.image.linear()[..., :3], 0.25, atol=0.01)
        np.testing.assert_allclose(papered.base_color_map.texture.transform, [[2, 0, 0], [0, 2, 0]])
        self.assertLess(scene.lights[0].frame[2] @ (0, -1, 0), -0.99)  # -z looks down
        self.assertAlmostEqual(scene.cameras[0].half_width, 0.5, places=6)

    def test_what_moves_is_read_frame_by_frame(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "s.usdc"
            stage = Stage(path, "Stair")
            stage.frames(1, 3, 24.0)
            stage.material("Plain")
            door = stage.turning("Door", np.array((2.0, 0.0, 0.0)), "y", {1: 0.0, 3: 90.0})
            stage.add(f"{door}/Board", parts.box(1.0, 2.0, 0.04).moved(x=0.5), "Plain")
            stage.light("Sphere", "Flame", 5.0, at=(1.0, 0.0, 0.0), under=door, radius=0.1)
            stage.moving_camera("walk", {1: np.zeros(3), 3: np.array((0.0, 1.0, 0.0))}, {1: np.array((0, 0, -1)), 3: np.array((0, 1, -1))})
            stage.save()
            first, last = (read_scene(path, frame=frame) for frame in (1, 3))
        for scene, board, eye in ((first, (2.5, 0.0, 0.0), (0, 0, 0)), (last, (2.0, 0.0, -0.5), (0, 1, 0))):
            np.testing.assert_allclose(scene.meshes[0].vertices.reshape(-1, 3).mean(axis=0), board, atol=1e-6)
            np.testing.assert_allclose(scene.lights[0].position, 2.0 * np.array(board) - (2.0, 0.0, 0.0), atol=1e-6)
            np.testing.assert_allclose(scene.cameras[0].to_world[:, 3], eye, atol=1e-6)


class ShippedShots(unittest.TestCase):
    def test_they_open_without_a_word_and_are_worth_lighting(self):
        for shot in SHOTS:
            scene = read_scene(shot.path)
            self.assertEqual(scene.notes, [])
            self.assertGreater(scene.triangle_count(), 30_000)
            self.assertGreaterEqual(len(scene.cameras), 3)
            self.assertGreaterEqual(sum(s.base_color_map is not None for s in scene.surfaces), 4 if shot.name == "lamp-room" else 6)
            low, high = scene.bounds()
            self.assertTrue(np.isfinite([low, high]).all())
            listing = json.loads((shot.proofs / "proofs.json").read_text())
            self.assertEqual(len(listing), len(list(shot.proofs.glob("*.exr"))))

    def test_the_kitchen_has_its_two_faults_and_no_others(self):
        """Rays from inside leave the room through the window and the open roof joint, and nowhere else."""
        scene = pack_scene(read_scene(find_shot("demo:keepers-kitchen")))
        rng = np.random.default_rng(6)
        origins = np.tile(np.array([[2.2, 1.3, 2.6]], np.float32), (200_000, 1))
        d = rng.normal(size=origins.shape)
        directions = (d / np.linalg.norm(d, axis=1, keepdims=True)).astype(np.float32)
        out = ~any_hits(scene.bvh, origins, directions, np.float32(0), np.float32(1e30))
        o, d = origins[out].astype(float), directions[out].astype(float)
        at_west = o + d * ((keepers_kitchen.WIDTH - o[:, :1]) / d[:, :1])
        window = (d[:, 0] > 0) & (np.abs(at_west[:, 1] - 1.44) < 0.56) & (np.abs(at_west[:, 2] - 1.5) < 0.56)
        at_north = o - d * (o[:, 2:] / d[:, 2:])
        joint = (d[:, 2] < 0) & (at_north[:, 1] > keepers_kitchen.HEIGHT - keepers_kitchen.GAP - 0.02) & (at_north[:, 1] < 2.45)
        self.assertGreater(window.sum(), 100)
        self.assertGreater(joint.sum(), 5)
        self.assertEqual((~window & ~joint).sum(), 0)
        # The north wall is a single sheet: just behind it is the outside.
        behind, north = np.array([[0.3, 0.5, -0.05]], np.float32), np.array([[0, 0, -1]], np.float32)
        through, _ = closest_hits(scene.bvh, behind, north, np.float32(0), np.float32(50))
        self.assertEqual(through[0], NO_HIT)

    def test_names(self):
        self.assertEqual(find_shot("some/file.usda"), Path("some/file.usda"))
        with self.assertRaisesRegex(InputError, "demo:slipway"):
            find_shot("demo:nothing")


if __name__ == "__main__":
    unittest.main()
