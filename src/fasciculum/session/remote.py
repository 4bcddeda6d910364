"""Tasks of one job on a farm: handed out side by side, with the pixels that they read, and taken in as they end."""

from __future__ import annotations

import itertools
import logging
import tempfile
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, wait
from pathlib import Path
from typing import Any, Protocol

from fasciculum.errors import FasciculumError
from fasciculum.io.pixels import PixelStore
from fasciculum.jobs.runner import CANCELLED, DONE, FAILED, RUNNING, QueueEntry, name_of
from fasciculum.progress import SILENT, Cancelled, Progress

LOG = logging.getLogger(__name__)
#: seconds between two looks at whether all is to be stopped
LOOK = 0.1
#: how often a task is begun again whose process died
MOST_AGAIN = 2
#: what stands for the store of whoever does a task
STORE = "the worker's own store"


class WorkerPool(Protocol):
    """Whoever does calls somewhere."""

    #: whether workers see a folder for passing things that is on this machine
    near: bool

    def submit(self, function: Callable[..., Any], *arguments: Any) -> Future[Any]:
        """Hand a call over."""

    def send(self, key: str, read: Callable[[], bytes]) -> Any:
        """Return what stands for data among arguments; what goes by the same key is neither read nor sent twice."""

    def stop(self) -> None:
        """Stop whatever is under way."""


class RemoteRunner:
    """Hands tasks over as they are submitted; their results are taken in by `drain`.

    Parameters
    ----------
    pool : WorkerPool
    store : PixelStore
        What tasks are given as theirs; workers that do not see it get one of their own, with what is in this.
    """

    def __init__(self, pool: WorkerPool, store: PixelStore, progress: Progress = SILENT) -> None:
        self.pool, self.store, self.progress = pool, store, progress
        self._under_way: dict[Future[Any], tuple[QueueEntry, int]] = {}
        self._calls: dict[int, tuple[Any, ...]] = {}
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
        """Hand a task over."""
        number = next(self._numbers)
        job = QueueEntry(number, title, name_of(function), (), {}, finished, state=RUNNING, about=about)
        if self.pool.near:
            self._calls[number] = (_do, function, arguments, keywords)
        else:
            sent = tuple(STORE if isinstance(one, PixelStore) else one for one in arguments)
            # only tasks that are given a store read pixels
            files = self.store.files() if STORE in sent else []
            pixels = {file.name: self.pool.send(file.name, file.read_bytes) for file in files}
            self._calls[number] = (do_remote, function, sent, keywords, pixels)
        self._under_way[self.pool.submit(*self._calls[number])] = job, 0
        return job

    def cancel(self, job: QueueEntry) -> None:
        """Do nothing: `drain` stops everything at once."""

    def drain(self) -> None:
        """Take in what is under way, in the order in which it ends.

        Raises
        ------
        Cancelled
        FasciculumError
            What a task ended with.
        """
        count, over = len(self._under_way), 0
        while self._under_way:
            done, _ = wait(self._under_way, timeout=LOOK, return_when=FIRST_COMPLETED)
            try:
                self.progress.update(over / count, f"{len(self._under_way)} tasks on the farm")
            except Cancelled:
                for job, _ in self._under_way.values():
                    job.state = CANCELLED
                self._under_way.clear()
                self.pool.stop()
                raise
            for future in done:
                job, again = self._under_way.pop(future)
                error = future.exception()
                if error is not None and again < MOST_AGAIN and not _ours(error):
                    # a process that died takes nothing along
                    LOG.warning("%s is handed over again: %r", job.title, error)
                    self._under_way[self.pool.submit(*self._calls[job.number])] = job, again + 1
                    continue
                del self._calls[job.number]
                if error is not None:
                    job.state, job.error = FAILED, error if isinstance(error, Exception) else None
                    for other in self._under_way:
                        other.cancel()
                    self._under_way.clear()
                    raise error
                value, made = future.result()
                for name, data in made.items():
                    self.store.put_file(name, data)
                job.state, job.fraction = DONE, 1.0
                over += 1
                if job.finished is not None:
                    job.finished(value)


def _ours(error: BaseException) -> bool:
    """Whether a task itself went wrong, and would again."""
    return isinstance(error, FasciculumError | ValueError | TypeError | KeyError | IndexError | AttributeError)


def _do(function: Callable[..., Any], arguments: Sequence[Any], keywords: Mapping[str, Any]) -> tuple[Any, dict]:
    """Do a task on this machine, in a store that both see."""
    return function(*arguments, **keywords, progress=SILENT), {}


def do_remote(
    function: Callable[..., Any], arguments: Sequence[Any], keywords: Mapping[str, Any], pixels: Mapping[str, bytes]
) -> tuple[Any, dict[str, bytes]]:
    """Do a task with a store of its own; return its result, and what it put into the store.

    The store goes with the task: one that has kept what an earlier task made could not tell that this one made it too.
    """
    with tempfile.TemporaryDirectory(prefix="fasciculum-far-") as folder:
        store = PixelStore(Path(folder))
        for name, data in pixels.items():
            store.put_file(name, data)
        own = [store if isinstance(one, str) and one == STORE else one for one in arguments]
        value = function(*own, **keywords, progress=SILENT)
        return value, {file.name: file.read_bytes() for file in store.files() if file.name not in pixels}
