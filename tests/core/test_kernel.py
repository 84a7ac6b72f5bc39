"""Where compiled code is kept, and that it is warmed up with progress."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from sivrel.core import kernel
from sivrel.core.render.warmup import is_warm, warm_up


class CacheKey(unittest.TestCase):
    def test_any_source_of_the_core_changes_it(self):
        with tempfile.TemporaryDirectory() as folder:
            core = Path(folder)
            (core / "deep").mkdir()
            (core / "a.py").write_text("x = 1")
            (core / "deep" / "table.npy").write_bytes(b"1")
            keys = [kernel.cache_key(core), kernel.cache_key(core)]
            (core / "deep" / "table.npy").write_bytes(b"2")
            keys.append(kernel.cache_key(core))
            (core / "deep" / "b.py").write_text("")
            keys.append(kernel.cache_key(core))
        self.assertEqual(keys[0], keys[1])
        self.assertEqual(len(set(keys)), 3)

    def test_parts_without_kernels_leave_it_and_hold_none(self):
        with tempfile.TemporaryDirectory() as folder:
            core = Path(folder)
            (core / "measure").mkdir()
            (core / "a.py").write_text("x = 1")
            before = kernel.cache_key(core)
            (core / "measure" / "b.py").write_text("y = 1")
            self.assertEqual(kernel.cache_key(core), before)
        for part in kernel.WITHOUT_KERNELS:
            for source in [kernel.CORE / part] if part.endswith(".py") else (kernel.CORE / part).rglob("*.py"):
                self.assertNotRegex(source.read_text(), r"\bnumba\b|kernel import", str(source))

    def test_it_lies_in_the_users_cache_and_old_ones_go(self):
        with tempfile.TemporaryDirectory() as folder:
            root = Path(folder) / "sivrel" / "kernels"
            for age in range(8):
                (root / f"old{age}").mkdir(parents=True)
                os.utime(root / f"old{age}", (age, age))
            environment = {**os.environ, "XDG_CACHE_HOME": folder}
            subprocess.run([sys.executable, "-c", "import sivrel.core.kernel"], env=environment, check=True)
            left = sorted(f.name for f in root.iterdir())
        self.assertEqual(left, sorted([kernel.cache_key(), "old4", "old5", "old6", "old7"]))

    def test_a_home_that_can_not_be_written_is_no_obstacle(self):
        environment = {**os.environ, "XDG_CACHE_HOME": "/proc/none"}
        subprocess.run([sys.executable, "-c", "import sivrel.core.kernel"], env=environment, check=True)


class WarmUp(unittest.TestCase):
    def test_a_small_render_makes_all_warm(self):
        told = []
        warm_up(lambda done, total, name: told.append((done, total, name)))
        self.assertTrue(is_warm())
        for done, total, name in told:  # nothing, where the kernels came from the cache
            self.assertLessEqual(done, total)
            self.assertTrue(name)


if __name__ == "__main__":
    unittest.main()
