"""The library as a pipeline script uses it, and the examples."""

import contextlib
import csv
import io
import json
import runpy
import subprocess
import sys
import tempfile
import textwrap
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

import sivrel
from sivrel.core.pictures.exr import read_exr
from sivrel.core.render.recipe import to_json

EXAMPLES = Path(__file__).parent.parent / "examples"
SIZE = (64, 36)


class Library(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.shot = sivrel.open("demo:slipway")

    def test_importing_it_loads_nothing_and_writes_nothing(self):
        code = "import sys, sivrel; print([m for m in ('numpy', 'numba', 'pxr', 'flask', 'pydantic') if m in sys.modules]); print(len(dir(sivrel)))"
        with tempfile.TemporaryDirectory() as home:
            done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env={"HOME": home, "XDG_CACHE_HOME": home})
            self.assertEqual(list(Path(home).iterdir()), [])
        self.assertEqual(done.stdout.splitlines()[0], "[]", done.stderr)
        for name in sivrel.__all__:
            self.assertTrue(getattr(sivrel, name))
        with self.assertRaises(AttributeError):
            sivrel.nothing  # noqa: B018

    def test_a_render_has_passes_and_measurements_and_is_saved_whole(self):
        heard = []
        picture = self.shot.render({"sampling.max": 4}, size=SIZE, progress=lambda what, share: heard.append((what, share)))
        self.assertEqual(picture.passes["beauty"].shape, (36, 64, 4))
        self.assertGreater(picture.noise.level, 0.0)
        self.assertEqual(heard[-1][1], 1.0)
        self.assertEqual({row.name for row in picture.lights} & {"NoonSun"}, {"NoonSun"})
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "a.exr"
            picture.save(path)
            np.testing.assert_array_equal(read_exr(path).beauty, picture.passes["beauty"])
            self.assertEqual([file.name for file in Path(folder).iterdir()], ["a.exr"])
            with self.assertRaisesRegex(sivrel.InputError, "name it a.exr"):
                picture.save(Path(folder) / "a.png")

    def test_recipes_and_edits_are_taken_in_every_form(self):
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "r.json"
            file.write_text(to_json(sivrel.recipe("exterior")))
            self.assertEqual(sivrel.recipe(file), sivrel.recipe("exterior"))
        made, edits = sivrel.recipe_and_edits({"sampling.max": 3, "light.NoonSun.angle": 2.0}, values={"sampling.max": "5"})
        self.assertEqual((made.sampling.max, edits.flat()), (5, {"light.NoonSun.angle": 2.0}))
        for wrong, part in (("none", "There is no recipe"), ({"sampling.maxi": 4}, "Did you mean"), ({"light.NoonSun.angle": 2.0}, "is an edit")):
            with self.assertRaisesRegex(sivrel.InputError, part):
                sivrel.recipe(wrong)

    def test_what_is_called_off_raises(self):
        cancel = sivrel.Cancel()
        with self.assertRaises(sivrel.Cancelled):
            self.shot.render({"sampling.max": 4000}, size=SIZE, progress=lambda what, share: cancel.set(), cancel=cancel)
        self.assertTrue(issubclass(sivrel.Cancelled, sivrel.SivrelError) and issubclass(sivrel.InputError, sivrel.SivrelError))

    def test_a_time_decides_in_place_of_samples(self):
        picture = self.shot.render({"sampling.max": 1}, size=SIZE, seconds=0.2)
        self.assertEqual(picture.passes["samples"].min(), picture.passes["samples"].max())

    def test_caches_in_a_folder_are_found_by_another_shot(self):
        recipe = {"gi.seen": "photon_map", "photon_map.count": 2000, "sampling.max": 1}
        with tempfile.TemporaryDirectory() as folder:
            made = [sivrel.open("demo:slipway", caches=folder).render(recipe, size=SIZE).measured["meters"]["ways"][0]["made"] for _ in range(2)]
        self.assertEqual(made, [True, False])

    def test_compare_takes_renders_pictures_and_files(self):
        one = self.shot.render({"sampling.max": 2, "gi.seen": "off"}, size=SIZE)
        other = self.shot.render({"sampling.max": 2}, size=SIZE)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "b.exr"
            other.save(path)
            self.assertEqual(sivrel.compare(one, path).difference, sivrel.compare(one.picture, other).difference)
        self.assertEqual(sivrel.compare(one, other).difference.changed, [("gi.seen", "off", "brute_force")])

    def test_diagnose_tries_causes_on_a_render_of_the_shot(self):
        picture = self.shot.render({"sampling.max": 2}, size=(96, 54))
        found = self.shot.diagnose(picture, seconds=4.0).findings
        grain = next(finding for finding in found if finding.kind == "grain")
        self.assertTrue(grain.trials and grain.remedies)
        weak = sivrel.diagnose(sivrel.Picture({"beauty": picture.passes["beauty"]}, picture.picture.frame))
        self.assertTrue(all(finding.weak and not finding.trials for finding in weak.findings))


class Examples(unittest.TestCase):
    def run_example(self, name: str, *arguments: str) -> tuple[str, int]:
        out, code = io.StringIO(), 0
        with mock.patch.object(sys, "argv", [name, *arguments]), contextlib.redirect_stdout(out):
            try:
                runpy.run_path(str(EXAMPLES / f"{name}.py"), run_name="__main__")
            except SystemExit as ended:
                code = int(ended.code or 0)
        return out.getvalue(), code

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_the_script_of_the_readme(self):
        text = (EXAMPLES.parent / "README.md").read_text().partition("## Library")[2]
        script = textwrap.dedent("\n".join(line for line in text.partition("\n## ")[0].splitlines() if line.startswith("    ")))
        self.assertLessEqual(len(script.splitlines()), 10)
        script = script.replace('"kitchen.usdc"', '"demo:slipway"').replace("64", "2")
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, cwd=self.folder)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertTrue(done.stdout.strip().endswith("."), done.stdout)
        self.assertEqual(read_exr(self.folder / "cached.exr").recipe.gi.seen, "irradiance_cache")
        self.assertIn("brute.exr", {file.name for file in self.folder.iterdir()})

    def test_compare_recipes(self):
        said, _ = self.run_example("compare_recipes", "demo:slipway", str(self.folder), "48x27")
        self.assertTrue(said.strip().endswith("."))
        self.assertEqual(json.loads((self.folder / "comparison.json").read_text())["changed"], [["gi.seen", "brute_force", "irradiance_cache"]])

    def test_survey_and_fix(self):
        said, _ = self.run_example("survey_and_fix", "demo:keepers-kitchen", str(self.folder / "fixed.glb"))
        self.assertIn("taken: ", said)
        self.assertEqual((self.folder / "fixed.glb").read_bytes()[:4], b"glTF")

    def test_lights_apart(self):
        self.run_example("lights_apart", "demo:slipway", str(self.folder), "48x27")
        lights = {light.name for light in sivrel.open("demo:slipway").scene.lights}
        self.assertEqual({file.stem for file in self.folder.iterdir()}, lights)

    def test_gate(self):
        said, code = self.run_example("gate", "demo:slipway", "64x36", "0.1")
        self.assertEqual(code, len([line for line in said.splitlines() if not line.startswith("  ")]))

    def test_enough_samples(self):
        self.run_example("enough_samples", "demo:slipway", str(self.folder / "e.csv"), "64x36")
        with (self.folder / "e.csv").open() as file:
            rows = list(csv.DictReader(file))
        self.assertEqual([row["samples"] for row in rows], ["2", "4", "8", "16"])
        self.assertLess(float(rows[-1]["noise"]), float(rows[0]["noise"]))

    def test_camera_move(self):
        self.run_example("camera_move", "demo:slipway", str(self.folder), "2", "48x27")
        first, second = (read_exr(self.folder / f"move.{k:04}.exr") for k in range(2))
        self.assertNotEqual(first.edits, second.edits)
        self.assertEqual(first.camera, "move")


if __name__ == "__main__":
    unittest.main()
