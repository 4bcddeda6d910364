"""Processes that encode bands of texels, since the libraries hold the interpreter while they work.

They begin with the first band, serve this process for as long as it lives, and end when it does: at the end of their
input. Each is asked by one thread at a time, through its standard input and output.
"""

from __future__ import annotations

import atexit
import logging
import pickle
import queue
import subprocess
import sys
import threading
from typing import Any, BinaryIO

from numpy.typing import NDArray

from fasciculum.compression.encoders import encode_band
from fasciculum.threads import thread_count

LOG = logging.getLogger(__name__)
#: what a process runs: it finds modules where this one finds them
PROGRAM = "import sys; sys.path[:] = {path!r}; from fasciculum.compression.processes import serve; serve()"

Band = tuple[NDArray[Any], str, tuple[int, int]]


def serve() -> None:
    """Answer bands on standard input with blocks on standard output, until the input ends."""
    given, answers = sys.stdin.buffer, sys.stdout.buffer
    while True:
        try:
            band = pickle.load(given)  # by the process that began this one
        except EOFError:
            return
        try:
            answer: object = encode_band(*band)
        except Exception as error:  # whatever it is goes to whoever asked
            answer = error
        _send(answers, answer)


def _send(stream: BinaryIO, value: object) -> None:
    pickle.dump(value, stream, protocol=5)
    stream.flush()


class Processes:
    """So many processes as there are cores for this one; safe to use from several threads at once."""

    def __init__(self) -> None:
        self._idle: queue.SimpleQueue[subprocess.Popen[bytes] | None] = queue.SimpleQueue()
        self._begun: list[subprocess.Popen[bytes]] = []
        self._lock = threading.Lock()

    def encode(self, band: Band) -> bytes:
        """Encode whole rows of blocks in a process, or here where none can be had or one was lost."""
        process = self._take()
        if process is None:
            return encode_band(*band)
        assert process.stdin is not None and process.stdout is not None
        try:
            _send(process.stdin, band)  # type: ignore[arg-type]
            answer = pickle.load(process.stdout)  # by a process of ours
        except (OSError, EOFError, pickle.UnpicklingError) as error:
            LOG.warning("a process that compresses textures was lost (%s); its band is encoded here", error)
            self._drop(process)
            return encode_band(*band)
        except BaseException:
            # what it was asked is not what the next one asks
            self._drop(process)
            raise
        self._idle.put(process)
        if isinstance(answer, Exception):
            raise answer
        return bytes(answer)

    def _take(self) -> subprocess.Popen[bytes] | None:
        """Return an idle process, a new one while there are fewer than cores, None where none can be begun."""
        try:
            return self._idle.get_nowait()
        except queue.Empty:
            pass
        with self._lock:
            if len(self._begun) < thread_count():
                return self._begin()
        return self._idle.get()

    def _begin(self) -> subprocess.Popen[bytes] | None:
        program = PROGRAM.format(path=[entry for entry in sys.path if entry])
        try:
            process = subprocess.Popen(  # this interpreter, with a program of ours
                [sys.executable, "-c", program], stdin=subprocess.PIPE, stdout=subprocess.PIPE
            )
        except OSError as error:
            LOG.warning("no process can be begun to compress textures (%s)", error)
            return None
        self._begun.append(process)
        return process

    def _drop(self, process: subprocess.Popen[bytes]) -> None:
        with self._lock:
            if process in self._begun:
                self._begun.remove(process)
        process.kill()
        process.communicate()

    def close(self) -> None:
        """End the processes; the next band begins new ones."""
        with self._lock:
            left, self._begun = self._begun, []
            self._idle = queue.SimpleQueue()
        for process in left:
            process.kill()
            process.communicate()


PROCESSES = Processes()
atexit.register(PROCESSES.close)
