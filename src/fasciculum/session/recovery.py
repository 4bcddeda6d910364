"""Work that is kept beside the project in case the program ends by itself, and found again at the next start."""

from __future__ import annotations

import contextlib
import logging
import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import msgspec
from platformdirs import user_state_path

from fasciculum.errors import FasciculumError
from fasciculum.io.pixels import PixelStore
from fasciculum.model.document import Document
from fasciculum.operations.deliver.writing import write_whole
from fasciculum.operations.projects import save_project
from fasciculum.progress import SILENT, Progress

LOG = logging.getLogger(__name__)


class _Note(msgspec.Struct):
    """What is known of kept work: the project that it belongs to, and its name."""

    process: int
    name: str
    project: str = ""


@dataclass(frozen=True)
class LostWork:
    """Work of a session that ended by itself."""

    kept: Path
    name: str
    project: str
    when: float


def recovery_folder() -> Path:
    """Return the folder that unsaved work is kept in."""
    return user_state_path("fasciculum") / "recovery"


def kept_path(session: str) -> Path:
    """Return where a session's unsaved work is kept."""
    return recovery_folder() / f"{os.getpid()}-{session}.fasc"


def keep_work(document: Document, project: str, path: Path, store: PixelStore, *, progress: Progress = SILENT) -> Path:
    """Write unsaved work to where it will be looked for; run in the worker.

    The note names the process that started the worker, since it is that one whose end is looked for.
    """
    save_project(document, path, store, progress=progress)
    note = _Note(int(path.name.split("-")[0]), document.name, project)
    write_whole(path.with_suffix(".json"), msgspec.json.encode(note))
    return path


def adopt_work(work: LostWork, path: Path) -> None:
    """Take over work that was recovered: it is kept for this session from now on, until it is saved."""
    with contextlib.suppress(OSError):
        os.replace(work.kept, path)
        note = _Note(int(path.name.split("-")[0]), work.name, work.project)
        write_whole(path.with_suffix(".json"), msgspec.json.encode(note))
    forget_work(work.kept)


def forget_work(path: Path) -> None:
    """Delete kept work."""
    for part in (path, path.with_suffix(".json")):
        with contextlib.suppress(OSError):
            part.unlink()


def lost_work(alive: Callable[[int], bool]) -> list[LostWork]:
    """Return the work of sessions that are gone, the latest first.

    Parameters
    ----------
    alive : callable
        Whether a process is still there.
    """
    results = []
    with contextlib.suppress(OSError):
        for path in recovery_folder().glob("*.json"):
            try:
                note = msgspec.json.decode(path.read_bytes(), type=_Note)
                kept = path.with_suffix(".fasc")
                if not alive(note.process):
                    results.append(LostWork(kept, note.name, note.project, kept.stat().st_mtime))
            except (OSError, msgspec.MsgspecError, FasciculumError) as error:
                LOG.warning("kept work cannot be read: %s: %s", path, error)
    return sorted(results, key=lambda work: -work.when)
