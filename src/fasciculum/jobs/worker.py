"""The worker process: ``python -m fasciculum.jobs.worker FD`` serves one connection until it is closed."""

from __future__ import annotations

import importlib
import logging
import os
import signal
import sys
import threading
import time
import traceback
import uuid
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from fasciculum.errors import FasciculumError
from fasciculum.jobs.payload import read_payload, write_payload
from fasciculum.logs import send_records
from fasciculum.progress import Cancelled, Progress

LOG = logging.getLogger(__name__)
#: how far the worker steps back behind the window
NICENESS = 10
#: seconds between two reports of progress
REPORTS = 0.04


class _Desk:
    """The worker's end of the connection, and whether the running job has been cancelled."""

    def __init__(self, connection: Connection) -> None:
        self.connection = connection
        self.waiting: list[tuple[Any, ...]] = []
        self.stop = -1
        self.content = -1
        self._last, self._told = 0.0, -1
        self._lock = threading.Lock()

    def send(self, *message: Any) -> None:
        """Send a message; threads of a job may log while its progress is sent, and messages must not mix."""
        with self._lock:
            self.connection.send(message)

    def report(self, job: int, fraction: float, words: str) -> None:
        now = time.monotonic()
        # the first word of a job is heard however short it is
        if now - self._last >= REPORTS or fraction >= 1.0 or job != self._told:
            self._last, self._told = now, job
            self.send("progress", job, fraction, words)

    def cancelled(self, job: int) -> bool:
        while self.connection.poll():
            message = self.connection.recv()
            if message[0] == "cancel":
                self.stop = message[1]
            elif message[0] == "stop early":
                self.content = message[1]
            else:
                self.waiting.append(message)
        return self.stop == job

    def show(self, job: int, value: Any, folder: Path) -> None:
        target = folder / f"{uuid.uuid4().hex}.payload"
        write_payload(value, target)
        self.send("shown", job, str(target))

    def stops_early(self, job: int) -> bool:
        self.cancelled(job)
        return self.content == job

    def next(self) -> tuple[Any, ...]:
        return self.waiting.pop(0) if self.waiting else self.connection.recv()


def _run(desk: _Desk, job: int, name: str, arguments: Path) -> tuple[Any, ...]:
    module, _, called = name.partition(":")
    progress = Progress(
        lambda fraction, words: desk.report(job, fraction, words),
        lambda: desk.cancelled(job),
        show=lambda value: desk.show(job, value, arguments.parent),
        stop_early=lambda: desk.stops_early(job),
    )
    try:
        positional, keywords = read_payload(arguments)
        function = getattr(importlib.import_module(module), called)
        value = function(*positional, **keywords, progress=progress)
        target = arguments.parent / f"{uuid.uuid4().hex}.payload"
        write_payload(value, target)
        return ("done", job, str(target))
    except Cancelled:
        return ("cancelled", job)
    except FasciculumError as error:
        return ("failed", job, error)
    except MemoryError:
        return ("crash", job, "The worker ran out of memory.")
    except Exception:
        LOG.exception("fault of the program in %s", name)
        return ("crash", job, traceback.format_exc())


def serve(connection: Connection, warm: list[str]) -> None:
    """Answer until the other end closes; results are put beside the arguments that they belong to."""
    # both cores are used at times; the window goes first
    os.nice(max(0, NICENESS - os.nice(0)))
    for module in warm:
        importlib.import_module(module)
    desk = _Desk(connection)
    desk.send("ready")
    send_records(lambda record: desk.send("log", record))
    while True:
        try:
            message = desk.next()
        except (EOFError, OSError):
            return
        if message[0] == "run":
            desk.stop = -1
            answer = _run(desk, message[1], message[2], Path(message[3]))
            try:
                desk.send(*answer)
            except (BrokenPipeError, OSError):
                return


def main() -> None:
    """Serve the connection whose number and modules to load are on the command line."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    serve(Connection(int(sys.argv[1])), sys.argv[2:])


if __name__ == "__main__":
    main()
