"""What the program did, for whoever looks into a fault: one logger for each module, one file for each user.

Every module that has something to say has a logger of its name, ``LOG``. What is written there goes to a file in the
user's folder for logs, which is begun anew when it is full; with ``-v`` or ``--log-level`` it is shown on standard
error too. Workers send their records to the process that started them.
"""

from __future__ import annotations

import logging
import sys
from collections.abc import Callable
from logging.handlers import QueueHandler, RotatingFileHandler, WatchedFileHandler
from pathlib import Path

ROOT = logging.getLogger("fasciculum")
# a program that uses this one decides by itself what it shows
ROOT.addHandler(logging.NullHandler())
LEVELS = ("debug", "info", "warning", "error")
#: bytes of a log file, and how many earlier ones are kept
MOST_BYTES, MOST_FILES = 1 << 20, 3
LINE = "%(asctime)s %(levelname)s %(process)d %(name)s: %(message)s"


def log_file() -> Path:
    """Return the file that records are written to."""
    from platformdirs import user_log_path

    return user_log_path("fasciculum") / "fasciculum.log"


def start_logging(shown: str = "") -> None:
    """Write records from *info* on to the log file; show those from a level of `LEVELS` on standard error as well.

    Where the file cannot be written, nothing is kept; the program goes on.
    """
    stop_logging()
    ROOT.setLevel(logging.DEBUG if shown == "debug" else logging.INFO)
    ROOT.propagate = False
    handlers: list[logging.Handler] = []
    try:
        log_file().parent.mkdir(parents=True, exist_ok=True)
        file = RotatingFileHandler(
            log_file(), maxBytes=MOST_BYTES, backupCount=MOST_FILES, encoding="utf-8", delay=True
        )
        handlers.append(file)
    except OSError as error:
        if shown:
            sys.stderr.write(f"fasciculum: no log is written ({error})\n")
    if shown:
        console = logging.StreamHandler(sys.stderr)
        console.setLevel(shown.upper())
        handlers.append(console)
    for handler in handlers:
        handler.setFormatter(logging.Formatter(LINE))
        ROOT.addHandler(handler)


def join_log(file: Path) -> None:
    """Write this process's records to the file of another one, which may begin it anew at any time.

    No queue between the two: processes of a pool may be killed at any time, and would leave its lock taken.
    """
    stop_logging()
    ROOT.setLevel(logging.INFO)
    ROOT.propagate = False
    handler = WatchedFileHandler(file, encoding="utf-8", delay=True)
    handler.setFormatter(logging.Formatter(LINE))
    ROOT.addHandler(handler)


def stop_logging() -> None:
    """Close the log file and let nothing be shown."""
    for handler in [one for one in ROOT.handlers if not isinstance(one, logging.NullHandler)]:
        ROOT.removeHandler(handler)
        handler.close()


class _Sender(QueueHandler):
    """Hands records on, in a form that can be pickled, to a function in place of a queue."""

    def enqueue(self, record: logging.LogRecord) -> None:
        self.queue(record)  # type: ignore[operator]


def send_records(send: Callable[[logging.LogRecord], None]) -> None:
    """Hand this process's records to a function that sends them to the process that started it."""
    stop_logging()
    ROOT.setLevel(logging.INFO)
    ROOT.propagate = False
    ROOT.addHandler(_Sender(send))  # type: ignore[arg-type]


def take_record(record: logging.LogRecord) -> None:
    """Write a record that another process has sent."""
    logging.getLogger(record.name).handle(record)
