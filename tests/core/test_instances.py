"""Scenes whose shapes are stored once look like the same scenes in which every placement has triangles of its own."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade

from sivrel.core.edits.apply_edits import apply_edits
from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.errors import InputError
from sivrel.core.formats.gltf_out import write_gltf
from sivrel.core.formats.scenes import read_scene
from sivrel.core.formats.usd_edits import write_layer
from sivrel.core.pack.objects import packed_meshes
from sivrel.core.pack.stored import stored_meshes
from sivrel.core.render import film as columns
from sivrel.core.render.frame import Frame
from sivrel.core.render.passes import motion_pass
from sivrel.core.render.prepare import placed_at, prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.scene.model import Mesh, Scene
from sivrel.core.scene.placed_mesh import PlacedMesh, moves
from sivrel.core.survey.largest import with_largest
from sivrel.core.survey.plan import plan_and_elevation
from sivrel.core.survey.survey import survey
from sivrel.core.trace.placements import MOST_NUMBERED
from tests.scenes import film_of, floor, lambert, looking_down, mesh, sky

SHARED, COPIED = {"surfaces.copied": 0}, {"surfaces.copied": 20_000_000}


def sphere(steps: int, radius: float) -> list[list[tuple[float, float, float]]]:
    """Faces of a closed sphere about the origin."""

    def at(i: int, j: int) -> tuple[float, float, float]:
        a, b = np.pi * i / steps, 2.0 * np.pi * (j % (2 * steps)) / (2 * steps)
        return float(radius * np.sin(a) * np.cos(b)), float(radius * np.cos(a)), float(radius * np.sin(a) * np.sin(b))

    faces = [[at(i, j), at(i, j + 1), at(i + 1, j + 1), at(i + 1, j)] for i in range(steps) for j in range(2 * steps)]
    poles = 2 * steps
    return [f[1:] for f in faces[:poles]] + faces[poles:-poles] + [f[:3] for f in faces[-poles:]]


def define(stage: Usd.Stage, path: str, faces: list, material: str = "") -> UsdGeom.Mesh:
    made = UsdGeom.Mesh.Define(stage, path)
    made.CreatePointsAttr([Gf.Vec3f(*p) for face in faces for p in face])
    made.CreateFaceVertexCountsAttr([len(face) for face in faces])
    made.CreateFaceVertexIndicesAttr(list(range(sum(len(face) for face in faces))))
    made.CreateSubdivisionSchemeAttr("none")
    if material:
        UsdShade.MaterialBindingAPI.Apply(made.GetPrim()).Bind(UsdShade.Material.Get(stage, material))
    return made


def preview_surface(stage: Usd.Stage, path: str, colour: tuple, **values: float) -> None:
    material, shader = UsdShade.Material.Define(stage, path), UsdShade.Shader.Define(stage, f"{path}/Shader")
    shader.CreateIdAttr("UsdPreviewSurface")
    shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(*colour))
    for name, value in values.items():
        shader.CreateInput(name, Sdf.ValueTypeNames.Float).Set(value)
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")


def yard(path: Path) -> None:
    """A yard with bollards by a point instancer, some mirrored, and stools by native instances, one inside another's prototype; a glass float
    among them; lit by a lamp that lights all stools but one, and by the sky."""
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    preview_surface(stage, "/Looks/Paint", (0.7, 0.2, 0.1), roughness=0.3)
    preview_surface(stage, "/Looks/Wood", (0.4, 0.3, 0.2), roughness=0.9)
    preview_surface(stage, "/Looks/Glass", (0.0, 0.0, 0.0), opacity=0.0, roughness=0.0, ior=1.5)
    define(stage, "/Yard/Ground", [[(-300, 0, 300), (300, 0, 300), (300, 0, -300), (-300, 0, -300)]], "/Looks/Wood")
    # A lopsided pyramid, so that mirroring shows.
    a, b, c, d, top = (-20, 0, 20), (20, 0, 20), (20, 0, -20), (-20, 0, -20), (15, 60, 5)
    instancer = UsdGeom.PointInstancer.Define(stage, "/Yard/Bollards")
    define(stage, "/Yard/Bollards/Kinds/Bollard", [[a, b, top], [b, c, top], [c, d, top], [d, a, top], [d, c, b, a]], "/Looks/Paint")
    define(stage, "/Yard/Bollards/Kinds/Float", sphere(6, 18.0), "/Looks/Glass")
    instancer.CreatePrototypesRel().SetTargets(["/Yard/Bollards/Kinds/Bollard", "/Yard/Bollards/Kinds/Float"])
    instancer.CreateProtoIndicesAttr([0, 0, 0, 1, 1])
    instancer.CreatePositionsAttr([(-100, 0, 0), (0, 0, -60), (110, 0, 20), (-40, 18, 60), (50, 30, 60)])
    instancer.CreateScalesAttr([(1, 1, 1), (-1, 1.5, 1), (1, 0.7, -1.2), (1, 1, 1), (1.2, 1.4, 1.2)])
    still = Gf.Quath(1, 0, 0, 0)
    instancer.CreateOrientationsAttr([still, Gf.Quath(0.92, 0, 0.38, 0), Gf.Quath(0.7, 0, -0.7, 0), still, still])
    UsdGeom.Xform.Define(stage, "/Stool")
    define(stage, "/Stool/Seat", [[(-15, 30, 15), (15, 30, 15), (15, 30, -15), (-15, 30, -15)]], "/Looks/Wood").CreateDoubleSidedAttr(True)
    define(stage, "/Stool/Ball", sphere(4, 8.0), "/Looks/Paint").AddTranslateOp().Set((0, 38, 0))
    UsdGeom.Imageable(stage.GetPrimAtPath("/Stool")).MakeInvisible()
    for k, x in enumerate((-60, 40, 90)):
        stool = UsdGeom.Xform.Define(stage, f"/Yard/Stool{k}")
        stool.GetPrim().GetReferences().AddInternalReference("/Stool")
        stool.GetPrim().SetInstanceable(True)
        UsdGeom.Imageable(stool).MakeVisible()
        stool.GetVisibilityAttr().Set(UsdGeom.Tokens.inherited)
        stool.AddTranslateOp().Set((x, 0, 110))
        stool.AddRotateYOp().Set(30.0 * k)
    lamp = UsdLux.SphereLight.Define(stage, "/Yard/Lamp")
    lamp.CreateRadiusAttr(10.0)
    lamp.CreateIntensityAttr(60.0)
    lamp.AddTranslateOp().Set((30, 160, 90))
    linked = UsdLux.LightAPI(lamp).GetLightLinkCollectionAPI()
    linked.CreateIncludeRootAttr(True)
    linked.CreateExcludesRel().SetTargets(["/Yard/Stool1"])
    UsdLux.DomeLight.Define(stage, "/Yard/Sky").CreateIntensityAttr(0.3)
    eye = UsdGeom.Camera.Define(stage, "/Yard/Eye")
    eye.AddTransformOp().Set(Gf.Matrix4d().SetLookAt(Gf.Vec3d(40, 180, 330), Gf.Vec3d(0, 20, 0), Gf.Vec3d(0, 1, 0)).GetInverse())
    stage.GetRootLayer().Save()


class Yard(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        yard(cls.folder / "yard.usda")
        cls.scene = read_scene(cls.folder / "yard.usda")

    def ready(self, values: dict, edits: dict | None = None, scene: Scene | None = None):
        recipe = with_values(Recipe(), {"sampling.min": 16, "sampling.max": 16, **values})
        return recipe, prepare(scene or self.scene, recipe, edits=with_edits(Edits(), edits or {}), frame=Frame(64, 48))

    def film(self, values: dict, edits: dict | None = None):
        recipe, ready = self.ready(values, edits)
        return film_of(ready, recipe, Frame(64, 48)), ready

    def test_shapes_are_read_once(self) -> None:
        placed = [m for m in self.scene.meshes if isinstance(m, PlacedMesh)]
        self.assertEqual(len(placed), 10)
        # Bollards from two sides (two are mirrored), the float, seat and ball of the stools: one bollard stands alone.
        self.assertEqual(len({id(m.shape) for m in placed}), 4)
        self.assertEqual(self.scene.triangle_count(), 2 + 3 * 6 + 2 * 120 + 3 * (2 + 48))

    def test_placements_are_where_the_file_puts_them(self) -> None:
        seats = [m for m in self.scene.meshes if m.name.endswith("/Seat")]
        for k, (seat, x) in enumerate(zip(seats, (-0.6, 0.4, 0.9), strict=True)):
            np.testing.assert_allclose(seat.vertices.mean(axis=(0, 1)) * (1, 0, 1), (x, 0, 1.1), atol=0.06)
            self.assertAlmostEqual(float(seat.vertices[..., 1].mean()), 0.3, places=6)
            angle = np.radians(30.0 * k)
            corner = np.array([-0.15 * np.cos(angle) + 0.15 * np.sin(angle) + x, 0.3, 0.15 * np.sin(angle) + 0.15 * np.cos(angle) + 1.1])
            self.assertLess(np.linalg.norm(seat.vertices.reshape(-1, 3) - corner, axis=1).min(), 1e-6)
        for each in self.scene.meshes:
            v = each.vertices.astype(float)
            facets = np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])
            self.assertGreater(np.einsum("nc,nkc->nk", facets, each.normals).min(), -1e-9, each.name)
            if each.count > 6:  # round ones face outwards
                self.assertGreater(np.einsum("nc,nc->n", facets, v.mean(axis=1) - v.mean(axis=(0, 1))).min(), -1e-9)

    def compare(self, values: dict, edits: dict | None = None, within: float = 0.01) -> None:
        """Renders with shared and with copied shapes: the same, but for paths that a rounding sends elsewhere."""
        (a, shared), (b, copied) = (self.film({**values, **how}, edits) for how in (SHARED, COPIED))
        self.assertEqual(len(shared.arrays.bvh.placements.first), 10)
        self.assertEqual(len(copied.arrays.bvh.placements.first), 0)
        one, other = columns.film_beauty(a), columns.film_beauty(b)
        self.assertAlmostEqual(float(one.mean() / other.mean()), 1.0, delta=within)
        self.assertGreater(float((np.abs(one - other) <= 2e-3 * other.mean()).mean()), 0.8)

    def test_brute_force_finds_the_same_light(self) -> None:
        self.compare({"gi.seen": "brute_force"}, within=0.005)

    def test_caches_find_the_same_light(self) -> None:
        for way in ("photon_map", "irradiance_cache", "radiance_cache"):
            with self.subTest(way=way):
                # Where one path differs, a photon lands elsewhere, and the caches differ by chance.
                (a, _), (b, _) = (self.film({"gi.seen": way, "photon_map.count": 20_000, **how}) for how in (SHARED, COPIED))
                self.assertAlmostEqual(float(columns.film_beauty(a).mean() / columns.film_beauty(b).mean()), 1.0, delta=0.02)

    def test_guided_and_bidirectional_paths_find_the_same_light(self) -> None:
        for extra in ({"guiding.on": "yes", "guiding.rays": 20_000}, {"bidirectional.on": "yes"}):
            with self.subTest(extra=extra):
                (a, _), (b, _) = (self.film({**extra, **how}) for how in (SHARED, COPIED))
                self.assertAlmostEqual(float(columns.film_beauty(a).mean() / columns.film_beauty(b).mean()), 1.0, delta=0.02)

    def test_caustics_are_found_behind_placed_glass(self) -> None:
        (a, _), (b, _) = (self.film({"gi.seen": "off", "caustics.on": "yes", **how}) for how in (SHARED, COPIED))
        self.assertAlmostEqual(float(columns.film_beauty(a).mean() / columns.film_beauty(b).mean()), 1.0, delta=0.02)

    def test_links_and_visibility_belong_to_a_placement(self) -> None:
        self.compare({"gi.seen": "off"}, {"object./Yard/Stool2.camera": "no", "object./Yard/Bollards.shadows": "no"}, within=0.005)
        _, ready = self.ready(SHARED)
        lamp = next(light for light in ready.scene.lights if "Lamp" in light.name)
        self.assertEqual({m.name for m in ready.scene.meshes} - lamp.lit, {"/Yard/Stool1/Seat", "/Yard/Stool1/Ball"})

    def test_depth_maps_hold_placements(self) -> None:
        self.compare({"gi.seen": "off", "shadows.way": "depth_map"}, within=0.005)

    def test_a_bake_is_refused_in_a_sentence_that_helps(self) -> None:
        with self.assertRaisesRegex(InputError, "surfaces.copied to 410"):
            self.ready({"gi.seen": "baked", **SHARED})
        self.ready({"gi.seen": "baked", "baked.shots": 1000, "baked.refine": 0, "surfaces.copied": 410})

    def test_what_emits_light_is_not_shared(self) -> None:
        number = next(m for m in self.scene.meshes if m.name.endswith("Seat")).surfaces[0]
        surfaces = list(self.scene.surfaces)
        surfaces[number] = replace(surfaces[number], emission=(1.0, 1.0, 1.0))
        scene = replace(self.scene, surfaces=surfaces)
        stored = stored_meshes(scene, packed_meshes(scene), 0)
        self.assertEqual(len(stored.placements.first), 10 - 3)
        self.assertEqual({scene.meshes[k].name for k in stored.standing} & {"/Yard/Stool0/Seat"}, {"/Yard/Stool0/Seat"})

    def test_the_smallest_are_copied_first(self) -> None:
        stored = stored_meshes(self.scene, packed_meshes(self.scene), 20)
        left = {self.scene.meshes[int(k)].count for k in stored.placements.objects}
        self.assertEqual(left, {48, 120})

    def test_edits_keep_shapes_shared(self) -> None:
        for edits in ({"object./Yard/Bollards.triangles": 0.5}, {"object./Yard.brightest": 0.2}, {"scene.whole.scale": 2.0}):
            with self.subTest(edits=edits):
                edited = apply_edits(self.scene, with_edits(Edits(), edits))
                self.assertEqual(len({id(m.shape) for m in edited.meshes if isinstance(m, PlacedMesh)}), 4)
                self.assertEqual(sum(isinstance(m, PlacedMesh) for m in edited.meshes), 10)
        thick = apply_edits(self.scene, with_edits(Edits(), {"object./Yard/Stool0/Seat.thickness": 0.02}))
        seat = next(m for m in thick.meshes if m.name == "/Yard/Stool0/Seat")
        self.assertNotIsInstance(seat, PlacedMesh)
        self.assertAlmostEqual(float(np.ptp(seat.vertices[..., 1])), 0.02, places=5)

    def test_gltf_keeps_placements(self) -> None:
        write_gltf(self.scene, self.folder / "yard.glb")
        again = read_scene(self.folder / "yard.glb")
        self.assertEqual(len({id(m.shape) for m in again.meshes if isinstance(m, PlacedMesh)}), 4)
        for a, b in zip(self.scene.meshes, again.meshes, strict=True):
            key = np.lexsort(np.round(a.vertices.mean(axis=1), 4).T), np.lexsort(np.round(b.vertices.mean(axis=1), 4).T)
            np.testing.assert_allclose(a.vertices.mean(axis=1)[key[0]], b.vertices.mean(axis=1)[key[1]], atol=1e-5)
            np.testing.assert_allclose(a.normals.mean(axis=1)[key[0]], b.normals.mean(axis=1)[key[1]], atol=1e-4)

    def test_a_layer_mends_instances(self) -> None:
        edits = with_edits(Edits(), {
            "object./Yard/Stool1/Seat.thickness": 0.02, "object./Yard/Bollards/Kinds/Float.triangles": 0.5, "object./Yard/Stool0/Ball.out": "yes",
            "object./Yard/Bollards/Kinds/Bollard.turned": "over",
        })  # fmt: skip
        self.assertEqual(write_layer(self.folder / "yard.usda", edits, self.folder / "mended.usda"), [])
        again, meant = read_scene(self.folder / "mended.usda"), apply_edits(self.scene, edits)
        self.assertEqual(sorted((m.name, m.count) for m in again.meshes), sorted((m.name, m.count) for m in meant.meshes))
        for name in ("/Yard/Stool1/Seat", "/Yard/Stool2/Seat", "/Yard/Bollards/Kinds/Float", "/Yard/Bollards/Kinds/Bollard"):
            for one, other in zip(*([m for m in scene.meshes if m.name == name] for scene in (meant, again)), strict=True):
                np.testing.assert_allclose(one.vertices.mean(axis=1), other.vertices.mean(axis=1), atol=1e-5)
                np.testing.assert_allclose(one.normals.mean(axis=1), other.normals.mean(axis=1), atol=1e-4)
        thick = with_edits(Edits(), {"object./Yard/Bollards/Kinds/Float.longest_edge": 0.02})
        self.assertIn("placed several times", write_layer(self.folder / "yard.usda", thick, self.folder / "thick.usda")[0])

    def test_a_survey_and_a_drawing_of_shared_shapes(self) -> None:
        recipe, shared = self.ready({"gi.seen": "off", **SHARED})
        _, copied = self.ready({"gi.seen": "off", **COPIED})
        whole, findings = with_largest(shared)
        self.assertEqual(findings, [])
        self.assertEqual(len(whole.arrays.corners), 410)
        self.assertEqual([f.kind for f in survey(shared, recipe).findings], [f.kind for f in survey(copied, recipe).findings])
        part, findings = with_largest(shared, 300)
        self.assertLessEqual(len(part.arrays.corners), 2 + 6 + 300)
        self.assertIn("of 10 objects that are placed several times were checked", findings[0].title)
        _, mixed = self.ready({"gi.seen": "off", "surfaces.copied": 20})  # some placements are copied already
        self.assertGreater(len(mixed.arrays.bvh.placements.first), 0)
        alone, _ = with_largest(mixed, 100)
        self.assertEqual(len(alone.arrays.bvh.placements.first), 0)
        self.assertEqual(len(alone.arrays.corners), alone.arrays.standing)
        drawings = [plan_and_elevation(ready.scene, ready.arrays, ready.camera) for ready in (shared, copied)]
        for one, other in zip(*drawings, strict=True):
            self.assertGreater(float((one.tones == other.tones).mean()), 0.995)
            self.assertEqual(len(one.lines), len(other.lines))


class Moving(unittest.TestCase):
    def pair(self, shift: float) -> Scene:
        shape = mesh([((-1, -1, 1), (1, -1, 1), (0, 1, 1)), ((1, -1, 1), (2, 1, 2), (0, 1, 1))])
        near, far = np.eye(4)[:3].copy(), np.eye(4)[:3].copy()
        near[0, 3], far[0, 3] = -2.0 + shift, 2.0
        return Scene("pair", [floor(), PlacedMesh("near", shape, near), PlacedMesh("far", shape, far)], [lambert(0.5)], [sky()])

    def test_motion_of_a_placement(self) -> None:
        before, after = self.pair(0.0), self.pair(0.25)
        camera = replace(looking_down(10.0, half_width=5.0), orthographic=True)
        for scene in (before, after):
            scene.cameras.append(camera)
        recipe = with_values(Recipe(), {"gi.seen": "off", "sampling.min": 2, "sampling.max": 2, **SHARED})
        ready = prepare(before, recipe, frame=Frame(32, 32))
        self.assertEqual(len(ready.arrays.bvh.placements.first), 2)
        film = film_of(ready, recipe, Frame(32, 32))
        motion = motion_pass(film, ready.placed, placed_at(after, Edits(), None, like=ready), (32, 32))
        self.assertIsNotNone(motion)
        numbers = columns.triangles_in(film)
        near = (numbers >= 2) & (numbers < 4)
        self.assertGreater(near.sum(), 10)
        np.testing.assert_allclose(motion[near], np.tile((0.25 * 32 / 10.0, 0.0), (near.sum(), 1)), atol=1e-4)
        np.testing.assert_allclose(motion[~near], 0.0, atol=1e-5)

    def test_whether_a_placement_moves(self) -> None:
        a, b = self.pair(0.0), self.pair(0.25)
        self.assertEqual([moves(x, y) for x, y in zip(a.meshes, b.meshes, strict=True)], [False, True, False])
        self.assertFalse(moves(a.meshes[1], b.meshes[1], within=0.3))


class Numbers(unittest.TestCase):
    def test_the_film_keeps_every_triangle_number(self) -> None:
        numbers = np.array([0, 5, (1 << 24) - 1, 1 << 24, (1 << 24) + 1, 100_050_001, MOST_NUMBERED - 1])
        film = np.zeros((1, len(numbers), columns.FILM_COLUMNS), np.float32)
        film[0, :, columns.TRIANGLE] = [columns.film_number(int(number)) for number in numbers]
        np.testing.assert_array_equal(columns.triangles_in(film)[0], numbers)
        film[0, 0, columns.TRIANGLE] = -1.0
        self.assertEqual(int(columns.triangles_in(film)[0, 0]), -1)

    def test_too_many_triangles_are_refused(self) -> None:
        shape = Mesh.of("s", *(np.zeros((20_000_000, 3, w), np.float32)[:0] for w in (3, 3, 2)), np.broadcast_to(np.uint32(0), (20_000_000,)))
        scene = Scene("vast", [PlacedMesh(f"p{k}", shape, np.eye(4)[:3]) for k in range(50)], [lambert(0.5)])
        with self.assertRaisesRegex(InputError, "1,000,000,000 triangles with all its placements"):
            stored_meshes(scene, scene.meshes)


if __name__ == "__main__":
    unittest.main()
