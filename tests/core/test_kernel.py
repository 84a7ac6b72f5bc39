"""Where compiled kernels are kept, what each depends on, and that they are warmed up with progress."""

import importlib
import os
import subprocess
import sys
import tempfile
import types
import unittest
from pathlib import Path

from sivrel.core.kernel import KERNELS
from sivrel.core.kernel_cache import code_without_words, keep_kernels_in, kernel_folder, thin_out, unit_hash

SCRIPT = """
import sys
from numba.core import event
from sivrel.core.kernel import called_kernel, kernel
class Counted(event.Listener):
    names = []
    def on_start(self, started): pass
    def on_end(self, ended): self.names.append(ended.data["dispatcher"].py_func.__name__)
counted = Counted()
event.register("numba:compile", counted)
{body}
print(outer(1.0), one_more(1.0), [name for name in counted.names if name in ("outer", "one_more")])
"""
BODY = """
TWICE = {twice}
@kernel
def inner(x):
    {words}
    return TWICE * x
@called_kernel
def outer(x):
    return inner(x) + 1.0
@called_kernel
def one_more(x):
    return x + 3.0
"""


def function_of(source: str, name: str = "f") -> types.FunctionType:
    """A function of a module of its own, in the package."""
    module = types.ModuleType("sivrel.core.made_up")
    exec(source, module.__dict__)
    made = module.__dict__[name]
    return getattr(made, "py_func", made)


class Unit(unittest.TestCase):
    """Two sources are one unit where they compile to the same code."""

    def check(self, one: str, other: str, same: bool) -> None:
        compare = self.assertEqual if same else self.assertNotEqual
        compare(unit_hash(function_of(one)), unit_hash(function_of(other)))

    def test_words_lines_and_local_names_are_no_part_of_it(self):
        self.check("def f(x):\n    return x + 1", "# words\n\n\ndef f(x):\n    'More words.'\n    return x + 1  # and more", True)
        self.check("def f(x):\n    y = x\n    return y", "def f(x):\n    z = x\n    return z", True)

    def test_code_constants_globals_and_defaults_are(self):
        self.check("def f(x):\n    return x + 1", "def f(x):\n    return x + 2", False)
        self.check("def f(x):\n    return x + 1", "def f(x):\n    return x - 1", False)
        self.check("K = 1\ndef f(x):\n    return x + K", "K = 2\ndef f(x):\n    return x + K", False)
        self.check("def f(x, y=1):\n    return x", "def f(x, y=2):\n    return x", False)
        table = "import numpy as np\nK = np.arange({})\ndef f(i):\n    return K[i]"
        self.check(table.format(3), table.format(4), False)

    def test_what_it_calls_is_however_deep(self):
        deep = "def h(x):\n    return x * {}\ndef g(x):\n    return h(x)\ndef f(x):\n    return g(x)"
        self.check(deep.format(2), deep.format(3), False)
        self.check(deep.format(2), deep.format(2) + "\ndef unused(x):\n    return x", True)
        kernel = "from sivrel.core.kernel import {0}\n@{0}\ndef f(x):\n    return x"
        self.check(kernel.format("kernel") + "\n", kernel.format("kernel"), True)
        called = "from sivrel.core.kernel import {0}\n@{0}\ndef g(x):\n    return x\ndef f(x):\n    return g(x)"
        self.check(called.format("called_kernel"), called.format("exact_kernel"), False)

    def test_of_a_module_what_is_named_is(self):
        code = "from sivrel.core.render import film\ndef f(x):\n    return x + film.{}"
        self.check(code.format("SAMPLES"), code.format("DROPPED"), False)

    def test_of_what_compiles_them_the_code_is_and_its_words_are_not(self):
        plain = code_without_words("x = 1\n\ndef f():\n    return x\n")
        self.assertEqual(code_without_words("'Words.'\nx = 1  # more\ndef f():\n    'Of f.'\n\n    return x"), plain)
        self.assertNotEqual(code_without_words("x = 2\n\ndef f():\n    return x\n"), plain)
        self.assertTrue(code_without_words("def f():\n    'Only words.'\n"))

    def test_it_is_known_of_every_kernel(self):
        importlib.import_module("sivrel.core.render.warmup")  # and with it all kernels
        self.assertGreater(len({unit_hash(kernel.py_func) for kernel in KERNELS}), 150)

    def test_what_is_not_understood_is_refused(self):
        source = "class Odd:\n    pass\nK = Odd()\ndef f(x):\n    return K"
        with self.assertRaisesRegex(TypeError, "how the compiled code depends on it"):
            unit_hash(function_of(source))


class Kept(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def run_with(self, home: str = "", **parts) -> str:
        source = self.folder / "kernels.py"
        source.write_text(SCRIPT.format(body=BODY.format(**{"twice": 2.0, "words": "# no words", **parts})))
        environment = {**os.environ, "XDG_CACHE_HOME": home or str(self.folder)}
        done = subprocess.run([sys.executable, str(source)], env=environment, capture_output=True, text=True)
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stdout.strip()

    def test_what_changed_is_compiled_and_nothing_else(self):
        self.assertEqual(self.run_with(), "3.0 4.0 ['outer', 'one_more']")
        self.assertEqual(self.run_with(), "3.0 4.0 []")
        self.assertEqual(self.run_with(words="'Only words.'"), "3.0 4.0 []")
        self.assertEqual(self.run_with(twice=5.0), "6.0 4.0 ['outer']")
        self.assertEqual(self.run_with(), "3.0 4.0 []")  # both versions are kept

    def test_a_damaged_file_is_compiled_anew(self):
        self.run_with()
        for file in (self.folder / "sivrel" / "kernels").glob("*.kernel"):
            file.write_bytes(file.read_bytes()[:100])
        self.assertEqual(self.run_with(), "3.0 4.0 ['outer', 'one_more']")
        self.assertEqual(self.run_with(), "3.0 4.0 []")

    def test_a_folder_that_can_not_be_written_is_no_obstacle(self):
        self.assertEqual(self.run_with(home="/proc/none"), "3.0 4.0 ['outer', 'one_more']")

    def test_the_folder_is_the_users_or_the_one_that_was_configured(self):
        own = kernel_folder()
        self.addCleanup(keep_kernels_in, None)
        keep_kernels_in(self.folder)
        self.assertEqual(kernel_folder(), self.folder)
        keep_kernels_in(None)
        self.assertEqual(kernel_folder(), own)

    def test_what_was_not_used_for_long_goes(self):
        for age in (0, 30, 90):
            file = self.folder / f"k{age}.kernel"
            file.write_bytes(b"x")
            os.utime(file, (file.stat().st_mtime - age * 86400,) * 2)
        thin_out(self.folder)
        self.assertEqual(sorted(file.name for file in self.folder.iterdir()), ["k0.kernel", "k30.kernel"])


class Called(unittest.TestCase):
    def test_a_kernel_may_be_called_from_python(self):
        from sivrel.core.vector import dot

        self.assertEqual(dot((1.0, 2.0, 3.0), (1.0, 1.0, 1.0)), 6.0)


if __name__ == "__main__":
    unittest.main()
