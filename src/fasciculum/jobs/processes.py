"""Whether other processes are still there."""

from __future__ import annotations

import os


def alive(process: int) -> bool:
    """Whether there is a process of that number on this machine, whoever it belongs to."""
    try:
        os.kill(process, 0)
    except (ProcessLookupError, OverflowError):
        return False
    except OSError:
        return True
    return True
