"""Entry point: parses, runs, and turns errors into words and exit codes."""

from __future__ import annotations

import json
import logging
import os
import shutil
import signal
import sys
import threading
import time
from pathlib import Path
from types import FrameType
from typing import Any

from fasciculum import __version__
from fasciculum.cli.arguments import COMMANDS, WrongUsage, parser
from fasciculum.cli.exits import CRASHED, STOPPED, USAGE, exit_code
from fasciculum.errors import FasciculumError, UsageError
from fasciculum.io.formats.table import READ_FORMATS
from fasciculum.logs import log_file, start_logging
from fasciculum.progress import Cancelled, Progress
from fasciculum.session.scratch import new_folder, sweep
from fasciculum.trace import STAGE, Trace, span, start_trace, stop_trace

LOG = logging.getLogger(__name__)


class _Teller:
    """Progress on standard error: one line that is drawn again on a terminal, plain lines elsewhere."""

    def __init__(self) -> None:
        self._terminal = sys.stderr.isatty()
        self._last, self._words, self._wide = 0.0, "", 0

    def __call__(self, fraction: float, words: str) -> None:
        now = time.monotonic()
        if self._terminal:
            if now - self._last > 0.1:
                filled = round(fraction * 24)
                line = f"[{'=' * filled}{' ' * (24 - filled)}] {fraction:4.0%} {words}"[:100]
                self._wide = max(self._wide, len(line))
                sys.stderr.write(f"\r{line:<{self._wide}}")
                sys.stderr.flush()
                self._last = now
        elif words and words != self._words and now - self._last > 1.0:
            sys.stderr.write(f"{fraction:4.0%} {words}\n")
            self._last, self._words = now, words

    def finish(self) -> None:
        if self._terminal and self._wide:
            sys.stderr.write(f"\r{'':<{self._wide}}\r")


def _error_json(error: FasciculumError) -> str:
    part = {"code": error.code, "message": error.message, "file": error.file, "hint": error.hint}
    if error.item:
        part["item"] = error.item
    return json.dumps({"version": 1, "error": part}, ensure_ascii=False)


def main(arguments: list[str] | None = None) -> int:
    """Run the command line and return its exit code."""
    given = _with_command(sys.argv[1:] if arguments is None else arguments)
    try:
        parsed = parser().parse_args(given)
    except SystemExit as ended:
        if isinstance(ended, WrongUsage) and "--json" in given:
            print(_error_json(UsageError(f"{ended.message}.", hint="Add --help for the list.")))
        return int(ended.code or 0)
    wants_json = bool(getattr(parsed, "json", False))
    start_logging(parsed.log_level or ("info" if parsed.verbose else ""))
    LOG.info("fasciculum %s, version %s", " ".join(given), __version__)
    if parsed.command in (None, "open") or (parsed.command == "demo" and not parsed.headless):
        return _window(parsed)
    if parsed.command == "find":
        from fasciculum.cli.find import find

        return find(" ".join(parsed.words), as_json=wants_json)
    if parsed.command in ("completion", "desktop"):
        return _help_out(parsed)
    stopping = threading.Event()

    def stop(number: int, frame: FrameType | None) -> None:
        stopping.set()

    previous = (
        [signal.signal(kind, stop) for kind in (signal.SIGINT, signal.SIGTERM)]
        if threading.current_thread() is threading.main_thread()
        else []
    )
    teller = _Teller()
    trace = start_trace() if parsed.profile else None

    def show(fraction: float, words: str) -> None:
        if trace is not None:
            trace.step(words)
        teller(fraction, words)

    sweep()
    scratch = new_folder()
    try:
        with span("loading", STAGE):
            from fasciculum.cli.verbs import run_verb

        return run_verb(parsed, scratch, Progress(show, stopping.is_set))
    except Cancelled:
        _say_error(FasciculumError("cancelled; no half-written files were left."), wants_json)
        return STOPPED
    except FasciculumError as error:
        LOG.info("ended with: %s", error)
        _say_error(error, wants_json)
        return exit_code(error)
    except Exception:
        LOG.exception("fault of the program in: fasciculum %s", " ".join(given))
        crash = FasciculumError(
            "this is a fault of the program.", file=str(log_file()), hint="Details are at the end of that file."
        )
        crash.code = "crash"
        _say_error(crash, wants_json)
        return CRASHED
    finally:
        teller.finish()
        if trace is not None:
            _write_trace(trace, Path(parsed.profile))
        shutil.rmtree(scratch, ignore_errors=True)
        for kind, handler in zip((signal.SIGINT, signal.SIGTERM), previous, strict=False):
            signal.signal(kind, handler)


def _write_trace(trace: Trace, file: Path) -> None:
    stop_trace()
    try:
        file.write_text(trace.text())
    except OSError as error:
        sys.stderr.write(f"fasciculum: {file}: the profile cannot be written ({error}).\n")


def _with_command(given: list[str]) -> list[str]:
    """Return the arguments with ``open`` before them where they begin with a file instead of a command."""
    if not given or given[0].startswith("-"):
        return given
    suffix = Path(given[0]).suffix.lower()
    is_file = suffix in READ_FORMATS or suffix == ".fasc" or Path(given[0]).is_dir()
    return ["open", *given] if is_file and given[0] not in COMMANDS else given


def _help_out(parsed: Any) -> int:
    """Do what needs no folder and no work: completion, and the desktop's entries."""
    from fasciculum.cli import desktop

    try:
        return desktop.print_completion(parsed.shell) if parsed.command == "completion" else desktop.manage(parsed)
    except FasciculumError as error:
        _say_error(error, False)
        return exit_code(error)


def _say_error(error: FasciculumError, wants_json: bool) -> None:
    if wants_json:
        print(_error_json(error))
    sys.stderr.write(f"fasciculum: {error}\n")


def _window(parsed: Any) -> int:
    display = os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM")
    if not display:
        sys.stderr.write(
            "fasciculum: there is no display to open a window on. "
            "Use the commands inspect, make, run, check or demo --headless.\n"
        )
        return USAGE
    import gc
    import importlib

    # all that is loaded stays; the window lets rubbish be collected again once it stands
    gc.disable()
    # Qt looks at the source of every module that is loaded after it
    for name in ("numba", "cv2"):
        importlib.import_module(name)
    # the window is beside the command line, not below it, so that it is found by name
    start = importlib.import_module("fasciculum.app.start")
    files = list(getattr(parsed, "files", []))
    return int(start.run(files, demo=parsed.command == "demo"))


if __name__ == "__main__":
    raise SystemExit(main())
