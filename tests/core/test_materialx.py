"""MaterialX surfaces in USD as the renderer's own."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from PIL import Image
from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade

from sivrel.core.errors import InputError
from sivrel.core.formats.scenes import read_scene

KINDS = Sdf.ValueTypeNames
STANDARD, OPEN_PBR = "ND_standard_surface_surfaceshader", "ND_open_pbr_surface_surfaceshader"
BOX = [0, 1, 3, 2, 4, 6, 7, 5, 0, 4, 5, 1, 2, 3, 7, 6, 0, 2, 6, 4, 1, 5, 7, 3]


class BoundBox(unittest.TestCase):
    """A stage with a box that has a material."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.stage = Usd.Stage.CreateNew(str(self.folder / "s.usda"))
        UsdGeom.SetStageUpAxis(self.stage, UsdGeom.Tokens.y)
        UsdGeom.SetStageMetersPerUnit(self.stage, 0.01)
        box = UsdGeom.Mesh.Define(self.stage, "/Box")
        box.CreatePointsAttr([(x, y, z) for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)])
        box.CreateFaceVertexCountsAttr([4] * 6)
        box.CreateFaceVertexIndicesAttr(BOX)
        box.CreateSubdivisionSchemeAttr("none")
        self.material = UsdShade.Material.Define(self.stage, "/Looks/Thing")
        UsdShade.MaterialBindingAPI.Apply(box.GetPrim()).Bind(self.material)

    def read(self):
        self.stage.GetRootLayer().Save()
        scene = read_scene(self.folder / "s.usda")
        surface = scene.surfaces[int(scene.meshes[0].surfaces[0])]
        return surface, [note for note in scene.notes if "light" not in note and "camera" not in note]


class MaterialX(BoundBox):
    def shader(self, kind: str, **values) -> UsdShade.Shader:
        made = self.node("Surface", kind, **values)
        self.material.CreateSurfaceOutput("mtlx").ConnectToSource(made.ConnectableAPI(), "out")
        return made

    def node(self, name: str, kind: str, **values) -> UsdShade.Shader:
        made = UsdShade.Shader.Define(self.stage, f"/Looks/Thing/{name}")
        made.CreateIdAttr(kind)
        for key, value in values.items():
            if isinstance(value, UsdShade.Shader):
                made.CreateInput(key, KINDS.Color3f).ConnectToSource(value.ConnectableAPI(), "out")
            elif isinstance(value, Sdf.AssetPath):
                made.CreateInput(key, KINDS.Asset).Set(value)
            elif isinstance(value, (bool, int)):
                made.CreateInput(key, KINDS.Bool if isinstance(value, bool) else KINDS.Int).Set(value)
            elif isinstance(value, str):
                made.CreateInput(key, KINDS.String).Set(value)
            else:
                made.CreateInput(key, KINDS.Float if np.isscalar(value) else KINDS.Float2 if len(value) == 2 else KINDS.Color3f).Set(
                    value if np.isscalar(value) else Gf.Vec2f(*value) if len(value) == 2 else Gf.Vec3f(*value)
                )
        return made

    def test_defaults_are_those_of_each_model(self) -> None:
        for kind, roughness in ((STANDARD, 0.2), (OPEN_PBR, 0.3)):
            self.shader(kind)
            surface, notes = self.read()
            np.testing.assert_allclose(surface.base_color, 0.8, rtol=1e-6)
            self.assertEqual((surface.metallic, surface.ior, surface.opacity, surface.coat), (0.0, 1.5, 1.0, 0.0))
            self.assertAlmostEqual(surface.roughness, roughness, places=6)
            self.assertEqual(max(surface.emission), 0.0)
            self.assertEqual(notes, [])

    def test_constants(self) -> None:
        self.shader(STANDARD, base=0.5, base_color=(0.8, 0.4, 0.2), metalness=1.0, specular_roughness=0.35, emission=2.0,
                    emission_color=(1.0, 0.5, 0.0),
                    coat=0.7, coat_roughness=0.05, opacity=(0.3, 0.6, 0.9))  # fmt: skip
        surface, notes = self.read()
        np.testing.assert_allclose(surface.base_color, (0.4, 0.2, 0.1), rtol=1e-6)
        np.testing.assert_allclose(surface.emission, (2.0, 1.0, 0.0), rtol=1e-6)
        found = surface.metallic, surface.roughness, surface.coat, surface.coat_roughness, surface.opacity
        np.testing.assert_allclose(found, (1.0, 0.35, 0.7, 0.05, 0.6), rtol=1e-6)
        self.assertEqual((surface.see_through, notes), ("cut_out", []))

    def test_a_weaker_highlight_reflects_that_share_at_normal_incidence(self) -> None:
        for strength in (0.0, 0.25, 1.0):
            self.shader(OPEN_PBR, specular_weight=strength, specular_ior=1.8)
            surface, _ = self.read()
            reflected = ((surface.ior - 1.0) / (surface.ior + 1.0)) ** 2
            self.assertAlmostEqual(reflected, strength * (0.8 / 2.8) ** 2, places=6)
        self.shader(OPEN_PBR, specular_color=(1.0, 0.5, 0.25), specular_weight=1.0, specular_ior=1.8)
        surface, _ = self.read()
        np.testing.assert_allclose(surface.specular, np.array((1.0, 0.5, 0.25)) * (0.8 / 2.8) ** 2, rtol=1e-6)

    def test_transmission_is_glass_solid_where_closed(self) -> None:
        self.shader(STANDARD, transmission=1.0, transmission_color=(0.5, 0.8, 0.9), transmission_depth=20.0, specular_IOR=1.33)
        surface, notes = self.read()
        self.assertEqual((surface.see_through, surface.opacity, notes), ("solid", 0.0, []))
        self.assertAlmostEqual(surface.attenuation_distance, 0.2, places=6)
        self.assertAlmostEqual(surface.ior, 1.33, places=6)
        self.shader(OPEN_PBR, transmission_weight=0.9, geometry_thin_walled=True)
        surface, _ = self.read()
        self.assertEqual(surface.see_through, "pane")
        self.assertAlmostEqual(surface.opacity, 0.1, places=6)

    def test_what_is_not_carried_is_named(self) -> None:
        self.shader(STANDARD, sheen=0.4, subsurface=0.2, thin_film_thickness=0.0)
        _, notes = self.read()
        self.assertEqual(sorted(note.split(", ")[1].split(" is")[0] for note in notes), ["sheen", "subsurface"])

    def picture(self, name: str, pixels) -> Sdf.AssetPath:
        Image.fromarray(np.array(pixels, np.uint8)).save(self.folder / name)
        return Sdf.AssetPath(name)

    def test_textures_by_image_and_arithmetic(self) -> None:
        grey = self.picture("grey.png", np.full((2, 2, 3), 188))
        image = self.node("Image", "ND_tiledimage_color3", file=grey, uvtiling=(2.0, 3.0), uaddressmode="mirror")
        image.GetInput("file").GetAttr().SetColorSpace("srgb_texture")
        half = self.node("Half", "ND_multiply_color3", in1=image, in2=(0.5, 0.25, 1.0))
        rough = self.node("Rough", "ND_image_float", file=self.picture("rough.png", np.full((2, 2), 102)))
        bumps = self.node("Bumps", "ND_image_vector3", file=self.picture("bumps.png", np.full((2, 2, 3), 128)))
        self.shader(STANDARD, base_color=half, specular_roughness=rough, normal=self.node("Map", "ND_normalmap", **{"in": bumps, "scale": 0.5}))
        surface, notes = self.read()
        self.assertEqual(notes, [])
        use = surface.base_color_map
        linear = ((188 / 255 + 0.055) / 1.055) ** 2.4
        np.testing.assert_allclose(use.texture.image.linear()[0, 0, :3] * use.texture.scale[:3], np.array((0.5, 0.25, 1.0)) * linear, rtol=1e-3)
        np.testing.assert_allclose(use.texture.transform, [[2, 0, 0], [0, 3, 0]])
        self.assertEqual(use.texture.wrap, ("mirror", "repeat"))
        self.assertAlmostEqual(float(surface.roughness_map.texture.image.linear()[0, 0, 0]), 0.4, places=3)
        self.assertEqual(surface.normal_map.texture.scale, (1.0, 1.0, 2.0, 1.0))

    def test_unknown_nodes_and_missing_pictures_are_noted(self) -> None:
        self.shader(
            STANDARD, base_color=self.node("Noise", "ND_noise2d_color3"), coat=self.node("Lost", "ND_image_float", file=Sdf.AssetPath("lost.png"))
        )
        surface, notes = self.read()
        np.testing.assert_allclose(surface.base_color, 0.8, rtol=1e-6)
        self.assertTrue(any("ND_noise2d_color3" in note for note in notes))
        self.assertTrue(any("lost.png" in note for note in notes))


WOOD = """<?xml version="1.0"?>
<materialx version="1.38" colorspace="lin_rec709" fileprefix="maps/">
  <nodegraph name="NG_wood">
    <input name="strength" type="float" value="0.5" />
    <tiledimage name="grain" type="color3">
      <input name="file" type="filename" value="grain.png" colorspace="srgb_texture" />
      <input name="uvtiling" type="vector2" value="2, 3" />
    </tiledimage>
    <multiply name="darker" type="color3">
      <input name="in1" type="color3" nodename="grain" />
      <input name="in2" type="float" interfacename="strength" />
    </multiply>
    <output name="out" type="color3" nodename="darker" />
  </nodegraph>
  <standard_surface name="SR_wood" type="surfaceshader">
    <input name="base" type="float" value="0.5" />
    <input name="base_color" type="color3" nodegraph="NG_wood" output="out" />
    <input name="specular_roughness" type="float" value="0.35" />
    <input name="sheen" type="float" value="0.3" />
  </standard_surface>
  <surfacematerial name="Wood" type="material">
    <input name="surfaceshader" type="surfaceshader" nodename="SR_wood" />
  </surfacematerial>
  <open_pbr_surface name="SR_paint" type="surfaceshader">
    <input name="base_color" type="color3" value="0.5, 0.25, 1.0" colorspace="srgb_texture" />
    <input name="coat_weight" type="float" value="0.8" />
  </open_pbr_surface>
  <surfacematerial name="Paint" type="material">
    <input name="surfaceshader" type="surfaceshader" nodename="SR_paint" />
  </surfacematerial>
</materialx>
"""


class Documents(BoundBox):
    """The same surfaces from documents of their own, to which the file refers."""

    def setUp(self) -> None:
        super().setUp()
        self.stage.RemovePrim("/Looks")
        (self.folder / "maps").mkdir()
        Image.fromarray(np.full((2, 2, 3), 188, np.uint8)).save(self.folder / "maps" / "grain.png")
        (self.folder / "looks.mtlx").write_text(WOOD)

    def refer(self, inner: str, bound: str, at: str = "/Looks"):
        self.stage.DefinePrim(at).GetReferences().SetReferences([Sdf.Reference("./looks.mtlx", inner)])
        box = UsdShade.MaterialBindingAPI(self.stage.GetPrimAtPath("/Box"))
        box.GetDirectBindingRel().SetTargets([Sdf.Path(bound)])
        return self.read()

    def test_materials_of_a_document_are_where_the_file_expects_them(self) -> None:
        for inner, bound in (
            ("/MaterialX/Materials", "/Looks/Wood"),
            ("/MaterialX", "/Looks/Materials/Wood"),
            ("/MaterialX/Materials/Wood", "/Looks"),
        ):
            self.stage.RemovePrim("/Looks")
            surface, notes = self.refer(inner, bound)
            linear = ((188 / 255 + 0.055) / 1.055) ** 2.4
            use = surface.base_color_map
            np.testing.assert_allclose(use.texture.image.linear()[0, 0, :3] * use.texture.scale[:3], 0.25 * linear, rtol=1e-3, err_msg=inner)
            np.testing.assert_allclose(use.texture.transform, [[2, 0, 0], [0, 3, 0]])
            self.assertAlmostEqual(surface.roughness, 0.35, places=6)
            self.assertEqual([note for note in notes if "sheen" not in note], [])
            self.assertTrue(any("sheen" in note for note in notes))

    def test_colours_are_of_the_documents_space(self) -> None:
        surface, _ = self.refer("/MaterialX/Materials", "/Looks/Paint")
        np.testing.assert_allclose(surface.base_color, (0.2140, 0.0509, 1.0), atol=1e-3)
        self.assertAlmostEqual(surface.coat, 0.8, places=6)

    def test_damage_and_what_lies_outside_end_in_a_note(self) -> None:
        (self.folder / "looks.mtlx").write_text(WOOD[:400])
        _, notes = self.refer("/MaterialX/Materials", "/Looks/Wood")
        self.assertTrue(any("looks.mtlx is not a MaterialX document" in note for note in notes), notes)
        (self.folder / "looks.mtlx").unlink()
        _, notes = self.refer("/MaterialX/Materials", "/Looks/Wood")
        self.assertTrue(any("looks.mtlx was not found" in note for note in notes), notes)
        # An upload can't have a document, or a picture of one, read from elsewhere.
        (self.folder / "looks.mtlx").write_text(WOOD.replace('fileprefix="maps/"', 'fileprefix="../maps/"'))
        inside = self.folder / "in"
        inside.mkdir()
        (inside / "looks.mtlx").write_text((self.folder / "looks.mtlx").read_text())
        (inside / "s.usda").write_text((self.folder / "s.usda").read_text())
        scene = read_scene(inside / "s.usda", confine_to=inside)
        self.assertIsNone(scene.surfaces[0].base_color_map)
        self.assertTrue(any("not given with the scene" in note for note in scene.notes), scene.notes)
        (inside / "s.usda").write_text((self.folder / "s.usda").read_text().replace("./looks.mtlx", "../looks.mtlx"))
        with self.assertRaisesRegex(InputError, "was not given with it"):
            read_scene(inside / "s.usda", confine_to=inside)


if __name__ == "__main__":
    unittest.main()
