"""Exit codes, and which one an error has."""

from __future__ import annotations

from fasciculum.errors import FasciculumError, InputError, OutputError, UsageError

DONE, FINDINGS, USAGE, UNREADABLE, UNWRITABLE, STOPPED, CRASHED = 0, 1, 2, 3, 4, 5, 70


def exit_code(error: FasciculumError) -> int:
    """Return the exit code of an error."""
    if isinstance(error, UsageError):
        return USAGE
    if isinstance(error, OutputError):
        return UNWRITABLE
    return UNREADABLE if isinstance(error, InputError) else CRASHED
