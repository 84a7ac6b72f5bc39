import unittest

import numpy as np

from sivrel.core.pack.geometry import pack_geometry
from sivrel.core.pack.lights import pack_lights
from sivrel.core.scene.indexed import indexed
from sivrel.core.scene.model import Light, Mesh, Scene
from sivrel.core.scene.packed_normals import packed_normals, unpacked_normals
from sivrel.core.scene.triangles import corners_at, normals_at, objects_at, standing_objects, stored_surfaces, surface_rows_at, triangles_of_light
from tests.rooms import ball
from tests.scenes import floor, lambert


def grid(n: int, textured: bool = False) -> Mesh:
    """A smooth square of 2 n² triangles."""
    at = np.linspace(-1.0, 1.0, n + 1)
    x, y = np.meshgrid(at, at)
    z = 0.1 * np.sin(3.0 * x) * np.cos(2.0 * y)
    points = np.stack([x, y, z], axis=-1).reshape(-1, 3)
    normals = np.stack([-0.3 * np.cos(3.0 * x) * np.cos(2.0 * y), 0.2 * np.sin(3.0 * x) * np.sin(2.0 * y), np.ones_like(x)], axis=-1).reshape(-1, 3)
    first = (np.arange(n)[:, None] * (n + 1) + np.arange(n)).reshape(-1)
    a, b, c, d = first, first + 1, first + n + 2, first + n + 1
    corners = np.stack([a, b, c, a, c, d], axis=1).reshape(-1, 3)
    uvs = points[..., :2] if textured else np.zeros((len(points), 2))
    return Mesh.of("grid", points[corners], normals[corners], uvs[corners], np.broadcast_to(np.uint32(0), len(corners)))


class PackedNormals(unittest.TestCase):
    def test_a_direction_is_off_by_little_everywhere(self):
        n = np.random.default_rng(3).normal(size=(200_000, 3))
        n /= np.linalg.norm(n, axis=1, keepdims=True)
        back = unpacked_normals(packed_normals(n * 7.0)).astype(float)
        np.testing.assert_allclose(np.linalg.norm(back, axis=1), 1.0, atol=1e-6)
        self.assertLess(np.linalg.norm(back - n, axis=1).max(), 7e-5)

    def test_axes_are_exact_and_codes_stay(self):
        axes = np.concatenate([np.eye(3), -np.eye(3)])
        np.testing.assert_array_equal(unpacked_normals(packed_normals(axes)), axes)
        codes = np.random.default_rng(4).integers(-32767, 32768, (100_000, 2)).astype(np.int16)
        inside = np.abs(codes.astype(int)).sum(axis=1) < 65000  # at the folded corners two codes mean one direction
        packed = (codes[inside, 0].astype(np.uint16).astype(np.uint32)) | (codes[inside, 1].astype(np.uint16).astype(np.uint32) << np.uint32(16))
        edge = (np.abs(codes[inside].astype(int)) == 32767).any(axis=1)
        np.testing.assert_array_equal(packed_normals(unpacked_normals(packed[~edge])), packed[~edge])


class Indexed(unittest.TestCase):
    def test_points_are_shared_where_all_agrees(self):
        mesh = grid(20)
        self.assertEqual(len(mesh.geometry.points), 21 * 21)
        self.assertEqual(mesh.vertices.shape, (800, 3, 3))
        seam = mesh.changed(uvs=np.repeat((np.arange(800) < 400)[:, None, None], 3, axis=1) * np.ones(2))
        self.assertEqual(len(seam.geometry.points), 21 * 21 + 21)
        np.testing.assert_array_equal(seam.vertices, mesh.vertices)

    def test_flat_triangles_share_points_and_keep_their_normals(self):
        v = grid(20).vertices
        own = np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]).astype(float)
        own /= np.linalg.norm(own, axis=1, keepdims=True)
        each = np.repeat(own[:, None], 3, axis=1)
        made = indexed(v, each, np.zeros((len(v), 3, 2)))
        self.assertEqual(len(made.points), 21 * 21)
        np.testing.assert_allclose(made.each_normals, each, atol=2e-6)
        np.testing.assert_allclose(made.run_round().each_normals, each, atol=2e-6)
        mirror = np.column_stack([np.diag([-2.0, 1.0, 1.0]), [1.0, 2.0, 3.0]])
        moved, turned = made.moved(mirror), each * [-0.5, 1.0, 1.0]
        np.testing.assert_allclose(moved.each_normals, turned / np.linalg.norm(turned, axis=2, keepdims=True), atol=1e-5)
        np.testing.assert_array_equal(moved.run_round().run_round().each_normals, moved.each_normals)

    def test_what_went_in_comes_out(self):
        rng = np.random.default_rng(1)
        v, n, uv = rng.normal(size=(500, 3, 3)), rng.normal(size=(500, 3, 3)), rng.random((500, 3, 2))
        v[100:300], n[100:300], uv[100:300] = v[:200], n[:200], uv[:200]
        made = indexed(v, n, uv)
        self.assertEqual(len(made.points), 3 * 400)
        np.testing.assert_array_equal(made.each_vertices, v.astype(np.float32))
        np.testing.assert_array_equal(made.each_uvs, uv.astype(np.float32))
        np.testing.assert_allclose(made.each_normals, n / np.linalg.norm(n, axis=2, keepdims=True), atol=7e-5)

    def test_what_can_not_be_stored_is_replaced(self):
        v = np.array([[(0, 0, 0), (1, 0, 0), (0, 1, 0)], [(0, 0, 0), (0, 0, 0), (0, 0, 0)]], float)
        n = np.array([[(np.nan, 0, 0), (0, 0, 0), (1, 0, 0)], [(np.inf, 0, 0)] * 3], float)
        made = indexed(v, n, np.full((2, 3, 2), np.nan))
        np.testing.assert_array_equal(made.each_normals[0], [(0, 0, 1), (0, 0, 1), (1, 0, 0)])
        np.testing.assert_array_equal(made.each_normals[1], [(0, 0, 1)] * 3)
        self.assertEqual(made.each_uvs.tolist(), np.zeros((2, 3, 2)).tolist())


class Packed(unittest.TestCase):
    def test_a_dense_mesh_takes_twenty_bytes_a_triangle(self):
        for textured, most in ((False, 20.4), (True, 24.5)):
            arrays = pack_geometry(Scene("dense", [grid(150, textured)], [lambert(0.5)]))
            held = [arrays.corners, arrays.points, arrays.normals, arrays.uvs, arrays.parts, arrays.part_at, arrays.surface_of, arrays.mesh_leaf]
            self.assertLess(sum(column.nbytes for column in held) / len(arrays.corners), most)

    def test_each_triangle_keeps_its_own(self):
        lamp = ball("lamp", (0.0, 0.0, 2.0), 0.3, 2, 4)
        lamp = lamp.changed(aimed=True, surfaces=np.where(np.arange(lamp.count) % 2, np.uint32(2), np.uint32(0)))
        mixed = grid(3).changed(surfaces=(np.arange(18) % 2).astype(np.uint32))
        meshes = [floor(), mixed, grid(2, textured=True), lamp]
        scene = Scene("mixed", meshes, [lambert(0.5), lambert(0.2), lambert(0.0, (5.0, 5.0, 5.0))], [Light("sky", "dome")])
        arrays = pack_lights(pack_geometry(scene), scene)
        every = np.arange(len(arrays.corners))
        counts = [mesh.count for mesh in meshes]
        np.testing.assert_array_equal(objects_at(arrays, every), np.repeat(np.arange(4), counts))
        np.testing.assert_array_equal(standing_objects(arrays), np.repeat(np.arange(4), counts))
        np.testing.assert_array_equal(surface_rows_at(arrays, every) // 2, np.concatenate([mesh.surfaces for mesh in meshes]))
        np.testing.assert_array_equal(stored_surfaces(arrays), surface_rows_at(arrays, every))
        np.testing.assert_array_equal(corners_at(arrays, every).astype(np.float32), np.concatenate([mesh.vertices for mesh in meshes]))
        np.testing.assert_allclose(normals_at(arrays, every), np.concatenate([mesh.normals for mesh in meshes]), atol=1e-6)
        of_lamp = triangles_of_light(arrays, 1)
        np.testing.assert_array_equal(of_lamp, every[-lamp.count :])
        shining = (arrays.mesh_leaf != np.uint32(0xFFFFFFFF)).tolist()
        self.assertEqual(shining, (lamp.surfaces == 2).tolist())


if __name__ == "__main__":
    unittest.main()
