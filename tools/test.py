"""Run the tests: ``tools/test.py [-v] [-s] [NAME ...]``, names as unittest takes them; ``-s`` lists the slowest tests.

Without names, all modules are run by a few processes side by side. Each takes the next module when it is done with one,
the longest first: ``tests/seconds.json`` holds how long each took when it was last measured (``-m`` measures anew).
"""

from __future__ import annotations

import atexit
import faulthandler
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
MEASURED = ROOT / "tests" / "seconds.json"
#: processes per core: tests of the window spend much of their time waiting for its workers
CROWD = 2
#: no module may take longer; what hangs is ended, and its stack is printed
LIMIT = 1500
#: the tests give way to whatever else runs; the workers of a window stand at the same niceness
NICE = 10
#: what Qt says of a screen that nobody sees
NOISE = re.compile(r"This plugin does not support .*\n")
SUMMARY = re.compile(r"^(\d+) passed, (\d+) failed, (\d+) skipped, (\d+\.\d) s of (\S+)$")


def main() -> int:
    """Run and return the exit code."""
    screen = ROOT / "tests" / "app" / "screen.json"
    os.environ.setdefault("QT_QPA_PLATFORM", f"offscreen:configfile={screen}")
    os.environ.setdefault("QT_LOGGING_RULES", "qt.qpa.*=false")
    sys.path.insert(0, str(ROOT))
    if "--serve" in sys.argv:
        set_own_folders()
        return serve()
    names = [argument for argument in sys.argv[1:] if not argument.startswith("-")]
    if not names:
        return run_all()
    set_own_folders()
    result = run(names)
    print(f"took {sum(seconds for seconds, _ in result.taken):.0f} s")
    print(summary(result))
    return 0 if result.wasSuccessful() and result.testsRun else 1


def set_own_folders() -> None:
    """Let neither the settings nor the logs of whoever runs the tests be touched."""
    tempfile.tempdir = tempfile.mkdtemp(prefix="fasciculum-tests-")
    # before what the tests load, so that it is done after that has tidied up
    atexit.register(shutil.rmtree, tempfile.tempdir, ignore_errors=True)
    for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME"):
        os.environ[name] = str(Path(tempfile.tempdir) / name.lower())


class Pool:
    """Processes that run test modules, and what came of each."""

    def __init__(self, modules: list[str]) -> None:
        self.waiting = modules
        self.count = len(modules)
        self.totals = [0, 0, 0]
        self.seconds: dict[str, float] = {}
        self.failed: list[str] = []
        self._lock = threading.Lock()

    def run(self, processes: int) -> None:
        """Run all modules; returns when the last is done."""
        threads = [threading.Thread(target=self._feed) for _ in range(processes)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()

    def _feed(self) -> None:
        """Give one process a module after another, and start it again when it ends in the middle."""
        process = None
        while True:
            with self._lock:
                if not self.waiting:
                    break
                name = self.waiting.pop(0)
            process = process or self._start()
            assert process.stdin is not None and process.stdout is not None
            process.stdin.write(name + "\n")
            process.stdin.flush()
            lines: list[str] = []
            ended = None
            for line in process.stdout:
                if (ended := SUMMARY.match(line)) is not None:
                    break
                lines.append(line)
            counts = [int(value) for value in ended.groups()[:3]] if ended else [0, 1, 0]
            self._record(name, counts, float(ended[4]) if ended else 0.0, NOISE.sub("", "".join(lines)))
            if ended is None:
                process.kill()
                process = None
        if process is not None:
            assert process.stdin is not None
            process.stdin.close()
            process.wait()

    def _start(self) -> subprocess.Popen[str]:
        flags = [argument for argument in sys.argv[1:] if argument.startswith("-")]
        command = [sys.executable, __file__, "--serve", *flags]
        return subprocess.Popen(
            command,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            errors="replace",
        )

    def _record(self, name: str, counts: list[int], seconds: float, said: str) -> None:
        with self._lock:
            self.totals = [total + count for total, count in zip(self.totals, counts, strict=True)]
            self.seconds[name] = seconds
            state = f"{counts[0]} passed" + (f", {counts[1]} FAILED" if counts[1] else "")
            print(f"{len(self.seconds):4}/{self.count} {seconds:6.1f} s  {name}: {state}", flush=True)
            if counts[1] or "-v" in sys.argv or "-s" in sys.argv:
                print(said, flush=True)
            if counts[1]:
                self.failed.append(name)


def run_all() -> int:
    """Run every module and return the exit code."""
    measured = json.loads(MEASURED.read_text()) if MEASURED.is_file() else {}
    modules = [".".join(path.relative_to(ROOT).with_suffix("").parts) for path in (ROOT / "tests").rglob("test_*.py")]
    # what was never measured goes first, in case it is long
    pool = Pool(sorted(modules, key=lambda name: (-measured.get(name, 1e9), name)))
    began = time.monotonic()
    pool.run(max(2, round((os.cpu_count() or 2) * CROWD)))
    if "-m" in sys.argv:
        rounded = {name: round(pool.seconds[name], 1) for name in sorted(pool.seconds)}
        MEASURED.write_text(json.dumps(rounded, indent=1) + "\n")
    for name in pool.failed:
        print(f"failed: {name}")
    print(f"took {time.monotonic() - began:.0f} s")
    print(f"{pool.totals[0]} passed, {pool.totals[1]} failed, {pool.totals[2]} skipped")
    return 1 if pool.totals[1] or not pool.totals[0] else 0


def serve() -> int:
    """Run the modules whose names are read from standard input, one after another."""
    os.nice(NICE)
    # whatever a test starts must not read the names
    names = os.fdopen(os.dup(0))
    os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
    for line in names:
        name = line.strip()
        faulthandler.dump_traceback_later(LIMIT, exit=True)
        began = time.monotonic()
        result = run([name])
        faulthandler.cancel_dump_traceback_later()
        print(f"{summary(result)}, {time.monotonic() - began:.1f} s of {name}", flush=True)
    return 0


class Timed(unittest.TextTestResult):
    """Results that know how long each test took."""

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


def run(names: list[str]) -> Timed:
    """Run the tests of those names; a package stands for all modules in it."""
    loader = unittest.TestLoader()
    suite = unittest.TestSuite()
    for name in names:
        folder = ROOT / Path(*name.split("."))
        if folder.is_dir():
            suite.addTests(loader.discover(str(folder), top_level_dir=str(ROOT)))
        else:
            suite.addTests(loader.loadTestsFromName(name))
    runner = unittest.TextTestRunner(verbosity=2 if "-v" in sys.argv else 1, resultclass=Timed)
    result = runner.run(suite)
    assert isinstance(result, Timed)
    if "-s" in sys.argv:
        print(result.slowest())
    return result


def summary(result: Timed) -> str:
    """Return how many tests passed, failed and were skipped."""
    bad = len(result.failures) + len(result.errors)
    if not result.testsRun and not bad:
        bad = 1
    passed = max(0, result.testsRun - bad - len(result.skipped))
    return f"{passed} passed, {bad} failed, {len(result.skipped)} skipped"


if __name__ == "__main__":
    raise SystemExit(main())
