"""All tests, in two processes side by side, or those named in one: `python -m tests [tests.core.test_trace ...]`."""

import contextlib
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from sivrel.core.render.warmup import warm_up

ROOT = Path(__file__).parents[1]
WHOLE = ("browser", "work", "tests")
"""The tests of these folders run the program as a whole, and mostly wait for it: they are one half; all others are the other."""


def run(names: list[str]) -> bool:
    """Run the tests of these names in this process; whether all passed."""
    suite = unittest.defaultTestLoader.loadTestsFromNames(names)
    result = unittest.TextTestRunner(verbosity=1, durations=8).run(suite) if sys.version_info >= (3, 12) else unittest.TextTestRunner().run(suite)
    failed = len(result.failures) + len(result.errors)
    print(f"{result.testsRun - failed - len(result.skipped)} passed, {failed} failed, {len(result.skipped)} skipped", flush=True)
    return result.wasSuccessful() and result.testsRun > 0


def halves() -> list[list[str]]:
    """Names of all test modules, in two groups that take about as long."""
    found = sorted((ROOT / "tests").rglob("test_*.py"))
    names = [(path.parent.name in WHOLE, ".".join(path.relative_to(ROOT).with_suffix("").parts)) for path in found]
    return [[name for whole, name in names if whole == which] for which in (True, False)]


def run_all() -> bool:
    """Run all tests: both halves begin with warm kernels, and what each says is shown when it has ended."""
    warm_up()
    passed, running = True, []
    with contextlib.ExitStack() as files:
        for names in halves():
            told = files.enter_context(tempfile.TemporaryFile("w+"))
            command = [sys.executable, "-m", "tests", *names]
            running.append((subprocess.Popen(command, cwd=ROOT, stdout=told, stderr=subprocess.STDOUT), told))
        for process, told in running:
            passed = process.wait() == 0 and passed
            told.seek(0)
            print(told.read(), flush=True)
    return passed


sys.exit(not (run(sys.argv[1:]) if sys.argv[1:] else run_all()))
