"""Run the tests: ``tools/test.py [-v] [NAME ...]``, names as unittest takes them."""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import time
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]


def main() -> int:
    """Run and return the exit code."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    # neither the settings nor the logs of whoever runs the tests are touched
    for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME"):
        os.environ[name] = str(ROOT / "out" / "tests" / name.lower())
    sys.path.insert(0, str(ROOT))
    tempfile.tempdir = tempfile.mkdtemp(prefix="fasciculum-tests-")
    try:
        return run()
    finally:
        shutil.rmtree(tempfile.tempdir, ignore_errors=True)


def run() -> int:
    """Run the tests that were named, or all."""
    names = [argument for argument in sys.argv[1:] if not argument.startswith("-")]
    loader = unittest.TestLoader()
    if names:
        suite = loader.loadTestsFromNames(names)
    else:
        suite = loader.discover(str(ROOT / "tests"), top_level_dir=str(ROOT))
    print(f"running {suite.countTestCases()} tests", flush=True)
    began = time.monotonic()
    result = unittest.TextTestRunner(verbosity=2 if "-v" in sys.argv else 1).run(suite)
    bad = len(result.failures) + len(result.errors)
    print(f"took {time.monotonic() - began:.0f} s")
    print(f"{result.testsRun - bad - len(result.skipped)} passed, {bad} failed, {len(result.skipped)} skipped")
    return 0 if result.wasSuccessful() and result.testsRun else 1


if __name__ == "__main__":
    raise SystemExit(main())
