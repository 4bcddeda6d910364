"""What a command holds in memory: watched in all its processes together, bounded by giving back what can be had anew.

A watch looks at the proportional set size of this process and of those that it began, mapped files counted. Near its
limit it has caches emptied that said so (`on_pressure`), so that what they hold is read or worked out once more.
"""

from __future__ import annotations

import contextlib
import mmap
import os
import re
import threading
import weakref
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from numpy.typing import NDArray

from fasciculum.errors import UsageError

#: seconds between two looks, and the part of the limit from which on caches are emptied
LOOK, NEAR = 0.25, 0.75
#: looks between two at the scratch folder
FILES_EVERY = 16
UNITS = {"": 1, "k": 10**3, "m": 10**6, "g": 10**9, "ki": 2**10, "mi": 2**20, "gi": 2**30, "ti": 2**40}
#: the least that a command can do with
LEAST = 256 << 20
#: memory that a watch goes by where the system tells nothing
USUAL = 4 << 30

_maps: dict[int, weakref.ref[mmap.mmap]] = {}
_caches: list[Callable[[], object]] = []
_watching: list[MemoryWatch] = []


def bytes_of(text: str) -> int:
    """Return a size in words, such as ``4GiB`` or ``512 MB``, as bytes.

    Raises
    ------
    UsageError
        When it is none, or too little to work with.
    """
    match = re.fullmatch(r"\s*([0-9]+(?:\.[0-9]+)?)\s*([kmgt]?i?)b?\s*", text, re.IGNORECASE)
    unit = UNITS.get(match[2].lower()) if match else None
    if match is None or unit is None:
        raise UsageError(f"{text!r} is not a size of memory.", hint="Write it like 4GiB or 512MiB.")
    result = int(float(match[1]) * unit)
    if result < LEAST:
        raise UsageError(f"{text} is too little memory to work with.", hint=f"Give {LEAST >> 20} MiB or more.")
    return result


def free_bytes() -> int:
    """Return the memory that the system can still give, bytes."""
    try:
        text = Path("/proc/meminfo").read_text()
    except OSError:
        return USUAL
    match = re.search(r"MemAvailable:\s+(\d+) kB", text)
    return int(match[1]) * 1024 if match else USUAL


def on_pressure(empty: Callable[[], object]) -> Callable[[], object]:
    """Have something called near the limit, from another thread: it gives back what can be had anew."""
    _caches.append(empty)
    return empty


def mapped(array: NDArray[Any]) -> NDArray[Any]:
    """Return an array of a mapped file, and have its pages let go near the limit; they are read again when needed.

    What was written to them stays in the file: the system writes it when it likes.
    """
    inner = getattr(array, "_mmap", None)
    if inner is not None:
        _maps[id(inner)] = weakref.ref(inner, partial(_gone, id(inner)))
    return array


def _gone(key: int, _: object) -> None:
    _maps.pop(key, None)


def held_bytes(process: int | None = None) -> int:
    """Return the proportional set size of a process, this one without, and of all that it began, bytes."""
    process = os.getpid() if process is None else process
    total = 0
    try:
        with open(f"/proc/{process}/smaps_rollup") as stream:
            match = re.search(r"^Pss:\s+(\d+) kB", stream.read(), re.MULTILINE)
        total = int(match[1]) * 1024 if match else 0
        for thread in os.listdir(f"/proc/{process}/task"):
            children = Path(f"/proc/{process}/task/{thread}/children").read_text().split()
            total += sum(held_bytes(int(child)) for child in children)
    except OSError:
        # it has ended in the meantime, or the system does not tell
        return total
    return total


class MemoryWatch:
    """Looks at the memory of a command, and has caches emptied near the limit.

    Parameters
    ----------
    limit : int
        Bytes that all processes together may hold.
    scratch : Path
        The folder whose files are counted as scratch.
    """

    def __init__(self, limit: int, scratch: Path) -> None:
        self.limit, self.scratch = limit, scratch
        self.peak = self.scratch_peak = 0
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._run, name="memory", daemon=True)

    def start(self) -> None:
        """Begin to look."""
        _watching.append(self)
        self._thread.start()

    def stop(self) -> None:
        """End looking."""
        self._ended.set()
        self._thread.join()
        if self in _watching:
            _watching.remove(self)

    def _run(self) -> None:
        looks = 0
        while not self._ended.wait(LOOK):
            # files are many, and grow slowly
            self.look(files=looks % FILES_EVERY == 0)
            looks += 1

    def look(self, *, files: bool = True) -> None:
        """Look once, and give back what can be had anew where that is needed."""
        held = held_bytes()
        self.peak = max(self.peak, held)
        if files:
            self.scratch_peak = max(self.scratch_peak, _size_of(self.scratch))
        if held > NEAR * self.limit:
            relieve()

    def figures(self) -> dict[str, int]:
        """Return limit, peak and scratch, bytes."""
        self.look()
        return {"limit_bytes": self.limit, "peak_bytes": self.peak, "scratch_bytes": self.scratch_peak}


def relieve() -> None:
    """Empty every cache that said so, and let go of the pages of mapped files."""
    for empty in tuple(_caches):
        empty()
    # a copy, since maps that are given up meanwhile take themselves out, in whichever thread that happens
    for one in list(_maps.values()):
        inner = one()
        if inner is None:
            continue
        # a map that was closed in the meantime holds nothing
        with contextlib.suppress(ValueError, OSError):
            inner.madvise(mmap.MADV_DONTNEED)


def memory_figures() -> dict[str, Any]:
    """Return the figures of the watch that is on, as a part of a report; nothing without one."""
    return {"memory": _watching[-1].figures()} if _watching else {}


def memory_limit() -> int:
    """Return how much may be held, bytes: that of the watch that is on, else half of what is free."""
    return _watching[-1].limit if _watching else free_bytes() // 2


def _size_of(folder: Path) -> int:
    total = 0
    for place, _, names in os.walk(folder):
        for name in names:
            try:
                total += os.stat(os.path.join(place, name)).st_size
            except OSError:
                continue
    return total
