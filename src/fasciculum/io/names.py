"""Names of objects and bundles as names of files."""

from __future__ import annotations

import re
import unicodedata

#: names that some systems keep for devices
RESERVED = {
    "con",
    "prn",
    "aux",
    "nul",
    *(f"com{n}" for n in range(1, 10)),
    *(f"lpt{n}" for n in range(1, 10)),
}


def file_name(name: str) -> str:
    """Return a name that every file system takes: letters, digits, dots, dashes and underscores, 80 at most."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode()
    safe = re.sub(r"[^A-Za-z0-9._-]+", "_", plain).strip("._-")[:80] or "untitled"
    return f"{safe}_" if safe.lower().split(".")[0] in RESERVED else safe


def unused_file(wanted: str, taken: set[str], ending: str = "") -> str:
    """Return a safe file name that is not taken, without regard to case, and note it in ``taken``."""
    stem, number = file_name(wanted), 2
    name = f"{stem}{ending}"
    while name.lower() in taken:
        name, number = f"{stem}_{number}{ending}", number + 1
    taken.add(name.lower())
    return name
