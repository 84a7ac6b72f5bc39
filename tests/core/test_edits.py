"""Edits: kept apart from the scene, laid over it, undone by leaving them out, written out as USD."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from pxr import Usd, UsdGeom, UsdLux

from sivrel.core.edits.apply_edits import apply_edits
from sivrel.core.edits.edits import SETTINGS, Edits, difference, from_json, split_key, to_json, with_edits
from sivrel.core.errors import InputError
from sivrel.core.formats.scenes import read_scene
from sivrel.core.formats.usd_edits import write_layer
from sivrel.core.lights.radiance import emitted
from sivrel.core.pack.geometry import pack_geometry
from sivrel.core.pack.lights import active_lights, pack_lights, pass_names
from sivrel.core.render.film import FILM_COLUMNS
from sivrel.core.scene.cards import pattern_opacity
from sivrel.core.scene.model import Light, Scene
from tests.scenes import assert_agrees, floor, lambert, looking_down, quad, render

LAMP = Light("Lamp", "sphere", (1.0, 1.0, 1.0), (0.0, 0.0, 2.0), radius=0.2)
SUN = Light("Sun", "sun", (np.pi,) * 3)


def scene(*lights: Light, meshes=(), surfaces=()) -> Scene:
    ground = floor(5.0)
    ground.name = "/Set/Ground"
    return Scene("set", [ground, *meshes], [lambert(1.0), *surfaces], list(lights or (LAMP, SUN)))


def edited(*assignments: str, base: Scene | None = None) -> Scene:
    return apply_edits(base or scene(), with_edits(Edits(), dict(a.split("=", 1) for a in assignments)))


class Keys(unittest.TestCase):
    def test_round_trip_and_taking_back(self):
        edits = with_edits(
            Edits(), {"light.Lamp.at": "1, 2,3", "light.Lamp.shadows.rays": "8", "object./Set/Ground.camera": "off", "card.C.count": 3}
        )
        self.assertEqual(from_json(to_json(edits)), edits)
        self.assertEqual(with_edits(Edits(), edits.flat()), edits)
        back = with_edits(edits, dict.fromkeys(edits.flat(), ""))
        self.assertEqual(back, Edits())
        self.assertEqual(difference(Edits(), edits)[1], ("light.Lamp.at", None, "1,2,3"))

    def test_names_may_hold_dots_and_slashes(self):
        self.assertEqual(split_key("light.A.b.c.shadows.way"), ("light", "A.b.c", "shadows.way"))
        self.assertEqual(split_key("object./A/B.aimed"), ("object", "/A/B", "aimed"))

    def test_bad_values_are_one_sentence(self):
        for key, value, word in (
            ("light.Lamp.intens", "3", "Did you mean “light.Lamp.intensity”"), ("light.Lamp.intensity", "-3", "from 0"),
            ("light.Lamp.at", "1,2", "three numbers"),
            ("light.Lamp.on", "perhaps", "on or off"), ("light.Lamp.shadows.way", "blue", "traced, depth_map, off"),
            ("object.x.y", "1", "no setting"),
        ):  # fmt: skip
            with self.subTest(key), self.assertRaisesRegex(InputError, word) as caught:
                with_edits(Edits(), {key: value})
            self.assertEqual(str(caught.exception).count("\n"), 0)

    def test_every_setting_says_what_it_does(self):
        for fields in SETTINGS.values():
            for about in fields.values():
                self.assertTrue(about.name and about.trades.endswith((".", "?")) and about.phrase.count("{}") == 1)


class Laid(unittest.TestCase):
    def test_the_scene_itself_stays_as_it_was(self):
        base = scene()
        changed = edited("light.Lamp.intensity=7", "light.Lamp.at=1,1,1", "object.Ground.camera=off", base=base)
        self.assertEqual((base.lights[0].intensity, base.lights[0].position, base.meshes[0].seen_by_camera), (1.0, (0.0, 0.0, 2.0), True))
        self.assertEqual((emitted(changed.lights[0])[0], changed.lights[0].position, changed.meshes[0].seen_by_camera), (7.0, (1.0, 1.0, 1.0), False))

    def test_on_and_solo(self):
        self.assertEqual([light.name for light in active_lights(edited("light.Lamp.on=off"))], ["Sun"])
        self.assertEqual([light.name for light in active_lights(edited("light.Sun.solo=on"))], ["Sun"])
        glowing = scene(SUN, meshes=[quad((3, 3, 1), (4, 3, 1), (4, 4, 1), (3, 4, 1), 1)], surfaces=[lambert(0.0, (5.0,) * 3)])
        lit = render(edited("light.Sun.solo=on", base=glowing), looking_down(), gi__seen="off")
        assert_agrees(self, lit, 1.0)

    def test_aim_kinds_and_temperature(self):
        made = edited("light.Key.kind=rect", "light.Key.at=0,3,0", "light.Key.towards=0,0,0", "light.Key.temperature=3000").lights[-1]
        np.testing.assert_allclose(made.frame[2], (0, 1, 0), atol=1e-12)
        self.assertGreater(emitted(made)[0], 2.0 * emitted(made)[2])
        self.assertEqual(edited("light.Lamp.radius=0").lights[0].kind, "point")
        day = edited("light.Day.kind=daylight", "light.Day.moment=2026-06-21T12:00+00:00").lights[-2:]
        self.assertEqual([light.kind for light in day], ["dome", "sun"])

    def test_what_is_not_there_is_said(self):
        for assignment, word in (
            ("light.Lmap.intensity=3", "Did you mean “Lamp”"), ("object.Grund.camera=off", "Did you mean “/Set/Ground”"),
            ("object.Ground.aimed=on", "does not glow"),
            ("light.Lamp.towards=0,0,2", "own position"), ("light.Lamp.kind=rect", "already"), ("card./Set/Ground.pattern=soft", "already"),
        ):  # fmt: skip
            with self.subTest(assignment), self.assertRaisesRegex(InputError, word):
                edited(assignment)
        with self.assertRaisesRegex(InputError, "below the horizon"):
            edited("light.D.kind=daylight", "light.D.moment=2026-06-21T00:00+00:00", "light.D.latitude=40")
        with self.assertRaisesRegex(InputError, "time zone"):
            edited("light.D.kind=daylight", "light.D.moment=2026-06-21T12:00")


class Links(unittest.TestCase):
    """Two halves of a floor and a card over one of them, under a sun."""

    def base(self) -> Scene:
        parts = [
            quad((-5, -5, 0), (0, -5, 0), (0, 5, 0), (-5, 5, 0)),
            quad((0, -5, 0), (5, -5, 0), (5, 5, 0), (0, 5, 0)),
            quad((-1, -1, 1), (1, -1, 1), (1, 1, 1), (-1, 1, 1)),
        ]
        for part, name in zip(parts, ("/Left", "/Right", "/Card"), strict=True):
            part.name = name
        return Scene("halves", parts, [lambert(1.0)], [SUN])

    def seen(self, *assignments: str, **settings) -> tuple[float, float]:
        film = render(
            edited(*assignments, base=self.base()), looking_down(0.5, half_width=0.5), (16, 8), gi__seen="off", sampling__max=16, **settings
        )
        return float(film[:, :6, 0].mean()), float(film[:, 10:, 0].mean())

    def test_light_link_and_shadow_link(self):
        np.testing.assert_allclose(self.seen(), (0, 0), atol=1e-9)
        np.testing.assert_allclose(self.seen("light.Sun.shadow_link=-Card"), (1, 1), rtol=1e-6)
        np.testing.assert_allclose(self.seen("light.Sun.shadow_link=Left", "light.Sun.link=Right"), (0, 1), rtol=1e-6)

    def test_objects_hidden_from_some_rays(self):
        np.testing.assert_allclose(self.seen("object.Card.shadows=off"), (1, 1), rtol=1e-6)
        above = looking_down(2.0, half_width=0.1)
        hidden = edited("object.Card.camera=off", base=self.base())
        assert_agrees(self, render(hidden, above, gi__seen="off"), 0.0)
        assert_agrees(self, render(self.base(), above, gi__seen="off"), 1.0)

    def test_bounced_light_passes_what_it_does_not_meet(self):
        """A white lid over a white floor sends light back; hidden from bounced light it does not."""
        lid = quad((-9, -9, 1), (-9, 9, 1), (9, 9, 1), (9, -9, 1))
        lid.name, ground = "/Lid", floor(5.0)
        room = Scene("lid", [ground, lid], [lambert(0.5)], [Light("L", "point", (np.pi,) * 3, (0.0, 0.0, 0.9))])
        closed, open_ = (
            render(edited(*a, base=room), looking_down(0.5), limits__diffuse_bounces=3)[..., 3].mean() for a in ((), ("object.Lid.bounced=off",))
        )
        self.assertGreater(closed, 0.05)
        self.assertEqual(open_, 0.0)


class Cards(unittest.TestCase):
    def test_a_cut_out_card_breaks_up_a_pool(self):
        film = render(
            edited("card.C.pattern=slats", "card.C.at=0,0,1", "card.C.towards=0,0,2", "card.C.count=4", "light.Lamp.on=off"),
            looking_down(0.5, half_width=0.9),
            (32, 32),
            gi__seen="off",
            sampling__max=4,
        )
        rows = film[..., 0].mean(axis=1)
        self.assertAlmostEqual(rows.mean(), 0.5, delta=0.05)
        self.assertTrue((rows > 0.95).any() and (rows < 0.05).any())

    def test_a_soft_card_darkens_and_fades_by_its_opacity(self):
        def dark(opacity):
            lines = ("card.C.pattern=soft", "card.C.at=0,0,0", "card.C.towards=0,0,1", f"card.C.opacity={opacity}", "light.Lamp.on=off")
            film = render(edited(*lines), looking_down(1.0, half_width=0.6), (31, 31), gi__seen="off", sampling__max=32)
            return 1.0 - film[15, 15, 0], 1.0 - film[0, 0, 0]

        self.assertAlmostEqual(dark(1.0)[0], 1.0, delta=0.06)
        self.assertAlmostEqual(dark(0.4)[0], 0.4, delta=0.1)
        self.assertAlmostEqual(dark(1.0)[1], 0.0, delta=0.02)

    def test_patterns_cover_their_share(self):
        for pattern, low, high in (("plain", 1, 1), ("slats", 0.49, 0.51), ("panes", 0.1, 0.3), ("leaves", 0.4, 0.9), ("soft", 0.2, 0.35)):
            self.assertTrue(low <= pattern_opacity(pattern, 5).mean() <= high, pattern)


class ManyLights(unittest.TestCase):
    """A ring of lanterns, some turned away, over a floor: evaluated all, or chosen through the tree."""

    def lanterns(self, count: int) -> list[Light]:
        rng = np.random.default_rng(11)
        places = np.column_stack([rng.uniform(-4, 4, (count, 2)), rng.uniform(0.3, 3.0, count)])
        return [
            Light(f"L{k}", "sphere", tuple(rng.uniform(0.2, 2.0, 3)), tuple(map(float, p)), radius=float(rng.uniform(0.02, 0.08)))
            for k, p in enumerate(places)
        ]

    def test_chosen_agree_with_all(self):
        base = Scene("ring", [floor(6.0)], [lambert(0.8)], [*self.lanterns(60), SUN])
        camera = looking_down(1.0, 0.5, half_width=0.4)
        every = render(base, camera, (24, 24), gi__seen="off", sampling__max=64)
        for draws in (1, 4):
            chosen = render(base, camera, (24, 24), gi__seen="off", sampling__max=256, lights__seen="chosen", lights__draws=draws)
            mean, spread = chosen[..., 0].mean(), chosen[..., 0].std(ddof=1) / 24
            expected = every[..., 0].mean()
            self.assertLess(abs(mean - expected), 3.0 * spread + 0.004 * expected)

    def test_passes_are_bounded_and_add_up(self):
        base = Scene("ring", [floor(6.0)], [lambert(0.8)], self.lanterns(60))
        names = pass_names(base)
        self.assertEqual((len(names), names[0], names[-1]), (26, "glow", "other lights"))
        film = render(base, looking_down(), (4, 4), gi__seen="off")
        parts = film[..., FILM_COLUMNS:].reshape(4, 4, 26, 6)[..., :3].sum(axis=2)
        np.testing.assert_allclose(parts, film[..., :3], rtol=1e-4)

    def test_many_lights_share_passes_by_the_tree_of_the_file(self):
        lights = [replace(light, group=f"Town/street{k // 10}/house{k % 10}") for k, light in enumerate(self.lanterns(60))]
        lights[7].group = "Town/park"
        base = Scene("town", [floor(6.0)], [lambert(0.8)], [*lights, SUN])
        names = pass_names(base)
        streets = [f"lights in Town/street{k}" for k in range(6)]
        self.assertEqual(names, ["glow", streets[0], lights[7].name, *streets[1:], SUN.name])
        film = render(base, looking_down(), (4, 4), gi__seen="off")
        alone = render(replace(base, lights=lights[10:20]), looking_down(), (4, 4), gi__seen="off")
        passes = film[..., FILM_COLUMNS:].reshape(4, 4, len(names), 6)[..., :3]
        np.testing.assert_allclose(passes.sum(axis=2), film[..., :3], rtol=1e-4)
        np.testing.assert_allclose(passes[:, :, 3].mean(), alone[..., :3].mean(), rtol=0.02)
        # More groups than passes: the strongest have their own.
        many = [
            replace(light, group=f"Town/street{k // 2}", color=(1.0,) * 3, radius=0.05, intensity=1.0 + k // 2)
            for k, light in enumerate(self.lanterns(60))
        ]
        expected = [*(f"lights in Town/street{k}" for k in range(6, 30)), "other lights"]
        self.assertEqual(pass_names(replace(base, lights=many))[1:], expected)

    def test_links_are_packed_as_bits(self):
        arrays = pack_lights(pack_geometry(scene()), edited("light.Sun.link=-Ground"))
        self.assertEqual(int(arrays.objects[0, 1]), 0)


class Layer(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        stage = Usd.Stage.CreateNew(str(self.folder / "room.usda"))
        UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z)
        UsdGeom.SetStageMetersPerUnit(stage, 0.01)
        stage.SetDefaultPrim(UsdGeom.Xform.Define(stage, "/Room").GetPrim())
        ground = UsdGeom.Mesh.Define(stage, "/Room/Ground")
        ground.CreatePointsAttr([(0, 0, 0), (100, 0, 0), (100, 100, 0)])
        ground.CreateFaceVertexCountsAttr([3])
        ground.CreateFaceVertexIndicesAttr([0, 1, 2])
        place = UsdGeom.Xform.Define(stage, "/Room/Lights")
        place.AddTranslateOp().Set((10, 20, 30))
        UsdLux.RectLight.Define(stage, "/Room/Lights/Key").CreateIntensityAttr(4.0)
        stage.GetRootLayer().Save()
        self.before = (self.folder / "room.usda").read_bytes()

    def test_what_is_written_reads_back_as_it_was_edited(self):
        path, out = self.folder / "room.usda", self.folder / "edits.usda"
        lines = {
            "light.Key.intensity": 9, "light.Key.at": "0.5,1.5,-0.25", "light.Key.towards": "0.5,0,-0.25", "light.Key.width": 0.4,
            "light.Key.color": "1,0.5,0.25",
            "light.Key.cone_angle": 30, "light.Key.link": "-Ground", "light.Fill.kind": "sphere", "light.Fill.at": "1,2,3", "light.Fill.radius": 0.25,
            "light.Fill.intensity": 2, "light.Fill.shadows.way": "off",
        }  # fmt: skip
        edits = with_edits(Edits(), lines)
        self.assertEqual(write_layer(path, edits, out), [])
        self.assertEqual(path.read_bytes(), self.before, "the user's own file is never touched")
        wanted = {light.name: light for light in apply_edits(read_scene(path), edits).lights}
        got = {light.name: light for light in read_scene(out).lights}
        self.assertEqual(set(got), {"Key", "Fill"})
        for name, light in got.items():
            np.testing.assert_allclose(light.position, wanted[name].position, atol=1e-6)
            np.testing.assert_allclose(emitted(light), emitted(wanted[name]), rtol=1e-6)
            np.testing.assert_allclose((light.radius, light.width), (wanted[name].radius, wanted[name].width), rtol=1e-6)
            self.assertEqual(
                (light.shadow.way, light.shaping.cone_angle, light.lit), (wanted[name].shadow.way, wanted[name].shaping.cone_angle, wanted[name].lit)
            )
        np.testing.assert_allclose(got["Key"].frame[2], wanted["Key"].frame[2], atol=1e-6)

    def test_what_usd_has_no_word_for_is_listed(self):
        left = write_layer(self.folder / "room.usda", with_edits(Edits(), {"light.Key.solo": "on", "card.C.pattern": "soft"}), self.folder / "e.usda")
        self.assertEqual(len(left), 2)


if __name__ == "__main__":
    unittest.main()
