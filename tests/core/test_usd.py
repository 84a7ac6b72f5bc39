"""USD in: geometry, surfaces, lights and cameras as the standard means them; broken files in one sentence."""

import math
import re
import tempfile
import unittest
from pathlib import Path

import numpy as np
from PIL import Image
from pxr import Gf, Usd, UsdGeom, UsdShade

from sivrel.core.errors import InputError
from sivrel.core.formats.faces import is_closed, triangulate
from sivrel.core.formats.scenes import read_scene
from sivrel.core.formats.udim import tile_set
from sivrel.core.lights.radiance import emitted
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.scene.texels import texels_of
from sivrel.core.scene.textures import FINEST, look_up_colour

SQUARE = """def Mesh "%s" (%s)
{
    int[] faceVertexCounts = [4]
    int[] faceVertexIndices = [0, 1, 2, 3]
    point3f[] points = [(0,0,0), (1,0,0), (1,1,0), (0,1,0)]
    uniform token subdivisionScheme = "none"
    %s
}
"""


def square(name: str = "M", more: str = "", about: str = "") -> str:
    return SQUARE % (name, about, more)


class UsdTest(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def read(self, body: str, header: str = 'upAxis = "Y"\n    metersPerUnit = 1', **options):
        path = self.folder / "scene.usda"
        # One statement a line, as the format wants it; the tests write them tighter.
        spread = re.sub(r"([{}])", r"\n\1\n", body)
        path.write_text(f"#usda 1.0\n(\n    {header}\n)\n{spread}")
        return read_scene(path, **options)


MATERIAL = """def Material "Look"
{
    %s
    token outputs:surface.connect = </Look/S.outputs:surface>
    def Shader "S"
    {
        uniform token info:id = "UsdPreviewSurface"
        %s
        token outputs:surface
    }
}
"""
BOUND = "rel material:binding = </Look>"
BINDING = 'prepend apiSchemas = ["MaterialBindingAPI"]'
TETRAHEDRON = """def Mesh "Solid" (prepend apiSchemas = ["MaterialBindingAPI"])
{
    int[] faceVertexCounts = [3, 3, 3, 3]
    int[] faceVertexIndices = [0, 2, 1, 0, 1, 3, 1, 2, 3, 2, 0, 3]
    point3f[] points = [(0,0,0), (1,0,0), (0,1,0), (0,0,1)]
    rel material:binding = </Look>
}
"""


class Looks(UsdTest):
    def surfaces(self, inputs: str, own: str = "", meshes: str = ""):
        scene = self.read(MATERIAL % (own, inputs) + (meshes or square(more=BOUND, about=BINDING)))
        return [scene.surfaces[mesh.surfaces[0]] for mesh in scene.meshes]

    def test_transparency_is_a_pane_on_a_sheet_and_glass_on_what_is_closed(self):
        sheet, solid = self.surfaces("float inputs:opacity = 0.1", meshes=square(more=BOUND, about=BINDING) + TETRAHEDRON)
        self.assertEqual((sheet.see_through, solid.see_through), ("pane", "solid"))
        self.assertEqual(sheet.opacity, solid.opacity)

    def test_presence_and_thresholds_are_cut_outs(self):
        self.assertEqual(self.surfaces('float inputs:opacity = 0.1\n token inputs:opacityMode = "presence"')[0].see_through, "cut_out")
        masked = self.surfaces("float inputs:opacity = 0.4\n float inputs:opacityThreshold = 0.5")[0]
        self.assertEqual((masked.see_through, masked.opacity_threshold), ("cut_out", 0.5))

    def test_what_is_said_of_the_glass(self):
        own = "color3f sivrel:attenuationColor = (0.5, 0.6, 0.7)\n float sivrel:attenuationDistance = 0.2\n bool sivrel:thinWalled = 1"
        thin = self.surfaces("float inputs:opacity = 0", own, TETRAHEDRON)[0]
        self.assertEqual((thin.see_through, thin.attenuation_distance), ("pane", np.float32(0.2)))
        np.testing.assert_allclose(thin.attenuation, (0.5, 0.6, 0.7), rtol=1e-6)

    def test_coat_and_specular_workflow(self):
        look = self.surfaces(
            "float inputs:clearcoat = 0.8\n float inputs:clearcoatRoughness = 0.1\n"
            "int inputs:useSpecularWorkflow = 1\n color3f inputs:specularColor = (0.2, 0.3, 0.4)"
        )[0]
        np.testing.assert_allclose((look.coat, look.coat_roughness, *look.specular), (0.8, 0.1, 0.2, 0.3, 0.4), rtol=1e-6)

    def test_closed_meshes_are_distinguished_from_open_ones(self):
        corners = np.array([(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)], np.float32)
        closed = corners[np.array([(0, 2, 1), (0, 1, 3), (1, 2, 3), (2, 0, 3)])]
        self.assertTrue(is_closed(closed))
        self.assertFalse(is_closed(closed[:3]))
        self.assertFalse(is_closed(np.concatenate([closed[:3], closed[3:, ::-1]])))


class Geometry(UsdTest):
    def test_units_and_up_axis(self):
        scene = self.read(
            square(more='double3 xformOp:translate = (0, 0, 100)\n    uniform token[] xformOpOrder = ["xformOp:translate"]'),
            'upAxis = "Z"\n    metersPerUnit = 0.01',
        )
        low, high = scene.bounds()
        # Centimetres and z up: (1, 1, 100) becomes (0.01, 1, -0.01) metres with y up.
        np.testing.assert_allclose(low, (0, 1, -0.01), atol=1e-6)
        np.testing.assert_allclose(high, (0.01, 1, 0), atol=1e-6)
        np.testing.assert_allclose(scene.meshes[0].normals, np.broadcast_to([0, 1, 0], (2, 3, 3)), atol=1e-6)

    def test_orientation_mirrors_and_double_sides(self):
        for more, mirrored in (
            ("", False),
            ('uniform token orientation = "leftHanded"', True),
            ('float3 xformOp:scale = (-1, 1, 1)\n    uniform token[] xformOpOrder = ["xformOp:scale"]', False),
        ):
            mesh = self.read(square(more=f"{more}\n    uniform bool doubleSided = true")).meshes[0]
            v = mesh.vertices[0]
            facing = np.cross(v[1] - v[0], v[2] - v[0])[2]
            self.assertEqual(facing < 0, mirrored, more)
            self.assertEqual(mesh.normals[0, 0, 2] < 0, mirrored)
            self.assertTrue(mesh.double_sided)

    def test_authored_normals_and_coordinates(self):
        more = """normal3f[] normals = [(0,0,1), (1,0,0), (0,0,1), (0,0,1)] ( interpolation = "vertex" )
    texCoord2f[] primvars:st = [(0,0), (2,0), (2,3), (0,3)] ( interpolation = "faceVarying" )"""
        mesh = self.read(square(more=more)).meshes[0]
        np.testing.assert_allclose(mesh.normals[0, 1], (1, 0, 0))
        np.testing.assert_allclose(mesh.uvs[0, 1], (2, 0))

    def test_instances_and_point_instancers(self):
        body = (
            'def Xform "Proto" { ' + square("P") + '}\ndef Xform "I" ( instanceable = true\n references = </Proto> ) '
            '{ double3 xformOp:translate = (5, 0, 0)\n uniform token[] xformOpOrder = ["xformOp:translate"] }\n'
            'def PointInstancer "Many" { rel prototypes = [</Many/Q>]\n int[] protoIndices = [0, 0, 0]\n'
            "point3f[] positions = [(0,10,0), (0,20,0), (0,30,0)]\n" + 'def Xform "Q" {' + square("S") + "} }"
        )
        scene = self.read(body)
        self.assertEqual(scene.triangle_count(), 2 * 5)
        np.testing.assert_allclose(sorted(m.vertices[..., 1].max() for m in scene.meshes), (1, 1, 11, 21, 31))
        self.assertIn(6.0, [float(m.vertices[..., 0].max()) for m in scene.meshes])

    def test_subsets_wear_their_own_materials(self):
        stage = Usd.Stage.CreateNew(str(self.folder / "s.usda"))
        mesh = UsdGeom.Mesh.Define(stage, "/M")
        mesh.CreatePointsAttr([(x, y, 0) for y in range(2) for x in range(3)])
        mesh.CreateFaceVertexCountsAttr([4, 4])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 4, 3, 1, 2, 5, 4])
        for name, colour in (("Red", (1, 0, 0)), ("Blue", (0, 0, 1))):
            material = UsdShade.Material.Define(stage, f"/{name}")
            shader = UsdShade.Shader.Define(stage, f"/{name}/S")
            shader.CreateIdAttr("UsdPreviewSurface")
            shader.CreateInput("diffuseColor", __import__("pxr").Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(*colour))
            material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        binding = UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim())
        binding.Bind(UsdShade.Material.Get(stage, "/Red"))
        subset = binding.CreateMaterialBindSubset("right", [1])
        UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(UsdShade.Material.Get(stage, "/Blue"))
        stage.GetRootLayer().Save()
        scene = read_scene(self.folder / "s.usda")
        worn = [scene.surfaces[i].base_color for i in scene.meshes[0].surfaces]
        self.assertEqual(worn, [(1, 0, 0), (1, 0, 0), (0, 0, 1), (0, 0, 1)])

    def test_polygons_are_filled_exactly(self):
        star = np.array([[np.cos(a) * r, np.sin(a) * r, 0] for a, r in zip(np.linspace(0, 2 * np.pi, 11)[:-1], [1, 0.4] * 5, strict=True)])
        arrow = np.array([(0, 0, 0), (2, -1, 0), (0.5, 0, 0), (2, 1, 0)])  # a quad with a dent
        for plane in (np.eye(3), np.eye(3)[[1, 2, 0]], np.eye(3)[[2, 0, 1]]):
            for polygon in (star, arrow, star[::-1]):
                p = polygon @ plane
                corners, _ = triangulate(p, np.array([len(p)]), np.arange(len(p)))
                parts = np.cross(p[corners[:, 1]] - p[corners[:, 0]], p[corners[:, 2]] - p[corners[:, 0]])
                whole = np.cross(p, np.roll(p, -1, axis=0)).sum(axis=0)
                np.testing.assert_allclose(parts.sum(axis=0), whole, atol=1e-12)
                np.testing.assert_allclose(np.linalg.norm(parts, axis=1).sum(), np.linalg.norm(whole), atol=1e-12)

    def test_hidden_and_guide_meshes_are_not_rendered(self):
        scene = self.read(square("A") + square("B", 'token visibility = "invisible"') + square("C", 'uniform token purpose = "guide"'))
        self.assertEqual([m.name for m in scene.meshes], ["/A"])


class Surfaces(UsdTest):
    MATERIAL = """def Material "Mat" { token outputs:surface.connect = </Mat/S.outputs:surface>
    def Shader "S" { uniform token info:id = "UsdPreviewSurface"\n %s
        token outputs:surface }
    def Shader "T" { uniform token info:id = "UsdUVTexture"\n asset inputs:file = @%s@
        token inputs:wrapS = "mirror"\n float4 inputs:scale = (0.5, 1, 1, 1)\n float3 outputs:rgb\n float outputs:g } }
"""
    BOUND = "rel material:binding = </Mat>"

    def material(self, inputs: str, image: str = "none.png", **options):
        about = 'prepend apiSchemas = ["MaterialBindingAPI"]'
        return self.read(self.MATERIAL % (inputs, image) + square(more=self.BOUND, about=about), **options)

    def test_constants(self):
        inputs = """color3f inputs:diffuseColor = (0.1, 0.2, 0.3)
 float inputs:roughness = 0.7
 float inputs:metallic = 0.25
 color3f inputs:emissiveColor = (4, 5, 6)
 float inputs:opacity = 0.5
 float inputs:ior = 1.33"""
        s = self.material(inputs).surfaces[0]
        np.testing.assert_allclose(
            (*s.base_color, s.roughness, s.metallic, *s.emission, s.opacity, s.ior), (0.1, 0.2, 0.3, 0.7, 0.25, 4, 5, 6, 0.5, 1.33), rtol=1e-6
        )

    def test_textures(self):
        Image.fromarray(np.full((2, 2, 3), (255, 128, 0), np.uint8)).save(self.folder / "t.png")
        inputs = "color3f inputs:diffuseColor.connect = </Mat/T.outputs:rgb>\n float inputs:roughness.connect = </Mat/T.outputs:g>"
        s = self.material(inputs, "./t.png").surfaces[0]
        np.testing.assert_allclose(s.base_color_map.texture.image.linear()[0, 0, :3], (1.0, 0.2158605, 0.0), atol=1e-5)
        self.assertEqual((s.roughness_map.channel, s.base_color_map.texture.wrap[0], s.base_color_map.texture.scale[0]), (1, "mirror", 0.5))

    def test_tiles_are_one_texture_that_lies_where_they_do(self):
        colours = {1001: (255, 0, 0), 1002: (0, 255, 0), 1011: (0, 0, 255)}
        for number, colour in colours.items():
            Image.new("RGB", (4 if number == 1002 else 8, 8), colour).save(self.folder / f"t.{number}.png")
        inputs = "color3f inputs:diffuseColor.connect = </Mat/T.outputs:rgb>"
        scene = self.material(inputs, "./t.<UDIM>.png", confine_to=self.folder)
        texture = scene.surfaces[0].base_color_map.texture
        self.assertEqual((texture.texels.grid, texture.wrap), ((2, 2), ("black", "black")))
        arrays = pack_scene(scene)
        for number, (u, v) in {1001: (0.5, 0.5), 1002: (1.5, 0.4), 1011: (0.3, 1.6), None: (1.5, 1.5)}.items():
            expected = (0.0,) * 3 if number is None else np.array(colours[number]) / 255.0 * (0.5, 1.0, 1.0)  # the scale of the node
            np.testing.assert_allclose(look_up_colour(arrays, 0, u, v, FINEST), expected, atol=1e-6)
        # Nothing outside the folder is opened, and none found is said.
        self.assertIsNone(self.material(inputs, "./none.<UDIM>.png").surfaces[0].base_color_map)
        inside = self.folder / "in"
        inside.mkdir()
        (inside / "scene.usda").write_text((self.folder / "scene.usda").read_text().replace("./none.", "../t."))
        confined = read_scene(inside / "scene.usda", confine_to=inside)
        self.assertIsNone(confined.surfaces[0].base_color_map)
        self.assertIn("not given with the scene", " ".join(confined.notes))

    def test_numbers_of_tiles(self):
        tile = texels_of(np.ones((2, 2, 3), np.uint8), "raw")
        self.assertEqual(list(tile_set({1001: tile, 1024: tile}).tiles), [(0, 0), (3, 2)])
        for wrong in ({}, {7: tile}):
            with self.assertRaises(InputError):
                tile_set(wrong)

    def test_missing_texture_is_said_and_the_rest_stands(self):
        scene = self.material("color3f inputs:diffuseColor.connect = </Mat/T.outputs:rgb>")
        self.assertIsNone(scene.surfaces[0].base_color_map)
        self.assertTrue(any("none.png" in note for note in scene.notes))

    def test_uploads_read_nothing_outside_their_folder(self):
        outside = self.folder.parent / f"{self.folder.name}-outside.png"
        Image.new("RGB", (2, 2)).save(outside)
        self.addCleanup(outside.unlink)
        inputs = "color3f inputs:diffuseColor.connect = </Mat/T.outputs:rgb>"
        self.assertIsNotNone(self.material(inputs, str(outside)).surfaces[0].base_color_map)
        self.assertIsNone(self.material(inputs, str(outside), confine_to=self.folder).surfaces[0].base_color_map)
        layer = self.folder.parent / f"{self.folder.name}-layer.usda"
        layer.write_text("#usda 1.0\n" + square())
        self.addCleanup(layer.unlink)
        with self.assertRaisesRegex(InputError, "not given with it"):
            self.read("", f"subLayers = [@../{layer.name}@]", confine_to=self.folder)


class Lights(UsdTest):
    def light(self, kind: str, attributes: str, header='upAxis = "Y"\n    metersPerUnit = 1'):
        return self.read(square() + f'def {kind} "L" (prepend apiSchemas = ["ShapingAPI"]) {{ {attributes} }}', header).lights[0]

    def test_intensity_exposure_and_colour_multiply(self):
        light = self.light("RectLight", "float inputs:intensity = 3\n float inputs:exposure = 2\n color3f inputs:color = (1, 0.5, 0.25)")
        np.testing.assert_allclose(emitted(light), (12, 6, 3))

    def test_normalize_divides_by_the_size_in_stage_units(self):
        centimetres = 'upAxis = "Y"\n    metersPerUnit = 0.01'
        cases = (
            ("RectLight", "float inputs:width = 4\n float inputs:height = 3", 12.0),
            ("DiskLight", "float inputs:radius = 2", 4 * math.pi),
            ("SphereLight", "float inputs:radius = 2", 16 * math.pi),
            ("CylinderLight", "float inputs:radius = 2\n float inputs:length = 3", 12 * math.pi),
            ("DistantLight", "float inputs:angle = 60", math.pi * math.sin(math.radians(30)) ** 2),
        )
        for kind, size, factor in cases:
            for header in (centimetres, 'upAxis = "Y"\n    metersPerUnit = 1'):
                light = self.light(kind, f"{size}\n float inputs:intensity = 10\n bool inputs:normalize = true", header)
                np.testing.assert_allclose(emitted(light), (10 / factor,) * 3, rtol=1e-5, err_msg=kind)

    def test_point_stands_for_its_sphere(self):
        light = self.light("SphereLight", "float inputs:radius = 0.5\n float inputs:intensity = 8\n bool treatAsPoint = true")
        self.assertEqual(light.kind, "point")
        np.testing.assert_allclose(emitted(light), (8 * math.pi * 0.25,) * 3, rtol=1e-6)

    def test_aim_size_and_temperature(self):
        turned = 'float3 xformOp:rotateXYZ = (-90, 0, 0)\n uniform token[] xformOpOrder = ["xformOp:rotateXYZ"]'
        sun = self.light("DistantLight", f"{turned}\n float inputs:angle = 1")
        np.testing.assert_allclose(sun.frame[2], (0, 1, 0), atol=1e-6)  # shines down
        self.assertAlmostEqual(sun.angle, 1.0)
        warm = self.light("DomeLight", "bool inputs:enableColorTemperature = true\n float inputs:colorTemperature = 3000")
        self.assertGreater(emitted(warm)[0], 2 * emitted(warm)[2])

    def test_shaping_shadow_and_glow_of_a_mesh(self):
        spot = self.light(
            "SphereLight", "float inputs:shaping:cone:angle = 25\n float inputs:shaping:cone:softness = 0.2\n float inputs:shaping:focus = 3"
        )
        self.assertEqual((spot.shaping.cone_angle, spot.shaping.focus), (25.0, 3.0))
        self.assertAlmostEqual(spot.shaping.cone_softness, 0.2, places=6)
        dark = self.read(square() + 'def RectLight "L" (prepend apiSchemas = ["ShadowAPI"]) { bool inputs:shadow:enable = false }')
        self.assertEqual(dark.lights[0].shadow.way, "off")
        lit = self.read(square("A", about='prepend apiSchemas = ["MeshLightAPI"]') + square("B"))
        self.assertEqual([mesh.aimed for mesh in lit.meshes], [True, False])

    def test_links_name_meshes(self):
        link = "uniform bool collection:lightLink:includeRoot = false\n rel collection:lightLink:includes = </A>"
        scene = self.read(square("A") + square("B") + f'def RectLight "L" {{ {link} }}')
        self.assertEqual((scene.lights[0].lit, scene.lights[0].shadowing), (frozenset({"/A"}), None))

    def test_panoramas_profiles_and_portals(self):
        Image.fromarray(np.full((4, 8, 3), 128, np.uint8)).save(self.folder / "sky.png")
        (self.folder / "lamp.ies").write_text("IESNA:LM-63-2002\nTILT=NONE\n1 100 1 2 1 1 2 0 0 0\n1 1 9\n0 90\n0\n50 10\n")
        sky = self.light("DomeLight", "asset inputs:texture:file = @sky.png@")
        self.assertEqual(sky.picture.image.shape, (4, 8))
        lamp = self.light("SphereLight", "asset inputs:shaping:ies:file = @lamp.ies@")
        np.testing.assert_allclose(lamp.shaping.profile.candela, [[50, 10], [50, 10]])
        hole = self.light("PortalLight", "float inputs:width = 2\n float inputs:height = 3")
        self.assertEqual((hole.kind, hole.width, hole.height), ("portal", 2.0, 3.0))
        gone = self.read(square() + 'def DomeLight "L" { asset inputs:texture:file = @none.exr@ }')
        self.assertIsNone(gone.lights[0].picture)
        self.assertTrue(any("none.exr" in note for note in gone.notes))

    def test_two_lights_of_one_name_are_distinguished(self):
        scene = self.read(square() + 'def Xform "A" { def RectLight "L" {} }\ndef Xform "B" { def RectLight "L" {} }')
        self.assertEqual([light.name for light in scene.lights], ["L", "/B/L"])

    def test_what_is_not_read_is_said(self):
        scene = self.read(square() + 'def GeometryLight "L" {}\ndef Sphere "Ball" {}')
        self.assertEqual(scene.lights, [])
        self.assertTrue(any("GeometryLight" in n for n in scene.notes) and any("Sphere" in n for n in scene.notes))


class Cameras(UsdTest):
    def test_lens(self):
        body = (
            'def Camera "C" { float focalLength = 50\n float horizontalAperture = 36\n float fStop = 2\n'
            " float focusDistance = 300\n float exposure = 1.5 }"
        )
        camera = self.read(square() + body, 'upAxis = "Y"\n    metersPerUnit = 0.01').cameras[0]
        self.assertAlmostEqual(camera.half_width, 0.36)
        self.assertAlmostEqual(camera.lens_radius, 0.0125)  # 50 mm at f/2
        self.assertAlmostEqual(camera.focus, 3.0)
        self.assertEqual(camera.exposure, 1.5)

    def test_one_is_made_that_sees_everything(self):
        scene = self.read(square())
        camera = scene.cameras[0]
        self.assertTrue(any("no camera" in note for note in scene.notes) and any("no light" in note for note in scene.notes))
        axes, eye = camera.to_world[:, :3], camera.to_world[:, 3]
        seen = (scene.meshes[0].vertices.reshape(-1, 3) - eye) @ axes
        self.assertTrue((seen[:, 2] < 0).all())
        self.assertLess(np.abs(seen[:, 0] / seen[:, 2]).max(), camera.half_width)
        self.assertLess(np.abs(seen[:, 1] / seen[:, 2]).max(), camera.half_width * 9 / 16)


class Broken(UsdTest):
    def test_files(self):
        (self.folder / "x.usdc").write_bytes(b"\0" * 64)
        (self.folder / "x.usda").write_text("hello")
        (self.folder / "x.txt").write_text("hello")
        for name in ("missing.usda", "x.usdc", "x.usda", "x.txt"):
            with self.subTest(name), self.assertRaises(InputError) as caught:
                read_scene(self.folder / name)
            self.assertIn(name, str(caught.exception))
        with self.assertRaisesRegex(InputError, "nothing to render"):
            self.read("")

    def test_broken_meshes_are_skipped_and_counted(self):
        bad = (
            square("A").replace("[0, 1, 2, 3]", "[0, 1, 2, 9]"),
            square("B").replace("[0, 1, 2, 3]", "[0, 1, 2, -3]"),
            square("C").replace("(1,1,0)", "(nan,1,0)"),
            square("D").replace("[4]", "[5]"),
            square("E").replace("(1,1,0)", "(inf,1,0)"),
        )
        scene = self.read(square("Good") + "".join(bad))
        self.assertEqual([m.name for m in scene.meshes], ["/Good"])
        self.assertIn("5 meshes were skipped", scene.notes[0])
        with self.assertRaisesRegex(InputError, "beyond its 4 points"):
            self.read(bad[0])


if __name__ == "__main__":
    unittest.main()
