"""Descriptions that artists keep beside their textures: JSON files of layers, of trims and of cells.

What is wrong in one is told in one sentence that names the file and the place; unknown keys are wrong.
"""

from __future__ import annotations

import re
from pathlib import Path
from typing import TypeVar

import msgspec

from fasciculum.errors import MalformedFile, MissingFile
from fasciculum.io.places import read_file
from fasciculum.model.digests import digest_of

Entry = TypeVar("Entry", bound=msgspec.Struct)
#: descriptions larger than this are none
MOST_BYTES = 16 << 20
#: where msgspec says that something is wrong
PLACE = re.compile(r" - at `\$\.?(.*)`$")


def read_description(path: Path, kind: type[Entry], what: str) -> Entry:
    """Return what a description holds; ``what`` it is, such as ``layers``.

    Raises
    ------
    MalformedFile, MissingFile, UnsupportedInput
    """
    data = read_file(path, most=MOST_BYTES)
    try:
        entry = msgspec.json.decode(data, type=kind)
    except (msgspec.MsgspecError, RecursionError, UnicodeDecodeError) as error:
        words = str(error)
        place = PLACE.search(words)
        raise wrong(path, PLACE.sub("", words).rstrip(".") + ".", place[1] if place else what) from error
    if getattr(entry, "version", 1) != 1:
        raise wrong(path, "only version 1 is known.", "version")
    return entry


def wrong(path: Path, message: str, place: str) -> MalformedFile:
    """Return the refusal of a description, at a place of it."""
    return MalformedFile(
        message[:1].lower() + message[1:], file=str(path), item=place, hint="Correct the description and try again."
    )


def write_description(entry: msgspec.Struct) -> bytes:
    """Return a description as a file holds it."""
    return msgspec.json.format(msgspec.json.encode(entry), indent=2) + b"\n"


def beside(path: Path, name: str, place: str) -> tuple[str, str]:
    """Return the path of a file that a description names, from its own folder, and a digest of what it holds.

    Raises
    ------
    MissingFile
    """
    file = Path(name) if Path(name).is_absolute() else path.parent / name
    if not name or not file.is_file():
        raise MissingFile(
            f"names {name!r}, which does not exist.",
            file=str(path),
            item=place,
            hint="Paths are relative to the description.",
        )
    return str(file.resolve()), digest_of(read_file(file))
