"""Keys of the pages: no two commands share one, none needs Shift, and own ones from a file."""

import json
import tempfile
import unittest
from pathlib import Path

from sivrel.web.keys.own import CHANGEABLE, clashes_in, keys_of, read_own
from sivrel.web.keys.pages import PAGES


class Keys(unittest.TestCase):
    def own(self, text: str) -> tuple[dict[str, tuple[str, ...]], tuple[str, ...]]:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "keys.json"
            path.write_text(text)
            return read_own(path)

    def test_every_key_is_on_every_keyboard_without_shift(self):
        for page in PAGES:
            found = keys_of(page)
            self.assertEqual(found.problems, (), page)
            for command in found.commands:
                for key in command.keys:
                    self.assertRegex(
                        key, "^([a-z0-9]( [a-z0-9])?|Ctrl z|Enter|Escape|Space|Arrow(Up|Down|Left|Right)|Home|End|Page(Up|Down)|Delete)$"
                    )

    def test_a_key_that_begins_two_is_none_itself(self):
        by_name = keys_of("bench").by_name
        self.assertIn("begins", clashes_in([by_name["wipe"], by_name["findings"], by_name["ladder"], type(by_name["wipe"])("x", ("j",), "")])[0])
        self.assertIn("would be both", clashes_in([by_name["wipe"], type(by_name["wipe"])("x", ("w",), "")])[0])

    def test_what_is_wrong_in_a_file_is_said_and_the_rest_applies(self):
        own, problems = self.own(json.dumps({"wipe": "x x", "paper": "p", "flip": 3, "star": ["m s", "9"]}))
        self.assertEqual(own, {"wipe": ("x x",), "star": ("m s", "9")})
        self.assertEqual(len(problems), 2)
        self.assertIn("no command 'paper' that can be changed", problems[0])
        for text in ("[1]", "{", "\xff"):
            with self.subTest(text):
                own, problems = self.own(text)
                self.assertEqual((own, len(problems)), ({}, 1))

    def test_a_file_that_clashes_on_a_page_is_set_aside_there(self):
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "keys.json").write_text('{"wipe": "d"}')
            found = keys_of("bench", Path(folder))
            self.assertEqual(found.by_name["wipe"].keys, ("w",))
            self.assertIn("'d' would be both 'wipe' and 'difference'", found.problems[0])
            self.assertEqual(keys_of("tune", Path(folder)).problems, ())
        self.assertIn("wipe", CHANGEABLE)
        self.assertNotIn("undo", CHANGEABLE)
