"""The lights panel's lines: which settings of a light stand in sentences, what they show, and what the file says of them."""

import unittest
from pathlib import Path
from types import SimpleNamespace

from sivrel.core.edits.edits import ADDED_KINDS, SETTINGS, Edits, split_key, with_edits
from sivrel.store.shots import Shot
from sivrel.web.lights.panel import DEFAULTS, SENTENCES, as_text, light_lines, other_lines


def shot(*lights: dict) -> Shot:
    lights = tuple({"mesh": False, "triangles": 0, "aimed": False, **light} for light in lights)
    return Shot(1, "yard", "Yard", "", Path("/none"), False, [{"name": "c", "exposure": 0.0}], 12, [], list(lights), {})


def line_of(*lights: dict, values: dict | None = None, proof=None, mapped: bool = False):
    edits = with_edits(Edits(), values or {})
    return light_lines(shot(*lights), proof, edits, lights[0]["name"], mapped)[0]


def fields(line) -> set[str]:
    return {split_key(control.key)[2] for sentence in line.sentences for control in sentence}


class SentencesTest(unittest.TestCase):
    def test_every_kind_has_sentences_of_settings_that_exist(self):
        self.assertEqual(set(SENTENCES), {*ADDED_KINDS, "mesh"})
        for kind in ADDED_KINDS:
            with self.subTest(kind):
                line = line_of({"name": "Key", "kind": kind})
                self.assertTrue(line.noun)
                for sentence in line.sentences:
                    self.assertTrue(sentence)
                    for control in sentence:
                        self.assertIn(split_key(control.key)[2], SETTINGS["light"])
                        self.assertEqual(f"{control.before}{{}}{control.after}", control.about.phrase)
        for field in DEFAULTS:
            self.assertTrue(any(field in known for known in SETTINGS.values()), field)

    def test_what_does_nothing_is_left_out(self):
        lamp = {"name": "Lamp", "kind": "sphere"}
        self.assertFalse({"towards", "cone_softness", "shadows.resolution", "shadows.fit"} & fields(line_of(lamp)))
        self.assertIn("shadows.rays", fields(line_of(lamp)))
        # A beam has an aim and an edge, whether the file says so or an edit.
        self.assertLessEqual({"towards", "cone_softness"}, fields(line_of({**lamp, "cone_angle": 30.0})))
        self.assertLessEqual({"towards", "cone_softness"}, fields(line_of(lamp, values={"light.Lamp.cone_angle": 30})))
        self.assertIn("towards", fields(line_of({**lamp, "profile": "spot.ies"})))
        # A rectangle is always aimed.
        self.assertIn("towards", fields(line_of({"name": "Panel", "kind": "rect"})))

    def test_a_map_has_settings_of_its_own(self):
        of_map = {"shadows.resolution", "shadows.filter", "shadows.bias"}
        sun = {"name": "Sun", "kind": "sun"}
        for line in (line_of(sun, mapped=True), line_of(sun, values={"light.Sun.shadows.way": "depth_map"})):
            self.assertLessEqual({*of_map, "shadows.fit"}, fields(line))
            self.assertNotIn("shadows.rays", fields(line))
        traced = line_of(sun, values={"light.Sun.shadows.way": "traced"}, mapped=True)
        self.assertFalse(of_map & fields(traced))
        self.assertNotIn("shadows.fit", fields(line_of({"name": "Panel", "kind": "rect"}, mapped=True)))
        # Without a shadow there is nothing to set about it.
        none = fields(line_of(sun, values={"light.Sun.shadows.way": "off"}))
        self.assertFalse({*of_map, "shadows.rays"} & none)

    def test_an_edit_shows_beside_what_the_file_has(self):
        line = line_of({"name": "Key", "kind": "rect", "intensity": 12.5, "color": [1.0, 0.5, 0.25]}, values={"light.Key.intensity": 20.0})
        by_field = {split_key(c.key)[2]: c for sentence in line.sentences for c in sentence}
        self.assertEqual((by_field["intensity"].value, by_field["intensity"].file), ("20", "12.5"))
        self.assertEqual((by_field["color"].value, by_field["color"].file), ("1,0.5,0.25", "1,0.5,0.25"))
        self.assertEqual(by_field["normalize"].value, "off")

    def test_values_as_text(self):
        for value, text in ((None, ""), (True, "on"), (False, "off"), ((1.0, 0.33333333), "1,0.3333"), (0.1, "0.1"), (12, "12"), ("way", "way")):
            self.assertEqual(as_text(value), text)


class LinesTest(unittest.TestCase):
    def test_off_alone_and_added(self):
        key = {"name": "Key", "kind": "rect"}
        line = line_of(key)
        self.assertEqual((line.on, line.solo, line.added, line.short), (True, False, False, "Key"))
        line = line_of(key, values={"light.Key.on": False, "light.Key.solo": True})
        self.assertEqual((line.on, line.solo), (False, True))
        edits = with_edits(Edits(), {"light.Fill.kind": "disk", "light.Fill.intensity": 3})
        lines = light_lines(shot(key), None, edits, "")
        self.assertEqual([(one.name, one.added, one.noun) for one in lines], [("Key", False, "a rectangle"), ("Fill", True, "a disk")])

    def test_a_daylight_is_sky_and_sun_together(self):
        sky = {"name": "Day", "light": 0.3, "noise": 0.1, "time": 1.0, "shadowed": 0.2}
        measures = [sky, {"name": "Day sun", "light": 0.5, "noise": 0.2, "time": None}]
        proof = SimpleNamespace(lights=measures, maps=[{"light": "Day sun", "resolution": 512}])
        line = line_of({"name": "Day", "kind": "daylight"}, proof=proof)
        self.assertAlmostEqual(line.measure["light"], 0.8)
        self.assertAlmostEqual(line.measure["noise"], 0.3)
        self.assertIsNone(line.measure["time"])  # of one it is not known
        self.assertEqual(line.measure["shadowed"], 0.2)
        self.assertEqual(line.map["resolution"], 512)

    def test_a_mesh_that_glows_says_how_it_is_found(self):
        mesh = {"name": "/Bulb", "kind": "mesh", "mesh": True, "triangles": 80}
        proof = SimpleNamespace(lights=[{"name": "glow", "light": 0.2}], maps=[])
        line = line_of(mesh, proof=proof)
        self.assertEqual((line.group, line.measure["light"]), ("object", 0.2))
        self.assertIn("no ray is aimed at its 80 triangles", line.note)
        aimed = line_of(mesh, values={"object./Bulb.aimed": True, "light./Bulb.shadows.rays": 4}, proof=proof)
        self.assertEqual((aimed.group, aimed.measure), ("light", None))
        self.assertIn("4 rays at each point", aimed.note)

    def test_cards_objects_and_the_whole(self):
        edits = with_edits(
            Edits(), {"card.Flag.at": "0,1,0", "object.Wall.camera": False, "object.Post.thickness": 0.02, "scene.whole.scale": 0.01}
        )  # fmt: skip
        lines = other_lines(edits, "Table")
        self.assertEqual([(one.group, one.name) for one in lines][0], ("card", "Flag"))
        objects = [one.name for one in lines if one.group == "object"]
        self.assertEqual(objects[0], "Table")  # what was asked for stands first, though nothing of it is edited
        self.assertEqual(set(objects), {"Table", "Wall", "Post"})
        post = next(one for one in lines if one.name == "Post")
        self.assertIn("object.Post.thickness", [c.key for sentence in post.sentences for c in sentence])
        self.assertEqual((lines[-1].group, lines[-1].sentences[0][0].value), ("scene", "0.01"))


if __name__ == "__main__":
    unittest.main()
