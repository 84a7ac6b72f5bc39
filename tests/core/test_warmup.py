"""Compiling ahead: stages in the order of need, calls by address, and compiled kernels as a file."""

import json
import os
import subprocess
import sys
import tempfile
import threading
import unittest
import zipfile
from pathlib import Path

import numpy as np
from numba import types

from sivrel.core.by_address import address_of, calling
from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.errors import InputError
from sivrel.core.kernel import called_kernel
from sivrel.core.kernel_archive import MACHINE, export_kernels, import_kernels
from sivrel.core.kernel_cache import keep_kernels_in, kernel_folder
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.warmup import DEPTH_MAPS, PATHS, STAGES, Warming, is_warm, stages_of, warm_up

PAIR = types.UniTuple(types.float64, 2)
call = calling(PAIR, {1: types.float64})


@called_kernel
def sum_and_product(a, b):
    return a + b, a * b


@called_kernel
def difference_and_quotient(a, b):
    return a - b, a / b


@called_kernel
def called_at(address, a, b):
    return call(address, (a, b))


@called_kernel
def called_wrongly(address, a, b):
    return call(address, (a, np.float32(b)))


class ByAddress(unittest.TestCase):
    def test_each_address_is_its_own_kernel(self):
        kinds = (types.float64, types.float64)
        for kernel, expected in ((sum_and_product, (8.0, 12.0)), (difference_and_quotient, (4.0, 3.0))):
            self.assertEqual(called_at(address_of(kernel, kinds), 6.0, 2.0), expected)

    def test_wrong_types_are_refused_when_the_caller_is_compiled(self):
        address = address_of(sum_and_product, (types.float64, types.float64))
        with self.assertRaisesRegex(Exception, "float32 instead of float64"):
            called_wrongly(address, 6.0, 2.0)


LOOKUPS_OF = """
import sys
from sivrel.core.formats.scenes import read_scene
from sivrel.core.gi.ways import LOOKUPS, lookup_address
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.render.memory import make_memory
from sivrel.demo.shots import find_shot
arrays = pack_scene(read_scene(find_shot("demo:slipway")))
for key in sys.argv[1:]:
    lookup_address(key, arrays, make_memory(arrays.slots))
    print(*(compiled.fndesc.llvm_func_name for compiled in LOOKUPS[key].overloads.values()))
"""


class FromTheCache(unittest.TestCase):
    def names(self, folder: str, *keys: str) -> list[str]:
        """Names of the machine code of lookups, in a process of its own with the kernels of `folder`."""
        environment = {**os.environ, "XDG_CACHE_HOME": folder}
        return subprocess.run([sys.executable, "-c", LOOKUPS_OF, *keys], env=environment, capture_output=True, text=True, check=True).stdout.split()

    def test_lookups_that_different_processes_compiled_keep_different_names(self):
        keys = ("radiance_cache", "baked")
        with tempfile.TemporaryDirectory() as folder:
            self.names(folder)  # what both need is compiled, so that both processes begin alike
            apart = [name for key in keys for name in self.names(folder, key)]
            self.assertEqual(self.names(folder, *keys), apart)
            self.assertEqual(len(set(apart)), len(keys))

    def test_two_kernels_of_one_name_are_refused(self):
        def made(number):
            @called_kernel
            def added(a):
                return a + number

            return added

        made(1)
        with self.assertRaisesRegex(TypeError, "give each a name"):
            made(2)


class Stages(unittest.TestCase):
    def test_a_render_needs_the_paths_and_what_its_recipe_uses(self):
        self.assertEqual(stages_of(Recipe(), Edits()), [PATHS])
        cached = with_values(Recipe(), {"gi.seen": "irradiance_cache", "gi.beyond": "radiance_cache", "caustics.on": "yes"})
        self.assertEqual(set(stages_of(cached, Edits())), {PATHS, "irradiance_cache", "radiance_cache", "caustics"})
        self.assertEqual(stages_of(cached, Edits())[0], PATHS)
        edits = with_edits(Edits(), {"light.Key.shadows.way": "depth_map"})
        self.assertEqual(stages_of(Recipe(), edits), [PATHS, DEPTH_MAPS])

    def test_what_is_needed_is_said_once_and_the_rest_follows(self):
        said, behind = [], []
        warming = Warming(lambda title, left: behind.append((title, left)))
        warming.need([PATHS, "photon_map"], said.append)
        warming.need([PATHS, "photon_map"], said.append)
        self.assertEqual(said, [STAGES[PATHS].title, STAGES["photon_map"].title])
        thread = threading.Thread(target=warming.compile_rest)
        thread.start()
        thread.join()
        self.assertEqual(warming.ended, set(STAGES))
        self.assertEqual([title for title, _ in behind], [s.title for key, s in STAGES.items() if key not in (PATHS, "photon_map")] + [""])
        self.assertTrue(all(left > 0.0 for _, left in behind[:-1]))

    def test_weights_are_shares(self):
        self.assertAlmostEqual(sum(stage.weight for stage in STAGES.values()), 1.0)

    def test_warm_up_compiles_all(self):
        result = []
        warm_up(lambda done, total, name: result.append((done, total, name)))
        self.assertTrue(is_warm())
        for done, total, name in result:  # nothing if the kernels came from the cache
            self.assertLessEqual(done, total)
            self.assertTrue(name)


class Archive(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.addCleanup(keep_kernels_in, None)
        keep_kernels_in(self.folder / "here")
        kernel_folder().mkdir()
        self.kernels = {f"trace-{k:032x}.kernel": bytes([k]) * 100 for k in range(3)}
        for name, data in self.kernels.items():
            (kernel_folder() / name).write_bytes(data)
        self.archive = self.folder / "kernels.zip"
        self.assertEqual(export_kernels(self.archive), 3)
        keep_kernels_in(self.folder / "there")

    def stored(self) -> dict[str, bytes]:
        return {file.name: file.read_bytes() for file in kernel_folder().glob("*")}

    def test_it_gives_the_same_kernels_on_a_machine_like_this(self):
        self.assertEqual(import_kernels(self.archive), 3)
        self.assertEqual(self.stored(), self.kernels)

    def rewritten(self, **changes: object) -> Path:
        other = self.folder / "other.zip"
        with zipfile.ZipFile(self.archive) as old, zipfile.ZipFile(other, "w") as new:
            for name in old.namelist():
                data = old.read(name)
                new.writestr(name, json.dumps({**json.loads(data), **changes}) if name == MACHINE else data)
            new.writestr("../../outside-00000000000000000000000000000000.kernel", b"x")
            new.writestr("notes.txt", b"x")
        return other

    def test_another_machine_or_version_is_refused(self):
        for changes in ({"processor": "other"}, {"numba": "0.1"}, {"python": None}):
            with self.subTest(changes), self.assertRaisesRegex(InputError, "run `sivrel warm` on this machine"):
                import_kernels(self.rewritten(**changes))
        self.assertEqual(self.stored(), {})

    def test_only_kernels_are_taken_and_only_into_the_folder(self):
        self.assertEqual(import_kernels(self.rewritten()), 3)
        self.assertEqual(self.stored(), self.kernels)
        self.assertEqual([file.name for file in self.folder.parent.glob("outside*")], [])

    def test_what_is_no_archive_is_refused_in_a_sentence(self):
        self.archive.write_bytes(self.archive.read_bytes()[:200])
        empty = self.folder / "empty.zip"
        with zipfile.ZipFile(empty, "w"):
            pass
        for path in (self.archive, empty, self.folder / "none.zip", self.folder):
            with self.subTest(path.name), self.assertRaises(InputError) as raised:
                import_kernels(path)
            self.assertNotIn("\n", str(raised.exception))


if __name__ == "__main__":
    unittest.main()
