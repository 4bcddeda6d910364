"""Folders for a session's own files, and the sweeping up after sessions that were killed."""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import tempfile
from pathlib import Path

from fasciculum.jobs.processes import alive

MEMORY = Path("/dev/shm")
#: room that the folder in memory must have before it is used for handing arrays to the worker
ROOM = 2 << 30


def _in_memory() -> Path | None:
    """Return a folder that lies in memory, None where there is none with room.

    Writing to a disk that is busy with a bake's results would hold up whoever hands work over.
    """
    if MEMORY.is_dir() and os.access(MEMORY, os.W_OK) and shutil.disk_usage(MEMORY).free > ROOM:
        return MEMORY
    return None


def new_folder(*, memory: bool = False) -> Path:
    """Make a folder for this process, on disk or, where it can be had, in memory."""
    parent = _in_memory() if memory else None
    return Path(tempfile.mkdtemp(prefix=f"fasciculum-{os.getpid()}-", dir=parent))


def sweep() -> list[Path]:
    """Delete the folders of processes that are gone, and return them; those of other people stay."""
    gone = []
    for parent in {Path(tempfile.gettempdir()), MEMORY}:
        with contextlib.suppress(OSError):
            for folder in parent.glob("fasciculum-*-*"):
                match = re.match(r"fasciculum-(\d+)-", folder.name)
                if match and folder.stat().st_uid == os.getuid() and not alive(int(match[1])):
                    shutil.rmtree(folder, ignore_errors=True)
                    gone.append(folder)
    return gone
