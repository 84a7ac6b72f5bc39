"""Stored data outlive versions: toy steps take recipes, findings and tunings of today into a format of tomorrow."""

import json
import unittest
from dataclasses import replace
from unittest import mock

from sivrel.core import stored
from sivrel.core.edits import edits as edits_module
from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.errors import InputError
from sivrel.core.render import recipe as recipes
from sivrel.core.render.recipe import Recipe, from_json, to_json, with_values
from sivrel.core.stored import Format, renamed, retired


class Steps(unittest.TestCase):
    def test_data_of_each_version_come_to_the_newest(self):
        form = Format("note", (lambda data: {**data, "b": data["a"]}, lambda data: {**data, "c": data["b"] + 1}))
        self.assertEqual(form.version, 3)
        for data in ({"a": 1}, {"version": 1, "a": 1}, {"version": 2, "a": 1, "b": 1}, form.stamp({"a": 1, "b": 1, "c": 2})):
            self.assertEqual(form.upgrade(data), {"a": 1, "b": 1, "c": 2})

    def test_newer_and_damaged_data_are_refused_in_a_sentence(self):
        for data, part in (
            ({"version": 4}, "newer Sivrel"),
            ({"version": "x"}, "whole numbers"),
            ({"version": True}, "whole numbers"),
            ([], "damaged"),
        ):
            with self.assertRaisesRegex(InputError, part):
                Format("note", (dict, dict)).upgrade(data)

    def test_keys_are_renamed_and_retired(self):
        step, drop = renamed("limits.old", "sampling.new"), retired("limits.gone")
        data = {"limits": {"old": 3, "gone": 1, "kept": 2}}
        self.assertEqual(drop(step(data)), {"limits": {"kept": 2}, "sampling": {"new": 3}})
        self.assertEqual(drop(step({"sampling": {}})), {"sampling": {}})


class Upgraded(unittest.TestCase):
    """What was stored before a setting was renamed is read after it, and what is written then says so."""

    def test_recipes_of_version_1_traced_wide_gloss(self):
        old = {"gi": {"seen": "irradiance_cache", "beyond": "radiance_cache"}}
        self.assertEqual(from_json(json.dumps(old)).gi.gloss, "traced")
        self.assertEqual(from_json(json.dumps({**old, "version": 2})).gi.gloss, "looked_up")
        self.assertEqual(from_json(to_json(Recipe())), Recipe())

    def test_recipes_of_version_3_had_caustics_on_diffuse_surfaces_only(self):
        old = {"version": 3, "caustics": {"on": "yes"}}
        self.assertEqual(from_json(json.dumps(old)).of("caustics").gloss, 1.0)
        for other in ({**old, "version": 4}, {**old, "caustics": {"on": "no"}}):
            self.assertEqual(from_json(json.dumps(other)).of("caustics").gloss, Recipe().of("caustics").gloss)

    def test_a_recipe_and_edits_of_before_a_change(self):
        step = (*stored.RECIPE.steps, renamed("limits.roof", "limits.indirect_clamp"))
        now = stored.RECIPE.version
        old = json.dumps({"version": now, "limits": {"roof": 0.5}})
        with self.assertRaises(InputError):
            from_json(old)
        with mock.patch.object(recipes, "RECIPE", replace(stored.RECIPE, steps=step)):
            made = from_json(old)
            self.assertEqual(made, with_values(Recipe(), {"limits.indirect_clamp": 0.5}))
            self.assertEqual(json.loads(to_json(made))["version"], now + 1)
            self.assertEqual(from_json(to_json(made)), made)
        with self.assertRaisesRegex(InputError, "newer Sivrel"):
            from_json(json.dumps({"version": now + 1}))
        lit = with_edits(Edits(), {"light.Lamp.intensity": 3.0})
        plain = edits_module.to_json(lit)
        self.assertNotIn("version", plain)
        with mock.patch.object(edits_module, "EDITS", replace(stored.EDITS, steps=(dict,))):
            self.assertEqual(edits_module.from_json(plain), lit)
            newer = edits_module.to_json(lit)
            self.assertEqual(edits_module.from_json(newer), lit)
        with self.assertRaisesRegex(InputError, "newer Sivrel"):
            edits_module.from_json(newer)


if __name__ == "__main__":
    unittest.main()
