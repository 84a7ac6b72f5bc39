"""Every setting of recipes and edits by its declaration: what lies within its range is taken, what does not is refused in a sentence."""

import math
import unittest
from itertools import pairwise

from werkzeug.datastructures import MultiDict

from sivrel.core.edits import edits as of_scene
from sivrel.core.edits.edits import GROUPS, SETTINGS, Edits, apart, split_key, with_edits
from sivrel.core.errors import InputError
from sivrel.core.render.recipe import QUESTIONS, Recipe, difference, from_json, settings, to_json, with_values
from sivrel.web.asked import form_values, recipe_of

NUMBERS = ("integer", "number")


def another(info) -> object:
    """A value within a setting's range that is not its default."""
    if info.choices:
        return next(choice for choice in info.choices if choice != info.default)
    if info.type == "boolean":
        return not info.default
    if info.type == "integer":
        return info.minimum if info.default != info.minimum else info.maximum
    return (info.minimum + info.default) / 2.0 if info.default != info.minimum else min(info.maximum, info.minimum + 1.0)


def refused(test: unittest.TestCase, wrong, *values) -> str:
    with test.assertRaises(InputError) as caught:
        wrong(*values)
    text = str(caught.exception)
    test.assertNotIn("\n", text)
    test.assertTrue(text.endswith("."), text)
    return text


class RecipeTest(unittest.TestCase):
    def test_ends_of_each_range_are_taken(self):
        for key, info in settings().items():
            for value in (info.minimum, info.maximum) if info.type in NUMBERS else info.choices or ():
                with self.subTest(key=key, value=value):
                    self.assertEqual(with_values(Recipe(), {key: value}).flat()[key], value)
                    self.assertEqual(with_values(Recipe(), {key: str(value)}).flat()[key], value)

    def test_what_lies_beyond_is_refused_with_its_range(self):
        for key, info in settings().items():
            if info.type not in NUMBERS:
                continue
            step = 1 if info.type == "integer" else 1e-3 * max(1.0, abs(info.maximum))
            for value in (info.minimum - step, info.maximum + step, "some", "", math.nan, math.inf):
                with self.subTest(key=key, value=value):
                    text = refused(self, with_values, Recipe(), {key: value})
                    self.assertIn(key, text)
                    self.assertIn(f"from {info.minimum:g} to {info.maximum:g}", text)

    def test_a_choice_is_refused_with_what_there_is_to_choose(self):
        for key, info in settings().items():
            if info.choices:
                with self.subTest(key):
                    text = refused(self, with_values, Recipe(), {key: "otherwise"})
                    for choice in info.choices:
                        self.assertIn(choice, text)

    def test_one_change_is_one_difference_and_nothing_is_lost_on_the_way(self):
        for key, info in settings().items():
            value = another(info)
            with self.subTest(key=key, value=value):
                changed = with_values(Recipe(), {key: value})
                self.assertEqual(difference(Recipe(), changed), [(key, info.default, value)])
                self.assertEqual(difference(changed, Recipe()), [(key, value, info.default)])
                self.assertEqual(from_json(to_json(changed)), changed)
                self.assertEqual(with_values(changed, {key: info.default}), Recipe())

    def test_a_form_holds_a_recipe_whole(self):
        recipe = Recipe()
        for key, info in settings().items():
            recipe = with_values(recipe, {key: another(info)})
        form = MultiDict(form_values(recipe))
        self.assertEqual(set(form), set(settings()))
        again = recipe_of(form).flat()
        for key, value in recipe.flat().items():
            # A form shows six digits.
            self.assertTrue(again[key] == value or math.isclose(again[key], value, rel_tol=1e-5), key)
        self.assertEqual(recipe_of(MultiDict()), Recipe())

    def test_settings_that_need_others_stand_behind_a_question(self):
        for key, info in settings().items():
            self.assertIn(key.split(".")[0], QUESTIONS)
            for needed, values in info.needs.items():
                for one in needed.split("|"):
                    known = settings()[one]
                    for value in values:
                        self.assertTrue(not known.choices or value in known.choices, (key, one, value))


class EditsTest(unittest.TestCase):
    NAMES = {"light": "/Shot/Key.1", "object": "/Shot/Wall", "card": "Flag", "camera": "Close", "scene": "whole"}

    def each(self):
        for group, fields in SETTINGS.items():
            for field, about in fields.items():
                yield f"{group}.{self.NAMES[group]}.{field}", field, about

    def test_keys_come_apart_as_they_were_put_together(self):
        for key, field, _ in self.each():
            with self.subTest(key):
                group, name, found = split_key(key)
                self.assertEqual((f"{group}.{name}.{found}", found), (key, field))
                self.assertIn(group, GROUPS)

    def test_ends_of_each_range_are_taken_and_taken_back(self):
        for key, _, about in self.each():
            if about.type not in NUMBERS:
                continue
            for value in (about.maximum, (about.minimum + about.maximum) / 2.0):
                value = int(value) if about.type == "integer" else value
                with self.subTest(key=key, value=value):
                    edits = with_edits(Edits(), {key: value})
                    self.assertEqual(edits.flat()[key], value)
                    self.assertEqual(with_edits(Edits(), {key: str(value)}), edits)
                    self.assertEqual(of_scene.from_json(of_scene.to_json(edits)), edits)
                    self.assertEqual(with_edits(edits, {key: ""}), Edits())
                    self.assertEqual(of_scene.difference(Edits(), edits), [(key, None, value)])

    def test_what_lies_beyond_is_refused_with_its_range(self):
        for key, _, about in self.each():
            if about.type not in NUMBERS:
                continue
            over = about.maximum + max(1.0, 1e-3 * about.maximum)
            for value in (int(over) if about.type == "integer" else over, "some", math.nan):
                with self.subTest(key=key, value=value):
                    text = refused(self, with_edits, Edits(), {key: value})
                    self.assertIn(key, text)
                    self.assertIn(f"{about.minimum:g} to {about.maximum:g}", text)

    def test_switches_choices_and_colours(self):
        for key, _, about in self.each():
            with self.subTest(key):
                if about.type == "choice":
                    for choice in about.choices:
                        self.assertEqual(with_edits(Edits(), {key: choice}).flat()[key], choice)
                    self.assertIn(about.choices[0], refused(self, with_edits, Edits(), {key: "otherwise"}))
                elif about.type == "switch":
                    self.assertIs(with_edits(Edits(), {key: "off"}).flat()[key], False)
                    self.assertIn("on or off", refused(self, with_edits, Edits(), {key: "perhaps"}))
                elif about.type == "three":
                    self.assertEqual(with_edits(Edits(), {key: "1, 0.5,0.25"}).flat()[key], "1,0.5,0.25")
                    for wrong in ("1,2", "1,2,3,4", "red"):
                        self.assertIn("three numbers", refused(self, with_edits, Edits(), {key: wrong}))
                self.assertTrue(about.range_in_words)
                self.assertEqual(about.phrase.count("{}"), 1)

    def test_a_key_that_is_nearly_right_is_offered(self):
        for wrong, offered in (("light.Key.intensty", "light.Key.intensity"), ("object.Wall.thicknes", "object.Wall.thickness")):
            self.assertIn(offered, refused(self, split_key, wrong))
        self.assertIn("scene.whole.scale", refused(self, split_key, "scene.part.scale"))
        self.assertIn("There is no setting", refused(self, split_key, "lamp.Key.intensity"))

    def test_recipe_and_edits_come_apart(self):
        values = {"sampling.max": 4, "light.Key.on": False, "scene.whole.scale": 2.0, "gi.seen": "off"}
        recipe, edits = apart(values)
        self.assertEqual((set(recipe), set(edits)), ({"sampling.max", "gi.seen"}, {"light.Key.on", "scene.whole.scale"}))

    def test_edits_laid_over_each_other_end_where_they_began(self):
        steps = [{"light.Key.intensity": 2.0}, {"light.Key.on": False, "object.Wall.camera": False}, {"light.Key.intensity": ""}]
        made = [Edits()]
        for step in steps:
            made.append(with_edits(made[-1], step))
        for before, after in pairwise(made):
            back = {key: "" if old is None else old for key, old, _ in of_scene.difference(before, after)}
            self.assertEqual(with_edits(after, back), before)


if __name__ == "__main__":
    unittest.main()
