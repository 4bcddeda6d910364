"""Files that are written whole or not at all."""

from __future__ import annotations

import contextlib
import os
import re
import uuid
import zlib
from collections.abc import Mapping
from pathlib import Path

from fasciculum.errors import OutputError
from fasciculum.jobs.processes import alive
from fasciculum.progress import SILENT, Progress

#: this machine, as a few letters, so that only its own leftovers are swept up in a folder that several share
HOST = f"{zlib.crc32(os.uname().nodename.encode()):08x}"
PART = re.compile(r"\.fasciculum-([0-9a-f]{8})-(\d+)-[0-9a-f]+\.part")


def _beside(folder: Path) -> Path:
    return folder / f".fasciculum-{HOST}-{os.getpid()}-{uuid.uuid4().hex}.part"


def sweep_parts(folder: Path) -> None:
    """Delete what sessions of this machine left beside their files when they were killed."""
    with contextlib.suppress(OSError), os.scandir(folder) as entries:
        for entry in entries:
            match = PART.fullmatch(entry.name)
            if match and match[1] == HOST and not alive(int(match[2])):
                with contextlib.suppress(OSError):
                    os.unlink(entry.path)


def _error(error: OSError, target: Path) -> OutputError:
    return OutputError(
        f"the file cannot be written ({error.strerror or error}).",
        file=str(target),
        hint="Choose a folder that you may write to, with enough room.",
    )


def _same(target: Path, data: bytes) -> bool:
    try:
        return target.is_file() and target.stat().st_size == len(data) and target.read_bytes() == data
    except OSError:
        return False


def write_all(folder: Path, files: Mapping[str, bytes], *, progress: Progress = SILENT) -> list[str]:
    """Write files into a folder: each beside its place first and, once all are on disk, moved there.

    A file that holds the same already is not touched.

    Returns
    -------
    list of str
        The names of the files that changed.

    Raises
    ------
    OutputError
        Names the file; then all are as they were.
    Cancelled
        Likewise.
    """
    waiting: list[tuple[Path, Path]] = []
    target = folder
    try:
        folder.mkdir(parents=True, exist_ok=True)
        sweep_parts(folder)
        for number, (name, data) in enumerate(files.items()):
            progress.update(number / max(len(files), 1), f"Writing {name}")
            target = folder / name
            if target.is_dir():
                raise IsADirectoryError(21, "a folder of that name is in the way")
            if _same(target, data):
                continue
            beside = _beside(folder)
            waiting.append((beside, target))
            with beside.open("wb") as stream:
                stream.write(data)
                stream.flush()
                os.fsync(stream.fileno())
        for beside, target in waiting:
            os.replace(beside, target)
    except OSError as error:
        raise _error(error, target) from error
    finally:
        for beside, _ in waiting:
            with contextlib.suppress(OSError):
                beside.unlink()
    return [target.name for _, target in waiting]


def write_whole(target: Path, data: bytes) -> None:
    """Write one file, whole or not at all.

    Raises
    ------
    OutputError
        Names the file; what was there before stays.
    """
    write_all(target.parent, {target.name: data})
