"""Farms: processes here, or the workers of a Dask scheduler, that jobs or their bundles are handed to.

Workers of whole jobs see the same files as whoever hands them out. The same bytes come out: a job depends on nothing
but itself.
"""

from __future__ import annotations

import logging
import os
import re
from collections.abc import Callable
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from importlib import import_module
from multiprocessing import get_context
from pathlib import Path
from typing import Any, Protocol

from fasciculum import __version__
from fasciculum.errors import MissingFile, UsageError
from fasciculum.logs import join_log, log_file
from fasciculum.session.remote import WorkerPool
from fasciculum.threads import share_cores

LOG = logging.getLogger(__name__)
#: seconds that a scheduler is waited for: with the start of a command they come to under thirty on a busy machine
PATIENCE = 12
LOCAL, FAR = re.compile(r"local:(\d+)"), re.compile(r"tcp://[^\s/:]+:\d+")
#: processes at most
MOST = 256
#: modules that processes here share, loaded once
PRELOADED = ["fasciculum.cli.jobs", "fasciculum.session.remote", "fasciculum.session.pipeline"]


class Farm(WorkerPool, Protocol):
    """Takes functions of modules with their arguments, to be done somewhere."""

    def count(self) -> int:
        """Return how many there are to do them."""

    def close(self) -> None:
        """Let all go."""


def farm_of(text: str) -> Farm | None:
    """Return the farm of an address, None for none.

    Raises
    ------
    UsageError
        When the address makes no sense, or Dask is not installed.
    MissingFile
        When no scheduler answers, or its workers are of another version.
    """
    if not text:
        return None
    local = LOCAL.fullmatch(text)
    if local and 0 < int(local[1]) <= MOST:
        return LocalPool(int(local[1]))
    if FAR.fullmatch(text):
        return DaskPool(text)
    raise UsageError(f"{text!r} is not a farm.", hint="Write local:4, or tcp://HOST:PORT of a scheduler.")


class LocalPool:
    """Processes on this machine."""

    near = True

    def __init__(self, count: int) -> None:
        self._count = count
        self._pool = self._new()

    def _new(self) -> ProcessPoolExecutor:
        # forked from a process that has no threads and has loaded what a job needs, since loading takes seconds; never
        # from this one, whose threads do not live on in a copy of it
        context = get_context("forkserver")
        context.set_forkserver_preload(PRELOADED)
        threads = max((os.cpu_count() or 1) // self._count, 1)
        return ProcessPoolExecutor(self._count, context, _begin, (threads, log_file()))

    def submit(self, function: Callable[..., Any], *arguments: Any) -> Future[Any]:
        """Hand a call over; processes that died are replaced."""
        try:
            return self._pool.submit(function, *arguments)
        except BrokenProcessPool:
            self._pool.shutdown(wait=False, cancel_futures=True)
            self._pool = self._new()
            return self._pool.submit(function, *arguments)

    def send(self, key: str, read: Callable[[], bytes]) -> Any:
        """Return the data: all is on this machine."""
        return read()

    def count(self) -> int:
        """Return how many processes there are."""
        return self._count

    def stop(self) -> None:
        """End every process."""
        for process in list((self._pool._processes or {}).values()):
            process.terminate()
        self._pool.shutdown(wait=True, cancel_futures=True)

    def close(self) -> None:
        """Let the processes go."""
        self._pool.shutdown(wait=False, cancel_futures=True)


def _begin(threads: int, log: Path) -> None:
    """Let a process that has just begun take no more than its share of the cores, and log into a file."""
    share_cores(threads)
    join_log(log)


class DaskPool:
    """Workers of a Dask scheduler."""

    near = False

    def __init__(self, address: str) -> None:
        try:
            # an extra, which is not there for whoever reads types
            distributed: Any = import_module("distributed")
        except ImportError as error:
            raise UsageError(
                "Dask is not installed, which a farm beyond this machine needs.",
                hint="Install it: pip install fasciculum[farm].",
            ) from error
        try:
            self._client = distributed.Client(address, timeout=PATIENCE, set_as_default=False)
        except (OSError, TimeoutError, ValueError) as error:
            raise MissingFile(
                "no scheduler answers there.", file=address, hint="Start one with `dask scheduler`, and check the port."
            ) from error
        #: what has been sent, by the keys of its content
        self._sent: dict[str, Any] = {}
        self._judge_workers(address)

    def _judge_workers(self, address: str) -> None:
        """Refuse workers that would make other bytes.

        Raises
        ------
        MissingFile
        """
        told = self._client.get_versions(packages=["fasciculum"])["workers"].values()
        if not told:
            self.close()
            raise MissingFile("the scheduler has no workers.", file=address, hint="Start some with `dask worker`.")
        versions = {one["packages"]["fasciculum"] or "none" for one in told}
        others = sorted(versions - {__version__})
        if others:
            self.close()
            raise MissingFile(
                f"its workers have version {', '.join(others)}, this is {__version__}.",
                file=address,
                hint="Install the same version everywhere.",
            )

    def submit(self, function: Callable[..., Any], *arguments: Any) -> Future[Any]:
        """Hand a call over; the scheduler gives it to another worker when one dies."""
        result: Future[Any] = Future()
        future = self._client.submit(function, *arguments, pure=False, retries=3)

        def take(ended: Any) -> None:
            if result.cancelled():
                return
            error = ended.exception() if ended.status == "error" else None
            if ended.status == "finished":
                result.set_result(ended.result())
            else:
                result.set_exception(error or RuntimeError(f"it was {ended.status}"))

        future.add_done_callback(take)
        return result

    def send(self, key: str, read: Callable[[], bytes]) -> Any:
        """Return what stands for data on the farm: sent once, and from worker to worker as tasks need it."""
        if key not in self._sent:
            self._sent[key] = self._client.scatter({f"fasciculum-{key}": read()})[f"fasciculum-{key}"]
        return self._sent[key]

    def count(self) -> int:
        """Return how many workers there are."""
        return len(self._client.scheduler_info(n_workers=-1)["workers"])

    def stop(self) -> None:
        """Have nothing more begun."""
        try:
            self._client.cancel(list(self._client.futures))
        except Exception as error:  # whatever a scheduler that is going away answers
            LOG.warning("the farm did not cancel what waits: %r", error)

    def close(self) -> None:
        """Let the scheduler go."""
        try:
            self._client.close(timeout=5)
        except Exception as error:  # whatever a scheduler that is going away answers
            LOG.info("the farm was left without goodbye: %r", error)
