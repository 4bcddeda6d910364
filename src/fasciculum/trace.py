"""Where the time of a command goes, as a file in the Trace Event Format that browsers' and other viewers read.

A trace has three kinds of spans: stages, which follow each other and add up to the whole; the tasks of bundles within
them; and steps, for which the words of the progress stand. Nothing is recorded, and nothing is slower, without one.
"""

from __future__ import annotations

import json
import os
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

STAGE, TASK, STEP = "stage", "task", "step"
#: the row that a kind of span is shown in
ROWS = {STAGE: 1, TASK: 2, STEP: 3}


class Trace:
    """Spans of one process, in the order in which they end; times are microseconds since the process was started."""

    def __init__(self) -> None:
        self._origin = time.monotonic_ns() - round(process_age() * 1e9)
        self._events: list[dict[str, Any]] = []
        self._lock = threading.Lock()
        self._step: tuple[str, float] | None = None

    def now(self) -> float:
        """Return the time since the process was started, microseconds."""
        return (time.monotonic_ns() - self._origin) / 1e3

    def add(self, name: str, kind: str, start: float, end: float) -> None:
        """Record a span."""
        event = {
            "name": name,
            "cat": kind,
            "ph": "X",
            "ts": round(start, 1),
            "dur": round(max(end - start, 0.0), 1),
            "pid": os.getpid(),
            "tid": ROWS[kind],
        }
        with self._lock:
            self._events.append(event)

    def step(self, words: str) -> None:
        """Begin a step, and end the one before; figures within its words do not make another one."""
        name = "".join(letter for letter in words if not letter.isdigit()).strip()
        before = self._step
        if before is not None and before[0] != name:
            self.add(before[0], STEP, before[1], self.now())
        if before is None or before[0] != name:
            self._step = (name, self.now()) if name else None

    def text(self) -> str:
        """Return the trace as JSON."""
        if self._step is not None:
            self.step("")
        names = [
            {"name": "process_name", "ph": "M", "pid": os.getpid(), "tid": 0, "args": {"name": "fasciculum"}},
            *(
                {"name": "thread_name", "ph": "M", "pid": os.getpid(), "tid": row, "args": {"name": f"{kind}s"}}
                for kind, row in ROWS.items()
            ),
        ]
        with self._lock:
            events = sorted(self._events, key=lambda event: event["ts"])
        return json.dumps({"traceEvents": [*names, *events], "displayTimeUnit": "ms"}, indent=0)


#: the trace that is recorded, if any
_active: Trace | None = None


def start_trace() -> Trace:
    """Begin to record; what went before since the process was started is the stage *start*."""
    global _active
    _active = Trace()
    _active.add("start", STAGE, 0.0, _active.now())
    return _active


def stop_trace() -> None:
    """Record no longer."""
    global _active
    _active = None


@contextmanager
def span(name: str, kind: str) -> Iterator[None]:
    """Record what is done within as a span, if anything is recorded."""
    trace = _active
    if trace is None:
        yield
        return
    start = trace.now()
    try:
        yield
    finally:
        trace.add(name, kind, start, trace.now())


def process_age() -> float:
    """Return the seconds since this process was started, 0 where the system does not tell."""
    try:
        with open("/proc/self/stat") as file:
            # the name, which may hold anything, stands in brackets
            ticks = int(file.read().rpartition(")")[2].split()[19])
        return max(time.clock_gettime(time.CLOCK_BOOTTIME) - ticks / os.sysconf("SC_CLK_TCK"), 0.0)
    except (OSError, ValueError, IndexError, AttributeError):
        return 0.0
