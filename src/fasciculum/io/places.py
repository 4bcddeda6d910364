"""Which files a model may name: those below its own folder, and below folders that the artist allowed."""

from __future__ import annotations

import os
import stat
import urllib.parse
from pathlib import Path

from fasciculum.errors import InputError, MissingFile, OutsideFolder, UnsupportedInput
from fasciculum.model.lookup import HERE, Lookup

#: files beside a model that are larger than this are refused before they are read
MOST_BYTES = 4 << 30
#: entries of a folder that are looked through for a name in other letters
MOST_ENTRIES = 20_000


def read_file(path: Path, *, item: str = "", most: int = MOST_BYTES) -> bytes:
    """Return the bytes of a plain file; pipes, devices and folders are refused, since reading them may never end.

    Raises
    ------
    MissingFile, UnsupportedInput
    """
    try:
        state = path.stat()
        if not stat.S_ISREG(state.st_mode):
            raise UnsupportedInput(
                "this is not a regular file.",
                file=str(path),
                item=item,
                hint="Name a file that holds a model or image.",
            )
        if state.st_size > most:
            raise UnsupportedInput(
                f"the file is larger than {most >> 20} MiB.", file=str(path), item=item, hint="Split it."
            )
        return path.read_bytes()
    except (OSError, ValueError) as error:
        if isinstance(error, InputError):
            raise
        words = getattr(error, "strerror", None) or error
        raise MissingFile(
            f"the file cannot be read ({words}).", file=str(path)[:300], item=item, hint="Check its path."
        ) from error


class Places:
    """Finds the files that a model names.

    Parameters
    ----------
    model : Path
        The file that does the naming.
    lookup : Lookup
        Folders that the artist allowed beside the model's own: a file that is not where the model says is also
        looked for there by its name alone. And files that the artist named for missing ones.
    """

    def __init__(self, model: Path, lookup: Lookup = HERE) -> None:
        self.model = model
        self.lookup = lookup
        self.folder = model.parent.resolve()
        self.further = tuple(Path(folder).resolve() for folder in lookup.folders)
        self.moved = dict(lookup.moved)
        self.read: dict[str, Path] = {}

    def exists(self, reference: str) -> bool:
        """Whether a file of that name is where the model says."""
        return self._below(reference)[0] is not None

    def find(self, reference: str, item: str) -> Path:
        """Return the file that a reference means.

        Raises
        ------
        OutsideFolder
            When it lies beside the folders that are allowed.
        MissingFile
        """
        if len(reference) > 4096:
            raise MissingFile(
                "the name of a file is longer than 4096 characters.",
                file=self.model.name,
                item=item,
                hint="Shorten it.",
            )
        plain = urllib.parse.unquote(reference)
        split = urllib.parse.urlsplit(reference) if ":" in reference else None
        # a single letter before a colon is a drive, not an address
        if split is not None and len(split.scheme) > 1:
            raise OutsideFolder(
                f"the file refers to the address {_short(reference)}; nothing is fetched from a network.",
                file=self.model.name,
                item=item,
                hint="Put the data beside the model.",
            )
        located = self.moved.get(str(self.folder / reference))
        if located is not None and Path(located).is_file():
            return Path(located)
        outside = False
        for name in dict.fromkeys((reference, plain, plain.replace("\\", "/"))):
            result, refused = self._below(name)
            outside |= refused
            if result is not None:
                return result
        base = plain.replace("\\", "/").rsplit("/", 1)[-1]
        for folder in self.further:
            result = _alike(folder, base)
            if result is not None:
                return result
        if outside or plain.startswith(("/", "\\")) or plain[1:2] == ":":
            raise OutsideFolder(
                f"the file refers to {_short(plain)}, which is outside its folder.",
                file=self.model.name,
                item=item,
                hint="Put it below the folder of the model, or allow the folder that holds it.",
            )
        raise MissingFile(
            f"{_short(plain)} does not exist.",
            file=self.model.name,
            item=item,
            hint="Put the file back beside the model, or locate it.",
        )

    def _below(self, name: str) -> tuple[Path | None, bool]:
        """Return the file of that name if it is allowed, and whether one was refused for where it lies."""
        try:
            target = Path(os.path.normpath(self.folder / name))
            if not target.is_file():
                beside = _alike(target.parent, target.name) if target.is_relative_to(self.folder) else None
                if beside is None:
                    return None, not target.is_relative_to(self.folder)
                target = beside
            real = target.resolve()
        except (OSError, ValueError):
            return None, False
        if any(real.is_relative_to(folder) for folder in (self.folder, *self.further)):
            return target, False
        return None, True

    def data(self, reference: str, item: str) -> bytes:
        """Return the bytes of the file that a reference means, and remember where it was."""
        path = self.find(reference, item)
        self.read[reference] = path
        return read_file(path, item=item)


def _short(text: str) -> str:
    return text if len(text) <= 120 else f"{text[:117]}..."


def _alike(folder: Path, name: str) -> Path | None:
    """Return the file of that name in a folder, in whichever letters it is written there."""
    try:
        direct = folder / name
        if direct.is_file():
            return direct
        with os.scandir(folder) as entries:
            for number, entry in enumerate(entries):
                if number > MOST_ENTRIES:
                    return None
                if entry.name.lower() == name.lower() and entry.is_file():
                    return Path(entry.path)
    except (OSError, ValueError):
        return None
    return None
