"""Numbers and names that nothing can be computed with: rays, recipes, edits and scenes refuse them or are without them, and everything ends."""

import json
import unittest

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from sivrel.core.edits import edits
from sivrel.core.errors import LONGEST, InputError, did_you_mean
from sivrel.core.json_text import parse_json
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, from_json, to_json, with_values
from sivrel.core.render.recipe import settings as recipe_settings
from sivrel.core.scene.model import Scene
from sivrel.core.scene.sanitize import check_extent
from sivrel.core.trace.bvh import build_bvh
from sivrel.core.trace.traverse import NO_HIT, any_hits, closest_hits
from tests.scenes import box_inside, lambert, looking_down, sky

ODD = [float("nan"), float("inf"), float("-inf"), 1e300, -1e300, 3.4e38, 1e-320, 0.0, -0.0, 1.0, -1.0]
TEXTS = ["nan", "inf", "-inf", "1e400", "1e300", "-1e300", "", " ", "²", "x" * 5000, "[1]", "1,2", "nan,nan,nan", "1e300,0,0", "\ud800", "\0", "true"]
QUIET = settings(max_examples=300, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)


class Rays(unittest.TestCase):
    """Every ray ends, whatever it is made of, and those that are no rays meet nothing."""

    def hierarchies(self):
        rng = np.random.default_rng(1)
        for count in (0, 1, 3, 9, 500):
            yield build_bvh(rng.random((count, 3, 3)).astype(np.float32))

    def test_rays_of_odd_numbers(self):
        rng = np.random.default_rng(2)
        with np.errstate(over="ignore"):
            rays = np.concatenate(
                [rng.choice(ODD, (4000, 6)), np.where(rng.random((4000, 6)) < 0.2, rng.choice(ODD, (4000, 6)), rng.random((4000, 6)))]
            )
            rays = rays.astype(np.float32)
        origins, directions = np.ascontiguousarray(rays[:, :3]), np.ascontiguousarray(rays[:, 3:])
        unusable = ~np.isfinite(rays).all(axis=1)
        for bvh in self.hierarchies():
            for near, far in ((0.0, 1e30), (0.0, np.inf), (np.nan, 1.0), (0.0, np.nan), (-np.inf, np.inf)):
                hits, _ = closest_hits(bvh, origins, directions, np.float32(near), np.float32(far))
                self.assertTrue((hits[unusable] == NO_HIT).all())
                self.assertFalse(any_hits(bvh, origins, directions, np.float32(near), np.float32(far))[unusable].any())

    def test_a_ray_without_direction_meets_nothing(self):
        bvh = build_bvh(np.random.default_rng(1).random((50, 3, 3)).astype(np.float32))
        hits, _ = closest_hits(bvh, np.full((1, 3), 0.5, np.float32), np.zeros((1, 3), np.float32), np.float32(0.0), np.float32(1e30))
        self.assertEqual(hits[0], NO_HIT)


class Recipes(unittest.TestCase):
    def test_every_setting_holds_a_finite_number_of_its_range(self):
        for key, info in recipe_settings().items():
            for value in [*ODD, *TEXTS]:
                try:
                    got = with_values(Recipe(), {key: value}).flat()[key]
                except InputError:
                    continue
                if info.type in ("number", "integer"):
                    self.assertTrue(np.isfinite(got) and info.minimum <= got <= info.maximum, f"{key} = {value!r}")
                else:
                    self.assertIn(got, info.choices)

    @QUIET
    @given(
        st.recursive(
            st.none() | st.booleans() | st.floats() | st.integers() | st.text(), lambda inner: st.lists(inner) | st.dictionaries(st.text(), inner)
        )
    )
    def test_any_json(self, value):
        for result in (value, {"version": 1, "sampling": value}, {"version": value}):
            text = json.dumps(result)
            for read in (from_json, edits.from_json):
                try:
                    made = read(text)
                except InputError as error:
                    self.assertLessEqual(len(str(error)), LONGEST)
                    self.assertNotIn("\n", str(error))
                    continue
                written = to_json(made) if read is from_json else edits.to_json(made)
                self.assertEqual(read(written), made)

    def test_json_that_no_reader_should_follow(self):
        for text in (
            "[" * 100_000,
            '{"a":' * 5000,
            "NaN",
            "[Infinity]",
            "1e999",
            '"\\ud800"',
            '{"\\udfff": 1}',
            '"\\u0000"',
            "9" * 5000,
            b"\xff\xfe",
            "",
        ):
            with self.assertRaisesRegex(InputError, "^no$"):
                parse_json(text, "no")
        self.assertEqual(parse_json('{"a": [1, 2.5, "\\u00e9", null]}', ""), {"a": [1, 2.5, "é", None]})

    def test_a_suggestion_takes_no_time_in_proportion_to_what_is_given(self):
        self.assertEqual(did_you_mean("x" * 1_000_000, (f"name{k}" for k in range(10_000_000))), "")
        self.assertIn("sampling.max", did_you_mean("sampling.mx", recipe_settings()))


class Edits(unittest.TestCase):
    def test_every_edit_holds_finite_numbers(self):
        for group, fields in edits.SETTINGS.items():
            for field in fields:
                for value in [*ODD, *TEXTS]:
                    key = f"{group}.{edits.WHOLE if group == 'scene' else 'Name'}.{field}"
                    try:
                        flat = edits.with_edits(edits.Edits(), {key: value}).flat()
                    except InputError as error:
                        self.assertNotIn("\n", str(error))
                        continue
                    for got in flat.values():
                        if isinstance(got, float):
                            self.assertTrue(np.isfinite(got), f"{key} = {value!r}")
                        got if not isinstance(got, str) else got.encode()

    def test_names_that_no_file_can_hold(self):
        for name in ("\ud800", "a\0b", "x" * 5000):
            with self.assertRaises(InputError):
                edits.with_edits(edits.Edits(), {f"light.{name}.kind": "rect"})

    def test_edits_that_make_a_scene_too_large_are_refused(self):
        scene = Scene("box", [box_inside(1e4)], [lambert(0.5)], [sky()], [looking_down()])
        for values in ({"scene.whole.scale": 1e6}, {"camera.a.at": "1e7,0,0", "camera.a.towards": "0,0,0", "scene.whole.scale": 1e5}):
            with self.assertRaisesRegex(InputError, "With these edits"):
                prepare(scene, with_values(Recipe(), {"gi.seen": "off"}), edits.with_edits(edits.Edits(), values))
        check_extent(scene)


if __name__ == "__main__":
    unittest.main()
