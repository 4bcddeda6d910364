"""Run the tests: ``tools/test.py [-v] [-s] [NAME ...]``, names as unittest takes them; ``-s`` tells the slowest.

Without names, four parts run side by side, each in a process of its own: tests of the window wait for its workers.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
#: the part of the window's tests that takes about as long as all its others
LONGEST = "tests.app.panels"
#: what runs through all stages without a window, about as long as all that does not
THROUGH = ("tests.cli", "tests.operations")
#: how much the tests without a window give way
NICE = "10"
#: what Qt says of a screen that nobody sees
NOISE = re.compile(r"This plugin does not support .*\n")
SUMMARY = re.compile(r"^(\d+) passed, (\d+) failed, (\d+) skipped$", re.MULTILINE)


def main() -> int:
    """Run and return the exit code."""
    screen = ROOT / "tests" / "app" / "screen.json"
    os.environ.setdefault("QT_QPA_PLATFORM", f"offscreen:configfile={screen}")
    os.environ.setdefault("QT_LOGGING_RULES", "qt.qpa.*=false")
    sys.path.insert(0, str(ROOT))
    names = [argument for argument in sys.argv[1:] if not argument.startswith("-")]
    if not names:
        return parts()
    # neither the settings nor the logs of whoever runs the tests are touched
    tempfile.tempdir = tempfile.mkdtemp(prefix="fasciculum-tests-")
    for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME"):
        os.environ[name] = str(Path(tempfile.tempdir) / name.lower())
    try:
        return run(names)
    finally:
        shutil.rmtree(tempfile.tempdir, ignore_errors=True)


def parts() -> int:
    """Run all parts and return the exit code; what one printed is told once it is over."""
    tests = ROOT / "tests"
    packages = sorted(path.parent.name for path in tests.glob("*/__init__.py"))
    alone = (f"tests.{path.stem}" for path in sorted(tests.glob("test_*.py")))
    others = [f"tests.{name}" for name in packages if name != "app"]
    whole = [*alone, *(name for name in others if name in THROUGH)]
    others = [name for name in others if name not in THROUGH]
    folders = sorted(path.parent.name for path in (tests / "app").glob("*/__init__.py"))
    window = [name for name in (f"tests.app.{folder}" for folder in folders) if name != LONGEST]
    window += sorted(f"tests.app.{path.stem}" for path in (tests / "app").glob("test_*.py"))
    began = time.monotonic()
    flags = [argument for argument in sys.argv[1:] if argument.startswith("-")]
    with tempfile.TemporaryDirectory() as folder:
        running = []
        for number, names in enumerate(([LONGEST], window, whole, others)):
            log = Path(folder) / f"{number}.log"
            with log.open("w") as stream:
                command = [sys.executable, __file__, *flags, *names]
                if names in (whole, others) and shutil.which("nice"):
                    # what the window's tests wait for is niced too, and must not stand behind these
                    command = ["nice", "-n", NICE, *command]
                process = subprocess.Popen(command, stdout=stream, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL)
            running.append((" ".join(names), process, log))
            print(f"running {' '.join(names)}", flush=True)
        totals, code = [0, 0, 0], 0
        for names, process, log in running:
            ended = process.wait()
            text = log.read_text(errors="replace")
            print(f"--- {names}\n{NOISE.sub('', text)}", flush=True)
            found = SUMMARY.findall(text)
            if ended or not found:
                code = 1
            counts = [int(value) for value in found[-1]] if found else [0, 1, 0]
            totals = [total + count for total, count in zip(totals, counts, strict=True)]
    print(f"took {time.monotonic() - began:.0f} s")
    print(f"{totals[0]} passed, {totals[1]} failed, {totals[2]} skipped")
    return 1 if code or totals[1] or not totals[0] else 0


class Timed(unittest.TextTestResult):
    """Results that know how long each test took, and tell the slowest with ``-s``."""

    def __init__(self, *args: object, **more: object) -> None:
        super().__init__(*args, **more)  # type: ignore[arg-type]
        self.taken: list[tuple[float, str]] = []
        self._began = 0.0

    def startTest(self, test: unittest.TestCase) -> None:
        """Take note of when a test begins."""
        self._began = time.monotonic()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        """Take note of how long it took."""
        self.taken.append((time.monotonic() - self._began, test.id()))
        super().stopTest(test)

    def slowest(self, count: int = 40) -> str:
        """Return the slowest tests, a line for each."""
        return "\n".join(f"{seconds:6.1f} s  {name}" for seconds, name in sorted(self.taken, reverse=True)[:count])


def run(names: list[str]) -> int:
    """Run the tests of those names; a package stands for all modules in it."""
    loader = unittest.TestLoader()
    suite = unittest.TestSuite()
    for name in names:
        folder = ROOT / Path(*name.split("."))
        if folder.is_dir():
            suite.addTests(loader.discover(str(folder), top_level_dir=str(ROOT)))
        else:
            suite.addTests(loader.loadTestsFromName(name))
    print(f"running {suite.countTestCases()} tests", flush=True)
    began = time.monotonic()
    result = unittest.TextTestRunner(verbosity=2 if "-v" in sys.argv else 1, resultclass=Timed).run(suite)
    if "-s" in sys.argv and isinstance(result, Timed):
        print(result.slowest())
    bad = len(result.failures) + len(result.errors)
    print(f"took {time.monotonic() - began:.0f} s")
    print(f"{result.testsRun - bad - len(result.skipped)} passed, {bad} failed, {len(result.skipped)} skipped")
    return 0 if result.wasSuccessful() and result.testsRun else 1


if __name__ == "__main__":
    raise SystemExit(main())
