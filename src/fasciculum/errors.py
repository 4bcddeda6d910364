"""The errors that become words to the artist.

::

    FasciculumError
    +-- InputError (ValueError)        a source cannot be read as it stands
    |   +-- MalformedFile              its contents break the format's rules
    |   +-- UnsupportedInput           it is right, but not something we can do yet
    |   |   +-- OutsideFolder          it names a file that lies where it may not read
    |   |   +-- MissingLibrary         it needs an optional library, with the line to type
    |   +-- MissingFile (FileNotFoundError)
    |       +-- MissingSource          a project's source; another file can be named for it
    +-- OutputError (OSError)          a result could not be written
    +-- UsageError (ValueError)        what was asked for makes no sense
    +-- WorkerLost (RuntimeError)      the worker process ended by itself

Each carries what happened, the file or object that it happened to, and what to do about it. They survive
pickling, since most are raised in the worker process. Whatever is raised beside these is a crash of ours.
"""

from __future__ import annotations

from typing import Any


class FasciculumError(Exception):
    """Something that the artist can understand and act on.

    Parameters
    ----------
    message : str
        What happened, in one sentence.
    file : str
        The file that it happened to, or an empty string.
    item : str
        The object, material or place in the file, or an empty string.
    hint : str
        What to do.
    """

    code = "error"

    def __init__(self, message: str, *, file: str = "", item: str = "", hint: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.file = file
        self.item = item
        self.hint = hint

    def __str__(self) -> str:
        where = ", ".join(part for part in (self.file, self.item) if part)
        text = f"{where}: {self.message}" if where else self.message
        return f"{text} {self.hint}" if self.hint else text

    def __reduce__(self) -> tuple[Any, ...]:
        return _rebuild, (type(self), self.message, self.file, self.item, self.hint)


def _rebuild(kind: type[FasciculumError], message: str, file: str, item: str, hint: str) -> FasciculumError:
    return kind(message, file=file, item=item, hint=hint)


class InputError(FasciculumError, ValueError):
    """A source cannot be read as it stands."""

    code = "input"


class MalformedFile(InputError):
    """The contents break the rules of the file's format."""

    code = "malformed_file"


class UnsupportedInput(InputError):
    """The file is right, but needs something that this version does not do."""

    code = "unsupported_input"


class OutsideFolder(UnsupportedInput):
    """A file refers to another one that lies outside the folders which may be read."""

    code = "outside_folder"


class MissingLibrary(UnsupportedInput):
    """A kind of file needs an optional library that is not installed; the last words of ``hint`` are what to type."""

    code = "missing_library"

    @property
    def line(self) -> str:
        """The line to type."""
        return self.hint.partition(": ")[2]


class MissingFile(InputError, FileNotFoundError):
    """A file that was named does not exist."""

    code = "missing_file"


class MissingSource(MissingFile):
    """A source of a project is not where it was; ``file`` is where it was looked for."""

    code = "missing_source"


class OutputError(FasciculumError, OSError):
    """A result could not be written."""

    code = "output"


class UsageError(FasciculumError, ValueError):
    """What was asked for makes no sense or belongs to a later version."""

    code = "usage"


class WorkerLost(FasciculumError, RuntimeError):
    """The worker process ended by itself."""

    code = "worker_lost"
