"""Compiled loops: arrays in, arrays out. Nothing here knows a model type, a file or a setting.

Every kernel is cached on disk. Arrays that come from documents are read-only and those made on the way are not;
Numba compiles each combination apart, so callers keep to one.
"""

from __future__ import annotations

import contextlib
from pathlib import Path


def forget_outdated(folder: Path) -> bool:
    """Remove what was compiled from other sources than those in a folder; return whether anything was.

    Numba looks at a function's own file alone, and would go on using what calls a function of another that has changed.
    """
    kept, stamp = folder / "__pycache__", "sources.stamp"
    sources = sorted(folder.glob("*.py"))
    now = "\n".join(f"{file.name} {file.stat().st_size} {file.stat().st_mtime_ns}" for file in sources)
    found = False
    # a folder that cannot be written keeps nothing that could be outdated
    with contextlib.suppress(OSError):
        file = kept / stamp
        if file.exists() and file.read_text() == now:
            return False
        for one in (*kept.glob("*.nbi"), *kept.glob("*.nbc")):
            one.unlink(missing_ok=True)
            found = True
        kept.mkdir(exist_ok=True)
        file.write_text(now)
    return found


forget_outdated(Path(__file__).parent)
