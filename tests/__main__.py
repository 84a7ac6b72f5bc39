"""All tests, in two processes side by side, or those named in one: `python -m tests [tests.core.test_trace ...]`."""

import faulthandler
import re
import subprocess
import sys
import tempfile
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from sivrel.core.render.warmup import warm_up

ROOT = Path(__file__).parents[1]
WHOLE = ("browser", "work", "tests")
"""The tests of these folders run the program as a whole, and mostly wait for it: each file is a batch by itself, and comes first."""
SLOWEST = 5
HUNG = 1500
"""Seconds after which a batch is held to hang: it says where it stands, and ends."""
TOGETHER, SIDE_BY_SIDE = 6, 2
"""Files of other folders in a batch, and batches at a time."""


class Timed(unittest.TextTestResult):
    """Keeps what each test took, in seconds by name."""

    def startTestRun(self) -> None:
        super().startTestRun()
        self.took: dict[str, float] = {}

    def startTest(self, test: unittest.TestCase) -> None:
        self.begun = time.monotonic()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        self.took[test.id()] = time.monotonic() - self.begun


def run(names: list[str]) -> bool:
    """Run the tests of these names in this process; whether all passed."""
    faulthandler.dump_traceback_later(HUNG, exit=True)
    begun, suite = time.monotonic(), unittest.defaultTestLoader.loadTestsFromNames(names)
    result = unittest.TextTestRunner(resultclass=Timed).run(suite)
    failed = len(result.failures) + len(result.errors)
    slowest = sorted(result.took.items(), key=lambda one: -one[1])[:SLOWEST]
    print(f"{time.monotonic() - begun:.0f} s; " + ", ".join(f"{name.removeprefix('tests.')} {took:.0f} s" for name, took in slowest))
    print(f"{result.testsRun - failed - len(result.skipped)} passed, {failed} failed, {len(result.skipped)} skipped", flush=True)
    return result.wasSuccessful() and result.testsRun > 0


def batches() -> list[list[str]]:
    """Names of all test modules, in batches; what takes longest comes first."""
    found = sorted((ROOT / "tests").rglob("test_*.py"), key=lambda path: (path.parent.name not in WHOLE, path))
    names = [".".join(path.relative_to(ROOT).with_suffix("").parts) for path in found]
    first = [[name] for name, path in zip(names, found, strict=True) if path.parent.name in WHOLE]
    rest = names[len(first) :]
    return first + [rest[k :: -(-len(rest) // TOGETHER)] for k in range(-(-len(rest) // TOGETHER))]


def run_all() -> bool:
    """Run all tests, with warm kernels; what each batch says is shown when it has ended, and the sum at last."""
    warm_up()
    total, failing = [0, 0, 0], list[str]()
    passed = True

    def of_batch(names: list[str]) -> tuple[int, str]:
        with tempfile.TemporaryFile("w+") as out:  # not a pipe, whose end would come only with that of everything that a hung test has started
            code = subprocess.run([sys.executable, "-m", "tests", *names], cwd=ROOT, stdout=out, stderr=subprocess.STDOUT).returncode
            out.seek(0)
            return code, out.read()

    with ThreadPoolExecutor(SIDE_BY_SIDE) as pool:
        for code, answer in pool.map(of_batch, batches()):
            passed = code == 0 and passed
            print(answer, flush=True)
            counts = re.findall(r"^(\d+) passed, (\d+) failed, (\d+) skipped$", answer, re.MULTILINE)
            total = [sum(column) for column in zip(total, map(int, counts[-1]), strict=True)] if counts else total
            failing += re.findall(r"^(?:FAIL|ERROR): .*$", answer, re.MULTILINE)
    print("\n".join([*failing, f"{total[0]} passed, {total[1]} failed, {total[2]} skipped"]), flush=True)
    return passed


sys.exit(not (run(sys.argv[1:]) if sys.argv[1:] else run_all()))
