"""The parent's side: a queue of jobs and the one warm worker that runs them."""

from __future__ import annotations

import contextlib
import itertools
import logging
import pickle
import socket
import subprocess
import sys
import time
import uuid
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from fasciculum.errors import FasciculumError, WorkerLost
from fasciculum.jobs.payload import read_payload, write_payload
from fasciculum.logs import take_record
from fasciculum.progress import Cancelled, Progress
from fasciculum.trace import TASK, span

LOG = logging.getLogger(__name__)
#: seconds that a job has to stop by itself once it is cancelled
PATIENCE = 0.5

#: jobs that are over and still listed, at most
MOST_REMEMBERED = 200

WAITING, RUNNING, DONE, FAILED, CANCELLED = "waiting", "running", "done", "failed", "cancelled"


#: seconds by which the time left is judged, and what has to be gained and to pass before it is
LATE, LEAST_GAINED, LEAST_PASSED = 20.0, 0.01, 1.5


@dataclass(eq=False)
class QueueEntry:
    """One piece of work: the function's name as ``module:function``, its arguments, and how it stands."""

    number: int
    title: str
    function: str
    arguments: tuple[Any, ...]
    keywords: dict[str, Any]
    finished: Callable[[Any], None] | None = None
    shown: Callable[[Any], None] | None = None
    state: str = WAITING
    fraction: float = 0.0
    words: str = ""
    error: Exception | None = None
    log: list[str] = field(default_factory=list)
    #: what whoever submitted it knows it by
    about: tuple[str, ...] = ()
    handed: Path | None = None
    started: float = 0.0
    ended: float = 0.0
    #: when it was how far, of late: (seconds, part done)
    marks: deque[tuple[float, float]] = field(default_factory=lambda: deque(maxlen=64))

    @property
    def over(self) -> bool:
        """Whether nothing more will happen to it."""
        return self.state in (DONE, FAILED, CANCELLED)

    def seconds_left(self, now: float) -> float | None:
        """Return an estimate of the time left in seconds, None while there is too little to go by.

        It is judged by how fast the work went of late, since its stages do not go alike; work that has told nothing
        for longer than it took to get here is not judged at all.
        """
        if self.state != RUNNING or not self.marks:
            return None
        since, part = self.marks[0]
        gained, passed = self.fraction - part, now - since
        if gained < LEAST_GAINED or passed < LEAST_PASSED:
            return None
        return passed * (1 - self.fraction) / gained

    def mark(self, now: float) -> None:
        """Take note of how far it is, at most so often that the marks reach back over `LATE` seconds."""
        if not self.marks or now - self.marks[-1][0] >= LATE / 64:
            self.marks.append((now, self.fraction))
        while len(self.marks) > 2 and now - self.marks[0][0] > LATE:
            self.marks.popleft()

    def note(self, words: str) -> None:
        """Add a line to the log unless it says the same as the last one."""
        if words and (not self.log or self.log[-1] != words):
            self.log.append(words)


class Crash(FasciculumError):
    """An error in our own code, in the worker; its traceback is in the message."""

    code = "crash"


class InlineRunner:
    """The same protocol without a process, for the command line and for tests: jobs run as they are submitted."""

    def __init__(self, progress: Progress | None = None) -> None:
        self.jobs: list[QueueEntry] = []
        self.progress = progress or Progress()
        self._numbers = itertools.count(1)

    def submit(
        self,
        title: str,
        function: Callable[..., Any],
        *arguments: Any,
        finished: Callable[[Any], None] | None = None,
        about: tuple[str, ...] = (),
        **keywords: Any,
    ) -> QueueEntry:
        """Run a function now."""
        job = QueueEntry(
            next(self._numbers), title, name_of(function), arguments, keywords, finished, state=RUNNING, about=about
        )
        self.jobs.append(job)
        try:
            with span(title, TASK):
                value = function(*arguments, **keywords, progress=self.progress)
        except Cancelled:
            job.state = CANCELLED
            raise
        except Exception as error:
            job.state, job.error = FAILED, error
            raise
        job.state, job.fraction = DONE, 1.0
        LOG.info("%s: %s", title, DONE)
        if finished is not None:
            finished(value)
        return job

    def cancel(self, job: QueueEntry) -> None:
        """Do nothing: whatever runs here is over once anybody can ask."""

    def drain(self) -> None:
        """Do nothing: results are taken in as jobs are submitted."""


def name_of(function: Callable[..., Any]) -> str:
    """Return a function as ``module:function``."""
    return f"{function.__module__}:{function.__qualname__}"


class Runner:
    """Runs jobs one after the other in a worker process that is started ahead of need.

    Parameters
    ----------
    scratch : Path
        A folder for arguments and results; whoever made it deletes it.
    warm : list of str
        Modules that the worker loads before the first job.
    """

    def __init__(self, scratch: Path, warm: list[str]) -> None:
        self.scratch = scratch
        self.warm = warm
        self.jobs: list[QueueEntry] = []
        self.changed: Callable[[], None] = lambda: None
        #: called when the connection is a new one, since whoever waits on it must wait on another file
        self.reconnected: Callable[[], None] = lambda: None
        self._numbers = itertools.count(1)
        self._ready = False
        self._deadline = 0.0
        self.process: subprocess.Popen[bytes] | None = None
        self.connection: Connection | None = None
        self.start()

    def start(self) -> None:
        """Start a fresh worker."""
        ours, theirs = socket.socketpair()
        with theirs:
            command = [sys.executable, "-m", "fasciculum.jobs.worker", str(theirs.fileno()), *self.warm]
            self.process = subprocess.Popen(command, pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL)
        self.connection = Connection(ours.detach())
        self._ready = False
        self.reconnected()

    def close(self) -> None:
        """End the worker, whatever it does."""
        if self.connection is not None:
            self.connection.close()
            self.connection = None
        if self.process is not None:
            self.process.kill()
            self.process.wait()
            self.process = None

    @property
    def running(self) -> QueueEntry | None:
        """The job that the worker has, if any."""
        return next((job for job in self.jobs if job.state == RUNNING), None)

    @property
    def unfinished(self) -> list[QueueEntry]:
        """Jobs that run or wait."""
        return [job for job in self.jobs if not job.over]

    def submit(
        self,
        title: str,
        function: Callable[..., Any],
        *arguments: Any,
        finished: Callable[[Any], None] | None = None,
        shown: Callable[[Any], None] | None = None,
        about: tuple[str, ...] = (),
        **keywords: Any,
    ) -> QueueEntry:
        """Queue a function of a module; ``finished`` gets its value, ``shown`` what it shows before, from `poll`."""
        job = QueueEntry(
            next(self._numbers), title, name_of(function), arguments, keywords, finished, shown, about=about
        )
        self.jobs.append(job)
        self._next()
        self.changed()
        return job

    def cancel(self, job: QueueEntry) -> None:
        """Stop a job: a waiting one at once, a running one within the worker's patience."""
        if job.state == WAITING:
            job.state = CANCELLED
            self.changed()
        elif job.state == RUNNING and self.connection is not None and not self._deadline:
            self._deadline = time.monotonic() + PATIENCE
            job.words = "Stopping"
            with contextlib.suppress(OSError):
                self.connection.send(("cancel", job.number))
            self.changed()

    def stop_early(self, job: QueueEntry) -> None:
        """Ask a running job to end with the best that it has."""
        if job.state == RUNNING and self.connection is not None:
            with contextlib.suppress(OSError):
                self.connection.send(("stop early", job.number))

    def _next(self) -> None:
        if self.running is not None or self.connection is None:
            return
        job = next((job for job in self.jobs if job.state == WAITING), None)
        if job is None:
            return
        target = self.scratch / f"{uuid.uuid4().hex}.payload"
        try:
            job.handed = target
            write_payload((job.arguments, job.keywords), target)
            job.arguments = ()
            job.state, job.started = RUNNING, time.monotonic()
            self.connection.send(("run", job.number, job.function, str(target)))
        except OSError as error:
            self._end(job, FAILED, WorkerLost(f"the work could not be handed over ({error})."))
        except (pickle.PicklingError, TypeError, AttributeError) as error:
            # a fault of the program, which must not hold up what waits behind it
            self._end(
                job, FAILED, Crash(f"its arguments cannot be handed to another process ({error}).", item=job.title)
            )

    def poll(self) -> None:
        """Take in what the worker has said; call it often and when the connection has something."""
        while (message := self._received()) is not None:
            # what takes a result in may fail by itself, and then says so itself: the worker has not gone
            self._take(message)
        if self._deadline and time.monotonic() > self._deadline:
            self._lost("")
        self._next()

    def _received(self) -> tuple[Any, ...] | None:
        """Return the worker's next message, None while there is none; starts over where the worker has gone."""
        try:
            if self.connection is not None and self.connection.poll():
                message: tuple[Any, ...] = self.connection.recv()
                return message
        except (EOFError, OSError):
            self._lost("The worker process ended by itself")
        return None

    def _lost(self, why: str) -> None:
        """Start over after the worker has gone, or has to go."""
        job = self.running
        LOG.warning("worker replaced while it had %s: %s", job.title if job else "nothing to do", why or "cancelled")
        if self.process is not None:
            self.process.kill()
            code = self.process.wait()
            why = f"{why} (signal {-code})." if why and code < 0 else why
        if self.connection is not None:
            self.connection.close()
        self.start()
        if job is not None:
            if self._deadline:
                self._end(job, CANCELLED, None)
            else:
                hint = "Nothing of the project is lost; a new worker has been started. Try again."
                self._end(job, FAILED, WorkerLost(why, item=job.title, hint=hint))

    def _take(self, message: tuple[Any, ...]) -> None:
        kind = message[0]
        if kind == "ready":
            self._ready = True
            return
        if kind == "log":
            take_record(message[1])
            return
        job = self.running
        if job is None or message[1] != job.number:
            return
        if kind == "progress":
            job.fraction, words = max(job.fraction, message[2]), message[3]
            if words and not self._deadline:
                job.words = words
                job.note(words)
            job.mark(time.monotonic())
            self.changed()
        elif kind == "shown":
            value = read_payload(Path(message[2]))
            if job.shown is not None and not self._deadline:
                job.shown(value)
        elif kind == "done":
            value = read_payload(Path(message[2]))
            job.fraction = 1.0
            finished = job.finished
            self._end(job, DONE, None)
            if finished is not None:
                finished(value)
        elif kind == "cancelled":
            self._end(job, CANCELLED, None)
        elif kind == "failed":
            self._end(job, FAILED, message[2])
        else:
            self._end(job, FAILED, Crash(message[2], item=job.title))

    def _end(self, job: QueueEntry, state: str, error: Exception | None) -> None:
        job.state, job.error, job.ended = state, error, time.monotonic()
        seconds = job.ended - (job.started or job.ended)
        LOG.info("%s: %s after %.2f s%s", job.title, state, seconds, f" ({error})" if error else "")
        # what they hold, such as whole documents, is let go of
        job.finished = job.shown = None
        over = [job for job in self.jobs if job.over]
        for old in over[: max(len(over) - MOST_REMEMBERED, 0)]:
            self.jobs.remove(old)
        self._deadline = 0.0
        if job.handed is not None:
            job.handed.unlink(missing_ok=True)
        if error is not None:
            job.note(str(error))
        self.changed()
