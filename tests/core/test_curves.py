"""Curves of USD as tubes and ribbons: against closed forms, and the bases evaluated by another method."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from pxr import Gf, Usd, UsdGeom
from scipy.interpolate import BSpline, CubicHermiteSpline

from sivrel.core.formats.faces import is_closed
from sivrel.core.formats.scenes import read_scene
from sivrel.core.formats.usd_curves import segments_of
from sivrel.core.scene.placed_mesh import PlacedMesh
from sivrel.core.scene.topology import volume


class Curves(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "curves.usda"

    def read(
        self, points, counts, widths=(0.2,), interpolation="constant", kind="cubic", basis="bezier", wrap="nonperiodic", normals=None, move=None
    ):
        stage = Usd.Stage.CreateNew(str(self.path))
        UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
        UsdGeom.SetStageMetersPerUnit(stage, 1.0)
        curves = UsdGeom.BasisCurves.Define(stage, "/Rope")
        curves.CreatePointsAttr([Gf.Vec3f(*map(float, p)) for p in points])
        curves.CreateCurveVertexCountsAttr(counts)
        curves.CreateTypeAttr(kind)
        curves.CreateBasisAttr(basis)
        curves.CreateWrapAttr(wrap)
        if widths is not None:
            curves.CreateWidthsAttr(list(widths))
            curves.SetWidthsInterpolation(interpolation)
        if normals is not None:
            curves.CreateNormalsAttr([Gf.Vec3f(*n) for n in normals])
            curves.SetNormalsInterpolation("vertex")
        if move is not None:
            curves.AddTransformOp().Set(Gf.Matrix4d(*np.asarray(move, float).T.reshape(-1).tolist()))
        stage.GetRootLayer().Save()
        return read_scene(self.path).meshes[0]

    @staticmethod
    def middles(mesh, around: int) -> np.ndarray:
        """Centres of the rings of a tube of so many sides, from its walls."""
        walls = mesh.vertices.reshape(-1, 2 * around, 3, 3)
        return walls[:, ::2, 0].mean(axis=1)

    def test_a_straight_tube_has_the_volume_and_the_area_of_a_prism(self) -> None:
        mesh = self.read([(0, 0, 0), (0, 3, 0)], [2], kind="linear")
        self.assertTrue(is_closed(mesh.vertices))
        polygon = 0.5 * 8 * 0.1**2 * np.sin(2.0 * np.pi / 8)
        self.assertAlmostEqual(volume(mesh.vertices.astype(float)), 3.0 * polygon, places=6)
        v = mesh.vertices.astype(float)
        area = 0.5 * np.linalg.norm(np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1).sum()
        self.assertAlmostEqual(area, 3.0 * 8 * 0.2 * np.sin(np.pi / 8) + 2.0 * polygon, places=5)

    def test_a_mirrored_and_stretched_tube_faces_outwards(self) -> None:
        for sign in (1.0, -1.0):
            mesh = self.read([(0, 0, 0), (0, 3, 0), (1, 5, 0)], [3], kind="linear", move=np.diag([sign * 2.0, 1.0, 1.0, 1.0]))
            self.assertGreater(volume(mesh.vertices.astype(float)), 0.1)
            v = mesh.vertices.astype(float)
            facets = np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])
            self.assertGreater(np.einsum("nc,nkc->nk", facets, mesh.normals).min(), 0.0)

    def test_bases_follow_the_same_curves_as_another_method(self) -> None:
        points = np.random.default_rng(3).normal(size=(7, 3)) * 3.0
        t = np.linspace(0.0, 4.0, 4 * 8 + 1)
        spline = BSpline(np.arange(-3.0, 8.0), points, 3)(np.clip(t, 0.0, 4.0 - 1e-12))
        tangents = (points[2:] - points[:-2]) / 2.0
        rom = CubicHermiteSpline(np.arange(5.0), points[1:-1], tangents)(t)
        s = np.linspace(0.0, 1.0, 9)[:, None]
        one, two = points[:4], points[3:]
        bezier = np.concatenate([
            (1 - s) ** 3 * p[0] + 3 * s * (1 - s) ** 2 * p[1] + 3 * s**2 * (1 - s) * p[2] + s**3 * p[3] for p in (one, two)
        ])  # fmt: skip
        for basis, expected in (("bspline", spline), ("catmullRom", rom), ("bezier", np.delete(bezier, 8, axis=0))):
            mesh = self.read(points, [7], basis=basis, widths=[0.01])
            rings = (len(mesh.vertices) - 2 * 6) // 16
            found = mesh.vertices[: rings * 16].reshape(rings, 16, 3, 3)[:, ::2, 0].mean(axis=1)
            np.testing.assert_allclose(found, expected[:-1], atol=2e-5, err_msg=basis)

    def test_pinned_curves_end_at_their_first_and_last_point(self) -> None:
        points = np.random.default_rng(4).normal(size=(5, 3)) * 3.0
        for basis in ("bspline", "catmullRom"):
            mesh = self.read(points, [5], basis=basis, wrap="pinned", widths=[0.01])
            ends = mesh.vertices[-12:].reshape(2, 6, 3, 3)
            np.testing.assert_allclose([end.mean(axis=(0, 1)) for end in ends], points[[0, -1]], atol=0.02)

    def test_a_closed_curve_is_a_ring_without_a_seam(self) -> None:
        angle = 2.0 * np.pi * np.arange(12) / 12
        circle = np.stack([np.cos(angle), 0.3 * np.sin(3.0 * angle), np.sin(angle)], axis=1) * 2.0
        mesh = self.read(circle, [12], basis="catmullRom", wrap="periodic")
        self.assertTrue(is_closed(mesh.vertices))
        v = mesh.vertices.astype(float)
        thinnest = np.linalg.norm(np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1)
        self.assertGreater(thinnest.min(), 0.2 * np.median(thinnest))

    def test_widths_by_vertex_by_curve_and_by_segment_end(self) -> None:
        points = [(0, y, 0) for y in range(4)] + [(5, y, 0) for y in range(4)]
        for widths, interpolation, at_ends in (
            ((0.2, 0.4), "uniform", ((0.2, 0.2), (0.4, 0.4))),
            ((0.1, 0.1, 0.1, 0.4, 0.2, 0.2, 0.2, 0.2), "vertex", ((0.1, 0.4), (0.2, 0.2))),
            ((0.1, 0.4, 0.2, 0.2), "varying", ((0.1, 0.4), (0.2, 0.2))),
        ):
            mesh = self.read(points, [4, 4], widths=widths, interpolation=interpolation)
            flat = mesh.vertices.reshape(-1, 3)
            for x, (first, last) in zip((0.0, 5.0), at_ends, strict=True):
                own = flat[np.abs(flat[:, 0] - x) < 1.0]
                for y, width in ((0.0, first), (3.0, last)):
                    ring = own[np.abs(own[:, 1] - y) < 1e-4]
                    self.assertAlmostEqual(float(np.hypot(ring[:, 0] - x, ring[:, 2]).max()), width / 2.0, places=5)

    def test_normals_make_ribbons_that_face_them(self) -> None:
        mesh = self.read([(0, 0, 0), (0, 1, 0), (0, 2, 0)], [3], kind="linear", normals=[(0, 0, 1)] * 3)
        v = mesh.vertices.astype(float)
        facets = np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])
        self.assertEqual(len(v), 4)
        self.assertAlmostEqual(0.5 * float(np.linalg.norm(facets, axis=1).sum()), 2.0 * 0.2, places=6)
        self.assertTrue((facets[:, 2] > 0.0).all())

    def test_counts_of_segments(self) -> None:
        counts = np.array([1, 2, 3, 4, 6, 7])
        self.assertEqual(segments_of(counts, False, "bezier", "nonperiodic").tolist(), [0, 1, 2, 3, 5, 6])
        self.assertEqual(segments_of(counts, True, "bezier", "nonperiodic").tolist(), [0, 0, 0, 1, 0, 2])
        self.assertEqual(segments_of(counts, True, "bezier", "periodic").tolist(), [0, 0, 1, 0, 2, 0])
        self.assertEqual(segments_of(counts, True, "bspline", "pinned").tolist(), [0, 1, 2, 3, 5, 6])

    def test_broken_curves_are_left_out_with_a_note(self) -> None:
        stage = Usd.Stage.CreateNew(str(self.path))
        ground = UsdGeom.Mesh.Define(stage, "/Ground")
        ground.CreatePointsAttr([(0, 0, 0), (1, 0, 0), (0, 0, -1)])
        ground.CreateFaceVertexCountsAttr([3])
        ground.CreateFaceVertexIndicesAttr([0, 1, 2])
        rope = UsdGeom.BasisCurves.Define(stage, "/Rope")
        rope.CreatePointsAttr([(0, 0, 0), (1, 0, 0)])
        rope.CreateCurveVertexCountsAttr([5])
        stage.GetRootLayer().Save()
        scene = read_scene(self.path)
        self.assertEqual([m.name for m in scene.meshes], ["/Ground"])
        self.assertIn("/Rope has curve counts that do not add up", " ".join(scene.notes))

    def test_instanced_curves_are_shared(self) -> None:
        stage = Usd.Stage.CreateNew(str(self.path))
        tuft = UsdGeom.BasisCurves.Define(stage, "/Grass/Kinds/Tuft")
        tuft.CreatePointsAttr([(0, 0, 0), (0, 1, 0), (0.1, 2, 0), (0.3, 3, 0)])
        tuft.CreateCurveVertexCountsAttr([4])
        placer = UsdGeom.PointInstancer.Define(stage, "/Grass")
        placer.CreatePrototypesRel().SetTargets(["/Grass/Kinds/Tuft"])
        placer.CreateProtoIndicesAttr([0, 0, 0])
        placer.CreatePositionsAttr([(0, 0, 0), (1, 0, 0), (2, 0, 0)])
        stage.GetRootLayer().Save()
        meshes = read_scene(self.path).meshes
        self.assertEqual([type(m) for m in meshes], [PlacedMesh] * 3)
        self.assertIs(meshes[0].shape, meshes[2].shape)


if __name__ == "__main__":
    unittest.main()
