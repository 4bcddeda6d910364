"""Compiled loops: arrays in, arrays out. Nothing here knows a model type, a file or a setting.

Every kernel is cached on disk. Arrays that come from documents are read-only and those made on the way are not;
Numba compiles each combination apart, so callers keep to one.
"""

from __future__ import annotations

import contextlib
import re
from pathlib import Path

#: a module of kernels that another one takes functions or numbers from
TAKES = re.compile(r"^from fasciculum\.kernels\.([\w.]+) import", re.MULTILINE)


def forget_outdated(folder: Path) -> set[str]:
    """Remove what was compiled from other sources than those in a folder; return the modules whose kernels went.

    Numba looks at a function's own file alone, and would go on using what calls a function of another that has changed.
    Modules that take nothing from those that changed, straight or by way of others, keep their kernels.
    """
    kept, stamp = folder / "__pycache__", "sources.stamp"
    files = sorted(folder.rglob("*.py"))
    sources = {".".join(file.relative_to(folder).with_suffix("").parts): file for file in files}
    now = {name: f"{name} {file.stat().st_size} {file.stat().st_mtime_ns}" for name, file in sources.items()}
    gone: set[str] = set()
    # a folder that cannot be written keeps nothing that could be outdated
    with contextlib.suppress(OSError):
        file = kept / stamp
        before = set(file.read_text().splitlines()) if file.exists() else set()
        if before == set(now.values()):
            return gone
        changed = {name for name in sources if now[name] not in before}
        gone = _takers(sources, changed | {line.split()[0] for line in before} - set(sources))
        for name in gone:
            place = folder.joinpath(*name.split("."))
            for one in (place.parent / "__pycache__").glob(f"{place.name}.*.nb[ci]"):
                one.unlink(missing_ok=True)
        kept.mkdir(exist_ok=True)
        file.write_text("\n".join(now.values()))
    return gone


def _takers(sources: dict[str, Path], changed: set[str]) -> set[str]:
    """Return the modules that changed and all that take from them."""
    takes = {name: set(TAKES.findall(file.read_text())) for name, file in sources.items()}
    results = set(changed)
    while more := {name for name, others in takes.items() if others & results} - results:
        results |= more
    return results


forget_outdated(Path(__file__).parent)
