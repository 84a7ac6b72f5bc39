"""Displacement of subdivided surfaces, against closed forms."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade

from sivrel.core.formats.faces import is_closed
from sivrel.core.formats.scenes import read_scene
from sivrel.core.scene.displace import looked_up
from sivrel.core.scene.finer import levels_of, subdivided, with_subdivided
from sivrel.core.scene.model import Texture, TextureUse
from sivrel.core.scene.placed_mesh import PlacedMesh
from sivrel.core.scene.texels import texels_of
from sivrel.core.scene.topology import volume

CUBE = [0, 1, 3, 2, 4, 6, 7, 5, 0, 4, 5, 1, 2, 3, 7, 6, 0, 2, 6, 4, 1, 5, 7, 3]


class Displacement(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "s.usda"
        self.stage = Usd.Stage.CreateNew(str(self.path))
        UsdGeom.SetStageUpAxis(self.stage, UsdGeom.Tokens.y)
        UsdGeom.SetStageMetersPerUnit(self.stage, 0.01)
        material, shader = UsdShade.Material.Define(self.stage, "/Looks/Hide"), UsdShade.Shader.Define(self.stage, "/Looks/Hide/Shader")
        shader.CreateIdAttr("UsdPreviewSurface")
        self.amount = shader.CreateInput("displacement", Sdf.ValueTypeNames.Float)
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        self.material = material

    def mesh(self, at: str, points, counts, indices, uvs=None) -> UsdGeom.Mesh:
        made = UsdGeom.Mesh.Define(self.stage, at)
        made.CreatePointsAttr([Gf.Vec3f(*map(float, p)) for p in points])
        made.CreateFaceVertexCountsAttr(counts)
        made.CreateFaceVertexIndicesAttr(indices)
        made.CreateSubdivisionSchemeAttr("catmullClark")
        if uvs is not None:
            UsdGeom.PrimvarsAPI(made).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, "faceVarying").Set(
                [Gf.Vec2f(*map(float, p)) for p in uvs]
            )
        UsdShade.MaterialBindingAPI.Apply(made.GetPrim()).Bind(self.material)
        return made

    def read(self):
        self.stage.GetRootLayer().Save()
        return read_scene(self.path)

    def cube(self, at: str = "/Cube") -> UsdGeom.Mesh:
        corners = [(x, y, z) for x in (-50, 50) for y in (-50, 50) for z in (-50, 50)]
        return self.mesh(at, corners, [4] * 6, CUBE, [(0, 0), (1, 0), (1, 1), (0, 1)] * 6)

    def test_a_constant_moves_every_point_along_its_normal_by_so_much(self) -> None:
        self.cube().AddScaleOp().Set((2.0, 2.0, 2.0))
        plain = subdivided(self.read().meshes[0], 3)
        self.amount.Set(5.0)
        scene = self.read()
        moved = subdivided(scene.meshes[0], 3, scene.surfaces)
        shift = moved.vertices.astype(float) - plain.vertices
        np.testing.assert_allclose(np.linalg.norm(shift, axis=2), 5.0 * 2.0 * 0.01, rtol=1e-4)  # units of the mesh, which is scaled
        np.testing.assert_allclose(np.einsum("nkc,nkc->nk", shift, plain.normals), 0.1, rtol=1e-3)
        self.assertTrue(is_closed(moved.vertices))
        # Volume of a body whose surface moves outwards: area and half the mean curvature follow (Steiner), here within their bounds.
        grown = volume(moved.vertices.astype(float)) - volume(plain.vertices.astype(float))
        v = plain.vertices.astype(float)
        area = 0.5 * np.linalg.norm(np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1).sum()
        self.assertGreater(grown, 0.1 * area)
        self.assertLess(grown, 0.1 * area * 1.4)

    def test_a_ramp_tilts_a_plane(self) -> None:
        n = 4
        points = [(100.0 * i, 0.0, -100.0 * j) for j in range(n + 1) for i in range(n + 1)]
        faces = [[j * (n + 1) + i, j * (n + 1) + i + 1, (j + 1) * (n + 1) + i + 1, (j + 1) * (n + 1) + i] for j in range(n) for i in range(n)]
        uvs = [(points[k][0] / 400.0, -points[k][2] / 400.0) for face in faces for k in face]
        self.mesh("/Plane", points, [4] * n * n, [k for face in faces for k in face], uvs)
        scene = self.read()
        texels = np.zeros((1, 64, 4), np.float32)
        texels[0, :, 0] = (np.arange(64) + 0.5) / 64.0
        scene.surfaces[int(scene.meshes[0].surfaces[0])].displacement_map = TextureUse(
            Texture(texels_of(texels), ("clamp", "clamp"), scale=(200.0, 1, 1, 1))
        )
        mesh = subdivided(scene.meshes[0], 2, scene.surfaces)
        inner = (mesh.vertices[..., 0] > 0.2) & (mesh.vertices[..., 0] < 3.8)
        np.testing.assert_allclose(mesh.vertices[..., 1][inner], mesh.vertices[..., 0][inner] * 0.5, atol=2e-3)
        flat = ((mesh.vertices[..., 0] > 0.5) & (mesh.vertices[..., 0] < 3.5)).all(axis=1)  # away from the clamped ends
        np.testing.assert_allclose(mesh.normals[flat].reshape(-1, 3), np.tile(np.array([-0.5, 1.0, 0.0]) / 1.25**0.5, (3 * flat.sum(), 1)), atol=0.02)

    def test_seams_of_coordinates_stay_closed(self) -> None:
        self.cube()
        scene = self.read()
        texels = np.random.default_rng(2).uniform(0.0, 1.0, (32, 32, 4)).astype(np.float32)
        scene.surfaces[int(scene.meshes[0].surfaces[0])].displacement_map = TextureUse(Texture(texels_of(texels), scale=(8.0, 1, 1, 1)))
        self.assertTrue(is_closed(subdivided(scene.meshes[0], 4, scene.surfaces).vertices))

    def test_placements_share_the_displaced_shape(self) -> None:
        self.cube("/Stones/Kinds/Stone")
        placer = UsdGeom.PointInstancer.Define(self.stage, "/Stones")
        placer.CreatePrototypesRel().SetTargets(["/Stones/Kinds/Stone"])
        placer.CreateProtoIndicesAttr([0, 0, 0])
        placer.CreatePositionsAttr([(0, 0, 0), (300, 0, 0), (600, 0, 0)])
        self.amount.Set(10.0)
        scene = self.read()
        levels = levels_of(scene, scene.cameras[0], 64, 1e3, False, 3)  # edges need no step, the displacement needs one
        self.assertEqual(set(levels.values()), {1})
        meshes = with_subdivided(scene, dict.fromkeys(levels, 3)).meshes
        self.assertEqual(len({id(m.shape) for m in meshes if isinstance(m, PlacedMesh)}), 1)
        plain = subdivided(scene.meshes[0].shape, 3).vertices
        self.assertAlmostEqual(float(np.linalg.norm(meshes[0].shape.vertices - plain, axis=2).mean()), 10.0, places=3)

    def test_textures_are_looked_up_as_for_hits(self) -> None:
        texels = np.arange(8, dtype=np.float32).reshape(2, 4, 1).repeat(4, axis=2)
        at = np.array([(0.125, 0.75), (0.375, 0.25), (0.25, 0.75), (1.125, 0.75), (-0.125, 0.75)])
        for wrap, expected in (
            ("repeat", (0, 5, 0.5, 0, 3)),
            ("clamp", (0, 5, 0.5, 3, 0)),
            ("mirror", (0, 5, 0.5, 3, 0)),
            ("black", (0, 5, 0.5, 0, 0)),
        ):
            np.testing.assert_allclose(looked_up(Texture(texels_of(texels), (wrap, "clamp")), 0, at), expected, atol=1e-6, err_msg=wrap)


if __name__ == "__main__":
    unittest.main()
