"""What is still being compiled, as the process that does it tells whoever asks."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Sequence
from pathlib import Path

import fasciculum.kernels

#: where it is told: beside what is compiled
TOLD = Path(fasciculum.kernels.__file__).parent / "__pycache__" / "preparing"


def tell(left: Sequence[str]) -> None:
    """Say what is still to be compiled; nothing ends it."""
    with contextlib.suppress(OSError):
        if left:
            TOLD.parent.mkdir(exist_ok=True)
            TOLD.write_text("\n".join((str(os.getpid()), *left)))
        else:
            TOLD.unlink(missing_ok=True)


def under_way() -> tuple[str, ...]:
    """Return what is still being compiled, in order, by a process that is still there."""
    try:
        process, *left = TOLD.read_text().splitlines()
        os.kill(int(process), 0)
    except (OSError, ValueError):
        return ()
    return tuple(left)
