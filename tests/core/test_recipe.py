"""Recipes: what is declared, what is refused, how two differ."""

import json
import unittest
from pathlib import Path

from sivrel.core.errors import InputError
from sivrel.core.render.recipe import Recipe, difference, from_json, settings, to_json, with_values
from sivrel.core.render.recipe_docs import recipe_reference

ROOT = Path(__file__).parents[2]


class Settings(unittest.TestCase):
    def test_every_setting_is_fully_declared(self):
        for key, info in settings().items():
            with self.subTest(key):
                self.assertEqual(info.default, Recipe().flat()[key])
                self.assertIn("{}", info.phrase)
                self.assertGreater(len(info.trades), 20)
                self.assertTrue(info.choices or info.minimum is not None and info.maximum is not None)
                self.assertTrue(all(needed in settings() for keys in info.needs for needed in keys.split("|")))

    def test_values_come_as_text_or_as_themselves(self):
        recipe = with_values(Recipe(), {"sampling.max": "64", "limits.ray_offset": 0.01, "gi.beyond": "off"})
        self.assertEqual(recipe.sampling.max, 64)
        self.assertEqual(recipe.limits.ray_offset, 0.01)
        self.assertEqual(difference(Recipe(), recipe)[0], ("gi.beyond", "brute_force", "off"))

    def test_refusals_say_what_to_do(self):
        for values, words in (
            ({"sampling.maximum": 3}, "Did you mean “sampling.max”"),
            ({"limits.difuse_bounces": 3}, "Did you mean “limits.diffuse_bounces”"),
            ({"sampling.max": 0}, "from 1 to 65536"),
            ({"sampling.max": "many"}, "whole number"),
            ({"sampling.max": 2.5}, "whole number"),
            ({"limits.ray_offset": "nan"}, "from 0 to 1 m"),
            ({"gi.seen": "magic"}, "choose one of: off, ambient, brute_force"),
        ):
            with self.subTest(values=values):
                with self.assertRaises(InputError) as caught:
                    with_values(Recipe(), values)
                self.assertIn(words, str(caught.exception))
                self.assertNotIn("\n", str(caught.exception))

    def test_json_round_trip_and_damage(self):
        recipe = with_values(Recipe(), {"sampling.max": 7, "gi.seen": "off"})
        self.assertEqual(from_json(to_json(recipe)), recipe)
        self.assertEqual(from_json('{"sampling": {"max": 7}}').sampling.max, 7)
        for text in ("", "[]", "{", '{"version": 99}', '{"sampling": 7}', '{"sampling": {"max": -1}}', '{"x": {"y": 1}}'):
            with self.subTest(text), self.assertRaises(InputError):
                from_json(text)

    def test_written_reference_is_current(self):
        self.assertEqual((ROOT / "docs" / "recipe.md").read_text(), recipe_reference(), "run `make docs`")

    def test_stored_form_is_stable(self):
        self.assertEqual(json.loads(to_json(Recipe()))["version"], 4)


if __name__ == "__main__":
    unittest.main()
