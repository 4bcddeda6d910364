"""What the program did, for whoever looks into a fault: one logger for each module, one file for each user.

Every module that has something to say has a logger of its name, ``LOG``. What is written there goes to a file in the
user's folder for logs, which is begun anew when it is full; with ``-v`` or ``--log-level`` it is shown on standard
error too. Workers send their records to the process that started them.
"""

from __future__ import annotations

import logging
import os
import sys
import tempfile
from collections.abc import Callable
from logging.handlers import QueueHandler, RotatingFileHandler, WatchedFileHandler
from pathlib import Path

from platformdirs import user_log_path

ROOT = logging.getLogger("fasciculum")
# a program that uses this one decides by itself what it shows
ROOT.addHandler(logging.NullHandler())
LEVELS = ("debug", "info", "warning", "error")
#: bytes of a log file, and how many earlier ones are kept
MOST_BYTES, MOST_FILES = 1 << 20, 3
LINE = "%(asctime)s %(levelname)s %(process)d %(name)s: %(message)s"


def log_file() -> Path:
    """Return the file that records are written to: the one that is open, else that in the user's folder for logs."""
    opened = next((one for one in ROOT.handlers if isinstance(one, logging.FileHandler)), None)
    return Path(opened.baseFilename) if opened is not None else user_log_path("fasciculum") / "fasciculum.log"


def start_logging(shown: str = "") -> None:
    """Write records from *info* on to the log file; show those from a level of `LEVELS` on standard error as well.

    Where the user's folder for logs cannot be written, the folder for temporary files takes the log, and where that
    cannot be written either, nothing is kept and the program goes on.
    """
    stop_logging()
    handlers: list[logging.Handler] = []
    for place in (log_file(), Path(tempfile.gettempdir()) / f"fasciculum-{os.getuid()}.log"):
        try:
            place.parent.mkdir(parents=True, exist_ok=True)
            handlers.append(RotatingFileHandler(place, maxBytes=MOST_BYTES, backupCount=MOST_FILES, encoding="utf-8"))
            break
        except OSError:
            continue
    if shown:
        console = logging.StreamHandler(sys.stderr)
        console.setLevel(shown.upper())
        handlers.append(console)
    _set_handlers(handlers, logging.DEBUG if shown == "debug" else logging.INFO)


def join_log(file: Path) -> None:
    """Write this process's records to the file of another one, which may begin it anew at any time.

    No queue between the two: processes of a pool may be killed at any time, and would leave its lock taken.
    """
    _set_handlers([WatchedFileHandler(file, encoding="utf-8", delay=True)])


def send_records(send: Callable[[logging.LogRecord], None]) -> None:
    """Hand this process's records to a function that sends them to the process that started it."""
    _set_handlers([_Sender(send)])  # type: ignore[arg-type]


def take_record(record: logging.LogRecord) -> None:
    """Write a record that another process has sent."""
    logging.getLogger(record.name).handle(record)


def stop_logging() -> None:
    """Close the log file and let nothing be shown."""
    for handler in [one for one in ROOT.handlers if not isinstance(one, logging.NullHandler)]:
        ROOT.removeHandler(handler)
        handler.close()


def _set_handlers(handlers: list[logging.Handler], level: int = logging.INFO) -> None:
    """Let records from a level on go to these handlers and nowhere else."""
    stop_logging()
    ROOT.setLevel(level)
    ROOT.propagate = False
    for handler in handlers:
        if not isinstance(handler, QueueHandler):
            # a record that is handed on is formatted where it is written
            handler.setFormatter(logging.Formatter(LINE))
        ROOT.addHandler(handler)


class _Sender(QueueHandler):
    """Hands records on, in a form that can be pickled, to a function in place of a queue."""

    def enqueue(self, record: logging.LogRecord) -> None:
        self.queue(record)  # type: ignore[operator]
