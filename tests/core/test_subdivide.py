"""Subdivision surfaces: against the published rules, the limit in closed form, and pictures of what they become."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from sivrel.core.edits.apply_edits import apply_edits
from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.formats.scenes import read_scene
from sivrel.core.render.frame import Frame
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, from_json, with_values
from sivrel.core.scene.finer import levels_of, subdivided
from sivrel.core.scene.subdivide import ALWAYS, Cage, corner_normals, limit_points, refine
from sivrel.core.scene.triangles import normals_at, stored_corners

SQUARES = [[0, 2, 3, 1], [4, 5, 7, 6], [0, 1, 5, 4], [2, 6, 7, 3], [0, 4, 6, 2], [1, 3, 7, 5]]
EDGES = np.array([[0, 1], [2, 3], [4, 5], [6, 7], [0, 2], [1, 3], [4, 6], [5, 7], [0, 4], [1, 5], [2, 6], [3, 7]])
FIRST_EDGE, FIRST_FACE = 8, 20  # of the cube's points after a step


def cage_of(points, faces, **more) -> Cage:
    counts, corners = np.array([len(face) for face in faces]), np.concatenate([np.array(face) for face in faces])
    points = np.array(points, float)
    return Cage(points, counts, corners, points[corners][:, :2].copy(), np.arange(len(faces)), np.zeros(len(faces), bool), **more)


def cube(**more) -> Cage:
    return cage_of([[x, y, z] for z in (-1, 1) for y in (-1, 1) for x in (-1, 1)], SQUARES, **more)


def grid(n: int, **more) -> Cage:
    """n x n unit squares in the plane z = 0."""
    points = [[x, y, 0] for y in range(n + 1) for x in range(n + 1)]
    at = [y * (n + 1) + x for y in range(n) for x in range(n)]
    return cage_of(points, [[k, k + 1, k + n + 2, k + n + 1] for k in at], **more)


def steps(cage: Cage, count: int) -> Cage:
    for _ in range(count):
        cage = refine(cage)
    return cage


class CatmullClark(unittest.TestCase):
    def test_the_cube_follows_the_rules(self):
        one = refine(cube())
        # Faces: their middle; edges: the mean of two ends and two faces, 3/4 out; points: (Q + 2 R) / 3 with Q = 1/3 and R = 2/3.
        np.testing.assert_allclose(np.abs(one.points[:8]), 5.0 / 9.0)
        np.testing.assert_allclose(np.sort(np.abs(one.points[FIRST_EDGE:FIRST_FACE]), axis=1), np.tile([0.0, 0.75, 0.75], (12, 1)), atol=1e-12)
        np.testing.assert_allclose(np.sort(np.abs(one.points[FIRST_FACE:]), axis=1), np.tile([0.0, 0.0, 1.0], (6, 1)), atol=1e-12)
        self.assertEqual((len(one.counts), set(one.counts.tolist()), np.bincount(one.face_of).tolist()), (24, {4}, [4] * 6))

    def test_it_comes_to_its_limit(self):
        # The limit of a corner of three is (9 P + 4 sum R + sum S) / 24: of the cube's, (9 + 4 + (-1)) / 24 each way after summing neighbours.
        limit = limit_points(refine(cube()))[:8]
        np.testing.assert_allclose(np.abs(limit), 0.5, atol=1e-12)
        fine = steps(cube(), 5)
        np.testing.assert_allclose(np.linalg.norm(limit_points(fine) - fine.points, axis=1).max(), 0.0, atol=1e-3)
        np.testing.assert_allclose(limit_points(fine)[:8], limit, atol=1e-12)

    def test_a_round_cage_is_within_a_thousandth_of_its_limit_at_level_five(self):
        rings, around = 8, 12
        at = [(np.pi * (i + 0.5) / rings, 2.0 * np.pi * j / around) for i in range(rings) for j in range(around)]
        points = [(np.sin(b) * np.cos(a), np.sin(b) * np.sin(a), np.cos(b)) for b, a in at] + [(0, 0, 1), (0, 0, -1)]
        faces = [[i * around + j, (i + 1) * around + j, (i + 1) * around + (j + 1) % around, i * around + (j + 1) % around]
                 for i in range(rings - 1) for j in range(around)]  # fmt: skip
        top, bottom, last = len(points) - 2, len(points) - 1, (rings - 1) * around
        faces += [[top, j, (j + 1) % around] for j in range(around)] + [[bottom, last + (j + 1) % around, last + j] for j in range(around)]
        fine = steps(cage_of(points, faces), 5)
        radius = np.linalg.norm(limit_points(fine), axis=1).max()
        self.assertLess(np.linalg.norm(limit_points(fine) - fine.points, axis=1).max(), 1e-3 * radius)
        self.assertTrue(np.all(np.einsum("ij,ij->i", corner_normals(fine), fine.points[fine.corners]) > 0.9))

    def test_sharp_edges_stay_as_long_as_they_are_sharp(self):
        always = steps(cube(edges=EDGES, sharpness=np.full(12, ALWAYS)), 3)
        self.assertTrue((np.abs(always.points).max(axis=1) > 1.0 - 1e-12).all(), "all sharp, it stays a cube")
        np.testing.assert_allclose(np.unique(np.round(corner_normals(always), 9), axis=0), np.unique(np.concatenate([np.eye(3), -np.eye(3)]), axis=0))
        once = refine(cube(edges=EDGES, sharpness=np.full(12, 1.0)))
        np.testing.assert_allclose(once.points, refine(cube(edges=EDGES, sharpness=np.full(12, ALWAYS))).points)
        self.assertEqual(len(once.edges), 0)
        half = refine(cube(edges=EDGES, sharpness=np.full(12, 0.5)))
        np.testing.assert_allclose(np.abs(half.points[:8]), 0.5 * 1.0 + 0.5 * 5.0 / 9.0)
        np.testing.assert_allclose(np.abs(half.points[FIRST_EDGE:FIRST_FACE]).max(axis=1), 0.5 * 1.0 + 0.5 * 0.75)
        # Along a crease points follow the cubic spline: (1 6 1) / 8.
        rim = [k for k, ends in enumerate(EDGES) if (ends >= 4).all()]
        crease = refine(cube(edges=EDGES[rim], sharpness=np.full(4, ALWAYS)))
        expected = (6.0 * cube().points[7] + cube().points[5] + cube().points[6]) / 8.0
        np.testing.assert_allclose(crease.points[7], expected)
        np.testing.assert_allclose(limit_points(steps(cube(edges=EDGES[rim], sharpness=np.full(4, ALWAYS)), 2))[:, 2].max(), 1.0)

    def test_sharp_points_and_boundaries(self):
        pointed = refine(cube(points_sharp=np.array([7]), corner_sharpness=np.array([ALWAYS])))
        np.testing.assert_allclose(pointed.points[7], 1.0)
        for boundary, corner in (("edges_and_corners", 0.0), ("edges", 0.125)):
            flat = refine(grid(2, boundary=boundary))
            np.testing.assert_allclose(flat.points[0], [corner, corner, 0.0])
            np.testing.assert_allclose(flat.points[4], [1.0, 1.0, 0.0])
            np.testing.assert_allclose(flat.points[1], [1.0, 0.0, 0.0])  # on the boundary's spline
            # Inside an even grid nothing moves, and coordinates are linear.
            inner = steps(grid(4, boundary=boundary), 2)
            middle = np.abs(inner.points[inner.corners] - 2.0)[:, :2].max(axis=1) < 0.9
            np.testing.assert_allclose(inner.uvs[middle], inner.points[inner.corners][middle, :2], atol=1e-12)

    def test_holes_leave_what_is_around_them(self):
        whole, holed = grid(3), grid(3)
        holed.hole[4] = True
        fine = refine(holed)
        np.testing.assert_allclose(fine.points, refine(whole).points)
        self.assertEqual(int(fine.hole.sum()), 4)


class Loop(unittest.TestCase):
    def test_the_octahedron_follows_the_rules(self):
        points = [[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1], [0, 0, -1]]
        faces = [[0, 2, 4], [2, 1, 4], [1, 3, 4], [3, 0, 4], [2, 0, 5], [1, 2, 5], [3, 1, 5], [0, 3, 5]]
        one = refine(cage_of(points, faces, scheme="loop"))
        weight = (0.625 - 0.375**2) / 4.0  # of each of four neighbours, which cancel
        np.testing.assert_allclose(np.linalg.norm(one.points[:6], axis=1), 1.0 - 4.0 * weight)
        np.testing.assert_allclose(np.linalg.norm(one.points[6:], axis=1), np.hypot(0.375, 0.375))  # the opposite ends cancel
        self.assertEqual((len(one.counts), set(one.counts.tolist())), (32, {3}))
        fine = steps(one, 3)
        self.assertLess(np.ptp(np.linalg.norm(fine.points, axis=1)), 0.03)
        self.assertTrue((np.einsum("ij,ij->i", corner_normals(fine), fine.points[fine.corners]) > 0.0).all())


class InShots(unittest.TestCase):
    def setUp(self):
        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        self.folder = Path(made.name)

    def scene(self, scheme: str = "catmullClark", more: str = "", orientation: str = "rightHanded"):
        points = ", ".join(f"({x}, {y}, {z})" for z in (-1, 1) for y in (-1, 1) for x in (-1, 1))
        corners = ", ".join(str(k) for face in SQUARES for k in face)
        (self.folder / "cube.usda").write_text(
            f'#usda 1.0\n(\n metersPerUnit = 1\n upAxis = "Y"\n)\ndef Mesh "Cube"\n{{\n int[] faceVertexCounts = [4, 4, 4, 4, 4, 4]\n'
            f' int[] faceVertexIndices = [{corners}]\n point3f[] points = [{points}]\n uniform token subdivisionScheme = "{scheme}"\n'
            f' uniform token orientation = "{orientation}"\n{more}}}\n'
            'def Camera "Near"\n{\n double3 xformOp:translate = (0, 0, 5)\n uniform token[] xformOpOrder = ["xformOp:translate"]\n}\n'
            'def Camera "Far"\n{\n double3 xformOp:translate = (0, 0, 500)\n uniform token[] xformOpOrder = ["xformOp:translate"]\n}\n'
            'def DomeLight "Sky" {}\n'
        )
        return read_scene(self.folder / "cube.usda")

    def test_edges_become_as_short_as_asked_for(self):
        scene = self.scene()
        self.assertEqual(len(scene.meshes[0].vertices), 12)
        recipe = with_values(Recipe(), {"surfaces.subdivide": 0.1, "surfaces.subdivide_unit": "m", "surfaces.subdivide_levels": 7})
        ready = prepare(scene, recipe, frame=Frame(64, 36))
        corners = stored_corners(ready.arrays)
        self.assertEqual(ready.levels, {"/Cube": 5})
        self.assertEqual(len(corners), 12 * 4**5)
        sides = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2)
        self.assertLess(np.median(sides), 0.1)
        self.assertLess(np.linalg.norm(corners, axis=2).max(), 0.9)
        normals = normals_at(ready.arrays, np.arange(len(corners)))
        np.testing.assert_allclose(np.linalg.norm(normals, axis=2), 1.0, atol=1e-5)
        self.assertTrue((np.einsum("nij,nij->ni", normals, corners) > 0.0).all())
        pixels = with_values(Recipe(), {"surfaces.subdivide": 30.0, "surfaces.subdivide_levels": 7})
        near, far = (prepare(scene, pixels, camera=name, frame=Frame(640, 360)).levels["/Cube"] for name in ("Near", "Far"))
        self.assertGreater(near, far + 3)
        finer = prepare(scene, pixels, camera="Near", frame=Frame(1280, 720)).levels["/Cube"]
        self.assertEqual(finer, near + 1)
        self.assertEqual(len(prepare(scene, with_values(Recipe(), {"surfaces.subdivide": 0.0})).arrays.corners), 12)

    def test_front_and_schemes(self):
        recipe = with_values(Recipe(), {"surfaces.subdivide": 0.5, "surfaces.subdivide_unit": "m"})
        for orientation, sign in (("rightHanded", 1.0), ("leftHanded", -1.0)):
            mesh = prepare(self.scene(orientation=orientation), recipe).scene.meshes[0]
            facets = np.cross(mesh.vertices[:, 1] - mesh.vertices[:, 0], mesh.vertices[:, 2] - mesh.vertices[:, 0])
            self.assertTrue((sign * np.einsum("ni,ni->n", facets, mesh.vertices.mean(axis=1)) > 0.0).all())
            self.assertTrue((np.einsum("ni,nki->nk", facets, mesh.normals) > 0.0).all())
        for scheme in ("none", "bilinear", "loop"):  # a cube has no triangles
            self.assertIsNone(self.scene(scheme).meshes[0].cage)
        creased = self.scene(more=" int[] creaseIndices = [4, 5, 7, 6, 4]\n int[] creaseLengths = [5]\n float[] creaseSharpnesses = [10]\n")
        self.assertEqual(
            (creased.meshes[0].cage.edges.tolist(), creased.meshes[0].cage.sharpness.tolist()), ([[4, 5], [5, 7], [7, 6], [6, 4]], [10] * 4)
        )
        top = prepare(creased, recipe).scene.meshes[0].vertices[..., 2].max()
        self.assertAlmostEqual(float(top), 1.0, delta=1e-6)
        broken = self.scene(more=" int[] creaseIndices = [4, 99]\n int[] creaseLengths = [7]\n float[] creaseSharpnesses = [10]\n")
        self.assertEqual(len(broken.meshes[0].cage.edges), 0)

    def test_without_a_boundary_rule_the_faces_there_are_left_out(self):
        sides = ", ".join(str(k) for face in SQUARES[:5] for k in face)  # a box without a side
        scene = self.scene(more=' uniform token interpolateBoundary = "none"\n')
        self.assertFalse(scene.meshes[0].cage.hole.any())
        text = (self.folder / "cube.usda").read_text().replace("[4, 4, 4, 4, 4, 4]", "[4, 4, 4, 4, 4]")
        corners = ", ".join(str(k) for face in SQUARES for k in face)
        (self.folder / "open.usda").write_text(text.replace(corners, sides))
        self.assertEqual(read_scene(self.folder / "open.usda").meshes[0].cage.hole.tolist(), [True] * 4 + [False])

    def test_changed_meshes_have_no_cage_and_scaled_ones_do(self):
        scene = self.scene()
        recipe = with_values(Recipe(), {"surfaces.subdivide": 0.5, "surfaces.subdivide_unit": "m"})
        thick = with_edits(Edits(), {"object./Cube.thickness": 0.1})
        self.assertEqual(prepare(scene, recipe, thick).levels, {})
        larger = apply_edits(scene, with_edits(Edits(), {"scene.whole.scale": 2.0}))
        self.assertEqual(levels_of(larger, larger.camera("Near"), 64, 0.5, False, 4), {"/Cube": 3})
        self.assertAlmostEqual(
            float(subdivided(larger.meshes[0], 2).vertices.max()), 2.0 * float(subdivided(scene.meshes[0], 2).vertices.max()), places=5
        )
        painted = replace(scene.meshes[0], surfaces=np.repeat(np.arange(6, dtype=np.uint32), 2))
        self.assertEqual(np.bincount(subdivided(painted, 2).surfaces).tolist(), [32] * 6)

    def test_old_recipes_leave_cages_as_they_are(self):
        old = '{"version": 2, "surfaces": {"stand_ins": "none"}}'
        self.assertEqual(from_json(old).surfaces.subdivide, 0.0)
        self.assertGreater(Recipe().surfaces.subdivide, 0.0)


if __name__ == "__main__":
    unittest.main()
