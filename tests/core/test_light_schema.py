"""What UsdLux states and few scenes use, against closed forms: stretched lights, pictures of rects, wide cones and suns, profiles, links."""

import math
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image
from pxr import Usd, UsdLux

from sivrel.core.formats.ies import _whole_turn
from sivrel.core.lights.emission import emit
from sivrel.core.lights.emitters import meet_light, sample_light
from sivrel.core.lights.radiance import area, emitted
from sivrel.core.lights.shaping import profile_table
from sivrel.core.lights.targets import NO_TARGETS
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.pack.lights import active_lights
from sivrel.core.scene.model import Light, Profile, Scene, Shaping, Texture
from sivrel.core.scene.texels import texels_of
from tests.core.test_mesh_lights import ball, lit_by_facing
from tests.core.test_usd import UsdTest, square
from tests.scenes import assert_agrees, floor, lambert, light, looking_down, mesh, quad, render

BENT = np.array([[1.6, 0.3, 0.0], [0.0, 0.7, 0.2], [0.1, 0.0, 1.1]])
"""Stretches and shears."""
DOWN = np.eye(3)


def floor_under(*lights: Light, at=(0.0, 0.0), samples: int = 256, **settings) -> np.ndarray:
    scene = Scene("floor", [floor()], [lambert(1.0)], list(lights))
    return render(scene, looking_down(0.2, half_width=1e-6, at=at), sampling__max=samples, **settings)


def tube(radius: float, length: float, at, bend: np.ndarray, parts: int = 720) -> np.ndarray:
    """Triangles of the round side of a bent tube along x, facing outwards."""
    phi = np.linspace(0.0, 2.0 * np.pi, parts + 1)
    ring = np.stack([np.zeros_like(phi), np.cos(phi) * radius, np.sin(phi) * radius], axis=1)
    half = np.array([length / 2.0, 0.0, 0.0])
    a, b, c, d = ring[:-1] - half, ring[:-1] + half, ring[1:] + half, ring[1:] - half
    return np.concatenate([np.stack([a, d, c], 1), np.stack([a, c, b], 1)]) @ bend.T + np.asarray(at)


class Stretched(unittest.TestCase):
    LIGHTS = (
        (Light("egg", "sphere", (1.0,) * 3, (0.3, 0.1, 1.0), radius=0.3, stretch=BENT), ball(150, 0.3, (0, 0, 0)) @ BENT.T + (0.3, 0.1, 1.0)),
        (
            Light("tube", "cylinder", (1.0,) * 3, (0.3, 0.1, 1.0), radius=0.2, length=1.2, stretch=BENT),
            tube(0.2, 1.2, (0.3, 0.1, 1.0), BENT),
        ),
    )

    def test_light_of_an_egg_and_of_an_oval_tube(self):
        for lamp, triangles in self.LIGHTS:
            mean, error = light(floor_under(lamp))
            expected = lit_by_facing(triangles)
            self.assertLess(abs(mean[0] - expected), 3.0 * error[0] + 5e-4 * expected, lamp.name)  # the triangles stand in for round ones
            self.assertLess(error[0], 0.002 * expected)

    def test_areas(self):
        for lamp, triangles in self.LIGHTS:
            edges = triangles[:, 1:] - triangles[:, :1]
            meshed = 0.5 * np.linalg.norm(np.cross(edges[:, 0], edges[:, 1]), axis=1).sum()
            self.assertAlmostEqual(area(lamp) / meshed, 1.0, delta=1e-3)

    def test_what_is_aimed_at_is_met_with_its_density(self):
        rng = np.random.default_rng(2)
        p, n = (0.1, -0.2, 0.1), (0.0, 0.0, 1.0)
        for lamp, _ in self.LIGHTS:
            arrays = pack_scene(Scene("s", [floor()], [lambert(1.0)], [lamp]))
            for u, v in rng.random((100, 2)):
                d, distance, _, density, _ = sample_light(arrays, 0, p, n, u, v)
                if density == 0.0:
                    continue
                at, _, met = meet_light(arrays, 0, p, n, d, 1e30)
                self.assertAlmostEqual(met / density, 1.0, places=5)
                self.assertAlmostEqual(at, distance, places=5)

    def test_photons_carry_the_flux_of_the_whole_surface(self):
        rng = np.random.default_rng(3)
        for lamp, _ in self.LIGHTS:
            arrays = pack_scene(Scene("s", [floor()], [lambert(1.0)], [lamp]))
            flux = np.array([emit(arrays, 0, NO_TARGETS, (0.0, 0.0, 0.0), 50.0, *rng.random(4))[2][0] for _ in range(20000)])
            self.assertLess(abs(flux.mean() - math.pi * area(lamp)), 4.0 * flux.std() / math.sqrt(len(flux)))


class Pictures(unittest.TestCase):
    def picture(self) -> Texture:
        texels = np.zeros((2, 2, 4), np.float32)
        texels[0, 0] = (8.0, 4.0, 2.0, 1.0)
        return Texture(texels_of(texels.repeat(32, 0).repeat(32, 1)), ("clamp", "clamp"))

    def test_a_rect_shows_its_picture_upright_to_who_looks_at_it(self):
        """Of a quarter that shines, the left upper one: at +x and +y of the light, which shines along -z (UsdLux RectLight)."""
        lamp = Light("screen", "rect", (1.0,) * 3, (0.0, 0.0, 1.0), DOWN, width=2.0, height=2.0, picture=self.picture())
        corners = [(0.0, 0.0, 1.0), (0.0, 1.0, 1.0), (1.0, 1.0, 1.0), (1.0, 0.0, 1.0)]
        quarter = lit_by_facing(np.array([[corners[0], corners[1], corners[2]], [corners[0], corners[2], corners[3]]]))
        mean, error = light(floor_under(lamp, samples=512))
        # The edge of the quarter is as wide as a texel, a 32nd of it.
        np.testing.assert_allclose(mean, quarter * np.array([8.0, 4.0, 2.0]), rtol=0.01)
        self.assertLess(error[0], 0.003 * mean[0])

    def test_it_is_aimed_at_where_it_shines(self):
        texels = np.full((64, 64, 4), 1e-3, np.float32)
        texels[10, 20] = 1e4
        lamp = Light(
            "screen", "rect", (1.0,) * 3, (0.0, 0.0, 1.0), DOWN, width=2.0, height=2.0, picture=Texture(texels_of(texels), ("clamp", "clamp"))
        )
        film = floor_under(lamp, samples=16)
        mean, error = light(film)
        self.assertLess(error[0] * 16.0, 0.5 * mean[0])

    def test_photons_of_a_picture_carry_its_flux(self):
        lamp = Light("screen", "rect", (1.0,) * 3, (0.0, 0.0, 1.0), DOWN, width=2.0, height=2.0, picture=self.picture())
        arrays = pack_scene(Scene("s", [floor()], [lambert(1.0)], [lamp]))
        rng = np.random.default_rng(3)
        flux = np.array([emit(arrays, 0, NO_TARGETS, (0.0, 0.0, 0.0), 50.0, *rng.random(4))[2] for _ in range(20000)])
        np.testing.assert_allclose(flux.mean(axis=0), math.pi * 4.0 * np.array([2.0, 1.0, 0.5]), rtol=0.02)


class WideAngles(unittest.TestCase):
    def test_a_cone_beyond_a_right_angle(self):
        """A point that hangs with its axis up: below it, the angle from the axis is 180 degrees less that from the vertical."""
        up = np.diag([1.0, -1.0, -1.0])
        lamp = Light("lamp", "point", (math.pi,) * 3, (0.0, 0.0, 1.0), up, shaping=Shaping(cone_angle=120.0))
        for degrees in (50.0, 70.0):
            film = floor_under(lamp, at=(math.tan(math.radians(degrees)), 0.0), samples=16)
            expected = math.cos(math.radians(degrees)) ** 3 if degrees > 60.0 else 0.0
            np.testing.assert_allclose(film[..., :3].mean(axis=(0, 1)), expected, rtol=1e-4, atol=1e-9)

    def test_suns_wider_than_half_the_sky(self):
        """A cap of 270 degrees about the zenith covers all that a floor sees; about the nadir, a band up to 45 degrees."""
        for frame, share in ((np.eye(3), 1.0), (np.diag([1.0, -1.0, -1.0]), 0.5)):
            sun = Light("sun", "sun", (1.0,) * 3, frame=frame, angle=270.0)
            assert_agrees(self, floor_under(sun, samples=1024), share)
            self.assertAlmostEqual(emitted(replace(sun, normalize=True))[0], 1.0 / (math.pi * (2.0 - math.sin(math.radians(135.0)) ** 2)))


class Profiles(unittest.TestCase):
    def test_two_fold_files_are_whole_at_the_zero_direction(self):
        """Symmetric about the plane of 90 and 270 degrees, without a row at 180: the zero lies half way between -30 and 30."""
        angles, rows = _whole_turn(np.array([90.0, 150.0, 210.0, 270.0]), np.array([[1.0], [2.0], [3.0], [4.0]]))
        np.testing.assert_allclose(angles, [0, 30, 90, 150, 210, 270, 330, 360])
        np.testing.assert_allclose(rows[:, 0], [2.5, 2, 1, 2, 3, 4, 3, 2.5])

    def test_angle_scale(self):
        profile = Profile(np.array([0.0, 60.0, 180.0]), np.array([0.0, 360.0]), np.array([[2.0, 1.0, 0.0]] * 2))
        for scale, expected in ((0.5, [0.0, 30.0, 90.0]), (1.5, [0.0, 90.0, 270.0]), (-0.5, [90.0, 120.0, 180.0]), (0.0, [0.0, 60.0, 180.0])):
            np.testing.assert_allclose(np.degrees(profile_table(profile, False, scale)[4:7]), expected, rtol=1e-6)


class Links(unittest.TestCase):
    def test_more_groups_than_fit_into_one_number(self):
        """Seventy cards, each lit by a lamp of its own through a list of its own."""
        cards = [replace(quad((k, 0, 0), (k + 0.5, 0, 0), (k + 0.5, 1, 0), (k, 1, 0)), name=f"card {k}") for k in range(70)]
        lamps = [Light(f"sun {k}", "sun", (float(k + 1),) * 3, frame=np.eye(3), lit=frozenset({f"card {k}"})) for k in range(70)]
        for k in (0, 62, 63, 69):
            film = render(Scene("s", cards, [lambert(1.0)], lamps), looking_down(half_width=1e-5, at=(k + 0.25, 0.5)), (2, 2), sampling__max=1)
            np.testing.assert_allclose(film[..., 0], (k + 1) / math.pi, rtol=1e-5)


class MeshLights(UsdTest):
    GLOWING = """def Material "Look"
{
    token outputs:surface.connect = </Look/S.outputs:surface>
    def Shader "S"
    {
        uniform token info:id = "UsdPreviewSurface"
        color3f inputs:emissiveColor = (0.5, 1, 2)
        token outputs:surface
    }
}
"""

    def lit(self, attributes: str, look: str = GLOWING) -> tuple[np.ndarray, np.ndarray]:
        """(what a floor below the panel gets in red, green, blue; what the camera sees of the panel) over what the bare panel would bring."""
        about = 'prepend apiSchemas = ["MaterialBindingAPI", "MeshLightAPI"]'
        scene = self.read(look + square(more=f"rel material:binding = </Look>\n {attributes}", about=about))
        panel = scene.meshes[0]
        corners = np.array([(-0.5, -0.5, 1.0), (-0.5, 0.5, 1.0), (0.5, 0.5, 1.0), (0.5, -0.5, 1.0)], np.float32)
        panel = panel.changed(
            vertices=corners[[[0, 1, 2], [0, 2, 3]]], normals=np.broadcast_to([0.0, 0.0, -1.0], (2, 3, 3)), uvs=np.zeros((2, 3, 2)),
            surfaces=panel.surfaces[:1].repeat(2),
        )  # fmt: skip
        ground = floor(surface=len(scene.surfaces))
        stage = replace(scene, meshes=[panel, ground], surfaces=[*scene.surfaces, lambert(1.0)])
        unaimed, camera = replace(stage, meshes=[replace(panel, aimed=False), ground]), looking_down(0.5, half_width=1e-5)
        below = render(stage, camera, (16, 16), sampling__max=256, gi__seen="off")
        by_chance = render(unaimed, camera, (16, 16), sampling__max=512, gi__seen="off")
        seen = replace(looking_down(half_width=1e-5), to_world=np.array([[1.0, 0, 0, 0], [0, -1, 0, 0], [0, 0, -1, 0.2]]))
        (one, error), (other, wide) = light(below), light(by_chance)
        self.assertTrue((np.abs(one - other) <= 4.0 * np.hypot(error, wide)).all(), f"aimed {one} ± {error}, by chance {other} ± {wide}")
        whole = lit_by_facing(panel.vertices.astype(float))
        return one / whole, render(stage, seen, (2, 2), sampling__max=1)[..., :3].mean(axis=(0, 1))

    def test_its_own_quantities_tint_what_the_material_emits(self):
        bright, seen = self.lit("float inputs:intensity = 5\n float inputs:exposure = 1\n color3f inputs:color = (1, 0.5, 0.1)")
        np.testing.assert_allclose(bright, [5.0, 5.0, 2.0], rtol=0.01)
        np.testing.assert_allclose(seen, [0.5, 1.0, 2.0], rtol=1e-5)  # the camera sees the material's glow

    def test_independent_of_the_material(self):
        bright, seen = self.lit('float inputs:intensity = 5\n uniform token light:materialSyncMode = "independent"')
        np.testing.assert_allclose(bright, [5.0] * 3, rtol=0.01)
        np.testing.assert_allclose(seen, [0.5, 1.0, 2.0], rtol=1e-5)

    def test_without_the_material(self):
        bright, seen = self.lit('float inputs:intensity = 5\n uniform token light:materialSyncMode = "noMaterialResponse"')
        np.testing.assert_allclose(bright, [5.0] * 3, rtol=0.01)
        np.testing.assert_allclose(seen, [5.0] * 3, rtol=1e-5)

    def test_normalized_by_the_area_in_units_of_the_file(self):
        about = 'prepend apiSchemas = ["MeshLightAPI"]'
        panel = square(more="bool inputs:normalize = true\n float inputs:intensity = 6", about=about)
        scene = self.read(panel, 'metersPerUnit = 0.01\n upAxis = "Y"')
        self.assertAlmostEqual(active_lights(scene)[0].intensity, 6.0, places=5)  # of one square centimetre


class Reading(UsdTest):
    def test_dome_of_version_one_has_its_pole_where_the_stage_or_it_says(self):
        Image.fromarray(np.full((4, 8, 3), 128, np.uint8)).save(self.folder / "sky.png")
        for header, pole, expected in (
            ('upAxis = "Z"', "", [[1, 0, 0], [0, 1, 0], [0, 0, 1]]),  # pole up, the middle towards -y, which is our +z
            ('upAxis = "Z"', 'uniform token poleAxis = "Y"', [[1, 0, 0], [0, 0, -1], [0, 1, 0]]),
            ('upAxis = "Y"', "", np.eye(3)),
            ('upAxis = "Y"', 'uniform token poleAxis = "Z"', [[1, 0, 0], [0, 0, 1], [0, -1, 0]]),
        ):
            scene = self.read(square() + f'def DomeLight_1 "L" {{ {pole}\n asset inputs:texture:file = @sky.png@ }}', header)
            np.testing.assert_allclose(scene.lights[0].frame, expected, atol=1e-12, err_msg=header + pole)

    def test_stretched_lights_pictures_scales_and_wide_suns(self):
        Image.fromarray(np.full((4, 8, 3), 128, np.uint8)).save(self.folder / "screen.png")
        (self.folder / "lamp.ies").write_text("IESNA:LM-63-2002\nTILT=NONE\n1 100 1 2 1 1 2 0 0 0\n1 1 9\n0 90\n0\n50 10\n")
        scale = 'float3 xformOp:scale = (1, 2, 3)\n uniform token[] xformOpOrder = ["xformOp:scale"]'
        scene = self.read(
            square()
            + f'def SphereLight "Egg" {{ {scale}\n float inputs:radius = 0.5 }}\n'
            + f'def CylinderLight "Tube" {{ {scale} }}\n'
            + 'def RectLight "Screen" { asset inputs:texture:file = @screen.png@ }\n'
            + 'def SphereLight "Spot" (prepend apiSchemas = ["ShapingAPI"]) { asset inputs:shaping:ies:file = @lamp.ies@\n'
            + " float inputs:shaping:ies:angleScale = 0.5\n float inputs:shaping:cone:angle = 150 }\n"
            + 'def DistantLight "Sun" { float inputs:angle = 300 }\n'
        )
        egg, tube_, screen, spot, sun = scene.lights
        np.testing.assert_allclose(egg.stretch * egg.radius, np.diag([0.5, 1.0, 1.5]))
        np.testing.assert_allclose(tube_.stretch @ tube_.frame.T @ np.diag([tube_.length, tube_.radius, tube_.radius]), np.diag([1.0, 1.0, 1.5]))
        self.assertEqual(screen.picture.image.shape, (4, 8))
        self.assertEqual((spot.shaping.profile_scale, spot.shaping.cone_angle, sun.angle), (0.5, 150.0, 300.0))
        self.assertEqual(scene.notes[:-1], [])

    def test_what_is_left_out_is_named(self):
        lamp = 'def RectLight "L" { color3f inputs:shadow:color = (1, 0, 0)\n rel light:filters = </F> }\ndef LightFilter "F" {}'
        scene = self.read(square() + lamp)
        self.assertTrue(any("the colour of its shadows, its light filters are not supported" in note for note in scene.notes), scene.notes)

    def test_every_attribute_of_the_schema_is_read_or_named(self):
        """What a light of the installed schema can say beside its transform is either in the reader's sources or among what it names."""
        from sivrel.core.formats import usd_lights

        sources = Path(usd_lights.__file__).read_text()
        stage = Usd.Stage.CreateInMemory()
        for kind in ("DistantLight", "RectLight", "DiskLight", "SphereLight", "CylinderLight", "DomeLight", "DomeLight_1"):
            prim = stage.DefinePrim(f"/{kind}", kind)
            UsdLux.ShapingAPI.Apply(prim)
            UsdLux.ShadowAPI.Apply(prim)
            for attribute in prim.GetAuthoredAttributes() + prim.GetAttributes():
                name = attribute.GetName()
                if name.startswith(("inputs:", "pole", "treat")):
                    base = name.removeprefix("inputs:")
                    known = name in sources or f"Get{base[0].upper()}{base[1:]}Attr" in sources
                    self.assertTrue(known, f"{kind}.{name}")


class Copies(unittest.TestCase):
    def test_copies_of_one_mesh_are_one_light(self):
        one = [((-0.1, -0.1, 1.0), (-0.1, 0.1, 1.0), (0.1, 0.1, 1.0)), ((-0.1, -0.1, 1.0), (0.1, 0.1, 1.0), (0.1, -0.1, 1.0))]
        lamps = [replace(mesh(np.array(one) + (shift, 0.0, 0.0), 1), name="lamp", aimed=True) for shift in (0.0, 0.5)]
        film = render(Scene("s", [floor(), *lamps], [lambert(1.0), lambert(0.0, (1.0,) * 3)]), looking_down(0.5, half_width=1e-6), sampling__max=64)
        assert_agrees(self, film, sum(lit_by_facing(lamp.vertices.astype(float)) for lamp in lamps), largest_error=1e-3)


class Lines(UsdTest):
    def lamp(self, attributes: str) -> Light:
        return self.read(square() + f'def CylinderLight "L" {{ {attributes} }}').lights[0]

    def test_a_line_lights_like_its_cylinder_from_afar(self):
        size = "float inputs:radius = 0.3\n float inputs:length = 2\n float inputs:intensity = 5"
        line, thick = (self.lamp(f"{size}\n bool treatAsLine = {value}") for value in (1, 0))
        self.assertFalse(line.seen_by_camera)
        self.assertAlmostEqual(emitted(line)[0] * line.radius, 5.0 * 0.3, places=5)
        normalized = [self.lamp(f"{size}\n bool inputs:normalize = 1\n bool treatAsLine = {value}") for value in (1, 0)]
        powers = [emitted(one)[0] * area(one) for one in normalized]
        self.assertAlmostEqual(powers[0], powers[1], places=5)
        # Irradiance below the middle of a line at height h: the integral of 2 r L h² / (x² + h²)² along it.
        h, half = 1.5, thick.length / 2.0
        expected = 2.0 * 0.3 * 5.0 * (half / (half**2 + h**2) + np.arctan(half / h) / h)
        line.position = (0.0, 0.0, h)
        mean, error = light(floor_under(line))
        self.assertLess(abs(mean[0] * np.pi - expected), 3.0 * error[0] * np.pi + 2e-3 * expected)
