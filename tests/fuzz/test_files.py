"""Mutated files of every format, some each time; `make fuzz` tries thousands."""

import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from sivrel.core.errors import InputError
from sivrel.core.formats.scenes import read_scene
from sivrel.work.facts import facts_of
from sivrel.work.looking_in import inspect_sandboxed

from .files import USDA, make_seeds, run_format

EACH = 12


class Mutants(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = tempfile.TemporaryDirectory()
        cls.seeds = Path(cls.folder.name) / "seeds"
        cls.seeds.mkdir()
        cls.formats = make_seeds(cls.seeds)

    @classmethod
    def tearDownClass(cls):
        cls.folder.cleanup()

    def test_the_seeds_themselves_are_read(self):
        for form, (_, opened) in self.formats.items():
            with self.subTest(form):
                result = inspect_sandboxed(self.seeds / opened, self.seeds)
                self.assertGreaterEqual(result["triangles"], 4)

    def test_every_format(self):
        for form, (mutated, opened) in self.formats.items():
            with self.subTest(form):
                tally = run_format(self.seeds, mutated, opened, EACH, seed=3)
                self.assertEqual(tally.failures, [])
                self.assertEqual(tally.read + tally.refused, EACH)


def told_of(path: Path, folder: Path) -> dict:
    return facts_of(read_scene(path, confine_to=folder))


class OddNumbers(unittest.TestCase):
    """Numbers that a file can spell and no light can be computed with: the scene comes without what they belong to, which a note names."""

    CASES = {
        "focalLength = 18": ("focalLength = nan", "camera Eye"),
        "fStop = 2.8": ("fStop = 1e-320", ""),
        "inputs:intensity = 20": ("inputs:intensity = inf", "light Lamp"),
        "inputs:exposure = 1": ("inputs:exposure = 1e30", "light Lamp"),
        "inputs:radius = 0.1": ("inputs:radius = inf", "light Ball"),
        "inputs:width = 1": ("inputs:width = nan", "light Lamp"),
        "cone:angle = 60": ("cone:angle = nan", "light Lamp"),
        "(0, 2.5, 0)": ("(0, 1e300, 0)", "light Lamp"),
        "(0, 1, 5)": ("(nan, 1, 5)", "camera Eye"),
        "(-90, 0, 0)": ("(inf, 0, 0)", "light Lamp"),
        "inputs:roughness = 0.3": ("inputs:roughness = nan", "material M"),
        "emissiveColor = (0.1, 0.1, 0.1)": ("emissiveColor = (inf, 0.1, 0.1)", "material M"),
        "inputs:scale = (1, 1, 1, 1)": ("inputs:scale = (nan, 1, 1, 1)", "material M"),
        'xformOpOrder = ["xformOp:translate", "xformOp:rotateXYZ"]': (
            'xformOpOrder = ["xformOp:translate", "xformOp:scale"]\n        double3 xformOp:scale = (0, 0, 0)', "light Lamp",
        ),
    }  # fmt: skip

    def setUp(self):
        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        self.folder = Path(made.name)
        make_seeds(self.folder)

    def test_each_is_named(self):
        for plain, (odd, named) in self.CASES.items():
            self.assertIn(plain, USDA)
            (self.folder / "odd.usda").write_text(USDA.replace(plain, odd))
            with self.subTest(odd):
                result = told_of(self.folder / "odd.usda", self.folder)
                self.assertIn(named, " ".join(result["notes"]))

    def test_one_pixel_of_a_panorama(self):
        import numpy as np

        from sivrel.core.pictures.exr import Picture, write_exr
        from sivrel.core.render.frame import Frame

        for wrong in (np.nan, np.inf, -np.inf):
            texels = np.full((8, 16, 4), 0.5, np.float32)
            texels[3, 5, 1] = wrong
            write_exr(self.folder / "sky.exr", Picture({"beauty": texels}, Frame(16, 8)))
            result = told_of(self.folder / "exr.usda", self.folder)
            self.assertIn("One pixel of the picture of the light Sky is not finite", " ".join(result["notes"]))

    def test_a_panorama_that_can_be_decoded_in_part_is_damaged(self):
        path = self.folder / "sky.exr"
        result = bytearray(path.read_bytes())
        result[-40:-8] = b"\xff" * 32
        path.write_bytes(result)
        found = inspect_sandboxed(self.folder / "exr.usda", self.folder)  # by the process whose standard output is the answer
        self.assertGreater(found["triangles"], 4)
        self.assertIn("sky.exr is not an OpenEXR picture, or it is damaged", " ".join(found["notes"]))


class Confined(unittest.TestCase):
    """Whatever a file names, nothing outside its folder is read."""

    def setUp(self):
        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        self.outer = Path(made.name)
        self.inner = self.outer / "in"
        self.inner.mkdir()
        make_seeds(self.outer)
        shutil.copy(self.outer / "a.usda", self.outer / "secret.usda")
        from pxr import Sdf, UsdUtils

        UsdUtils.CreateNewUsdzPackage(Sdf.AssetPath(str(self.outer / "secret.usda")), str(self.outer / "secret.usdz"))
        self.package = next(name for name in ("secret.usda", "0/secret.usda") if name)

    def write(self, head: str, body: str) -> Path:
        path = self.inner / "a.usda"
        triangle = USDA.split('def Mesh "Floor"')[1].split("rel material")[0]
        path.write_text(f'#usda 1.0\n(\n{head}\n)\ndef Mesh "Own"{triangle}    }}\n{body}\n')
        return path

    def test_every_way_out_is_refused(self):
        secret, zipped = self.outer / "secret.usda", f"{self.outer}/secret.usdz[{self.package}]"
        targets = [
            str(secret),
            "../secret.usda",
            zipped,
            f"../secret.usdz[{self.package}]",
            str(self.outer / "secret.usdz"),
            "./../in/../secret.usda",
        ]
        for target in targets:
            for head, body in (
                ("", f'def "A" (references = @{target}@</W>) {{\n}}'),
                ("", f'def "A" (payload = @{target}@</W>) {{\n}}'),
                (f"    subLayers = [@{target}@]", ""),
                (
                    "",
                    'def "A" (variants = {string v = "x"}\n prepend variantSets = "v") {\n'
                    f' variantSet "v" = {{\n "x" (references = @{target}@</W>) {{\n}}\n}}\n}}',
                ),
            ):
                with self.subTest(f"{target} {head or body[:20]}"), self.assertRaisesRegex(InputError, "not given with it"):
                    told_of(self.write(head, body), self.inner)

    def test_expressions_are_refused(self):
        path = self.write('    expressionVariables = {\n string X = "../secret.usda"\n }', 'def "A" (references = @`"${X}"`@</W>) {\n}')
        with self.assertRaisesRegex(InputError, "expression"):
            told_of(path, self.inner)

    def test_a_link_out_of_the_folder(self):
        (self.inner / "link.usda").symlink_to(self.outer / "secret.usda")
        with self.assertRaisesRegex(InputError, "not given with it"):
            told_of(self.write("", 'def "A" (references = @link.usda@</W>) {\n}'), self.inner)

    def test_layers_of_the_folder_and_of_its_packages_are_read(self):
        shutil.copy(self.outer / "secret.usdz", self.inner / "own.usdz")
        for name in ("wood.png", "sky.hdr", "lamp.ies", "secret.usda"):
            shutil.copy(self.outer / name, self.inner / name)
        alone = told_of(self.write("", ""), self.inner)["triangles"]
        for target in ("secret.usda", "own.usdz", f"own.usdz[{self.package}]"):
            result = told_of(self.write("", f'def "A" (references = @{target}@</W>) {{\n}}'), self.inner)
            self.assertGreater(result["triangles"], alone, target)

    def test_pictures_outside_are_noted_and_not_read(self):
        (self.inner / "b.usda").write_text(USDA.replace("wood.png", "../wood.png").replace("sky.hdr", str(self.outer / "sky.hdr")))
        notes = " ".join(told_of(self.inner / "b.usda", self.inner)["notes"])
        self.assertEqual(notes.count("was not given with the scene"), 2)


class CommandLine(unittest.TestCase):
    def test_who_stops_reading_is_no_fault(self):
        command = f"{sys.executable} -m sivrel recipes | head -n 1"
        done = subprocess.run(["bash", "-c", f"set -o pipefail; {command}"], capture_output=True, text=True)
        self.assertEqual((done.stderr, done.returncode), ("", 0))
        self.assertTrue(done.stdout)


if __name__ == "__main__":
    unittest.main()
