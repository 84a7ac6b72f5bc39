"""All tests, or those named: `python -m tests [tests.core.test_trace ...]`."""

import sys
import unittest
from pathlib import Path

ROOT = Path(__file__).parents[1]
loader = unittest.TestLoader()
if sys.argv[1:]:
    suite = loader.loadTestsFromNames(sys.argv[1:])
else:
    suite = loader.discover(str(ROOT / "tests"), top_level_dir=str(ROOT))
result = unittest.TextTestRunner(verbosity=1, durations=8).run(suite) if sys.version_info >= (3, 12) else unittest.TextTestRunner().run(suite)
failed = len(result.failures) + len(result.errors)
print(f"{result.testsRun - failed - len(result.skipped)} passed, {failed} failed, {len(result.skipped)} skipped")
sys.exit(not result.wasSuccessful() or result.testsRun == 0)
