"""The first start, with no compiled kernels: the page opens at once, and what is needed is compiled first."""

import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from tests.browser.test_bench import BrowserTest


class FirstStart(BrowserTest):
    @classmethod
    def setUpClass(cls):
        cls.kernels = tempfile.TemporaryDirectory()
        with mock.patch.dict(os.environ, {"XDG_CACHE_HOME": cls.kernels.name}):  # of the program alone
            super().setUpClass()

    @classmethod
    def tearDownClass(cls):
        super().tearDownClass()
        cls.kernels.cleanup()

    def status(self) -> dict:
        return self.page.evaluate("() => fetch('/status.json').then((answer) => answer.json())")

    def small(self, way: str) -> int:
        self.page.select_option("[name='gi.seen']", way)
        for name, value in (("width", "96"), ("height", "54"), ("sampling.max", "2")):
            self.set(name, value)
        return self.prove()

    def test_a_first_proof_comes_while_later_ways_are_compiled_and_one_that_is_chosen_is_waited_for(self):
        page = self.page
        self.open("slipway")  # a proof that ships, while paths are still compiled
        self.assertIn(self.status()["worker"]["phase"], ("absent", "compiling"))
        first = self.small("brute_force")
        self.wait("document.getElementById('progress-text').textContent.includes('kernels')")
        self.wait(f"sivrel.chosen.a.id === {first} && sivrel.chosen.a.picture")
        self.assertIn("compiling", self.status()["worker"]["warming"])
        page.wait_for_function("() => document.getElementById('status').textContent.includes('all ready in about')")
        compiled = {path.name.split("-")[0] for path in (Path(self.kernels.name) / "sivrel" / "kernels").glob("*.kernel")}
        self.assertIn("trace_paths", compiled)
        # The bake is compiled last but one; asked for now, it is compiled now.
        second = self.small("baked")
        self.wait("document.getElementById('progress-text').textContent.startsWith('compiling a bake')")
        self.wait(f"sivrel.chosen.a.id === {second} && sivrel.chosen.a.picture")


del BrowserTest


if __name__ == "__main__":
    unittest.main()
