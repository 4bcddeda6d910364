"""The zip of a project: read with limits, and as far as it goes where it is cut short."""

from __future__ import annotations

import io
import struct
import zipfile
import zlib
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

#: what a member may unpack to, bytes
MOST_TEXT, MOST_MEMBER = 256 << 20, 4 << 30
#: a member beyond so many bytes may not be more than so many times its packed size: nothing that is saved here is
LARGE, TIMES = 64 << 20, 200
#: the member that holds all but arrays and maps
DOCUMENT = "project.json"
LOCAL = b"PK\x03\x04"


class Archive:
    """The members of a zip by name.

    Parameters
    ----------
    path : Path
    wanted : str
        A member that must be there: a file that was cut short may end in another zip, which is then no help.

    Raises
    ------
    OSError
        When the file cannot be read.
    """

    def __init__(self, path: Path, wanted: str) -> None:
        self.whole = True
        self._members: dict[str, bytes] = {}
        self._zip: zipfile.ZipFile | None = None
        try:
            self._zip = zipfile.ZipFile(path)
            if wanted not in self._zip.namelist():
                raise zipfile.BadZipFile(wanted)
        except (zipfile.BadZipFile, ValueError, RuntimeError, NotImplementedError, EOFError, zlib.error):
            self.whole = False
            self._zip = None
            self._members = _salvaged(path.read_bytes())

    def names(self) -> list[str]:
        """Return the names of all members."""
        return self._zip.namelist() if self._zip is not None else list(self._members)

    def read(self, name: str, most: int = MOST_MEMBER) -> bytes:
        """Return a member.

        Raises
        ------
        KeyError
            When there is none of that name.
        ValueError
            When it is damaged or far too large.
        """
        if self._zip is None:
            return self._members[name]
        info = self._zip.getinfo(name)
        if info.file_size > most or not plausible(info.file_size, info.compress_size):
            raise ValueError(f"{name} unpacks to {info.file_size >> 20} MiB")
        try:
            return self._zip.read(name)
        except (zipfile.BadZipFile, zlib.error, OSError, RuntimeError, NotImplementedError, EOFError) as error:
            raise ValueError(f"{name} is damaged ({error})") from error


def plausible(size: int, packed: int) -> bool:
    """Whether a member may be unpacked to its size."""
    return size <= MOST_MEMBER and (size <= LARGE or size <= TIMES * packed)


def _salvaged(data: bytes) -> dict[str, bytes]:
    """Return the members of a zip whose directory is lost, by walking from header to header."""
    results: dict[str, bytes] = {}
    at = data.find(LOCAL)
    while 0 <= at <= len(data) - 30:
        method, _, _, crc, packed, size, name_length, extra = struct.unpack_from("<HHHIIIHH", data, at + 8)
        start = at + 30 + name_length + extra
        body = data[start : start + packed]
        if len(body) == packed and plausible(size, packed):
            try:
                plain = zlib.decompressobj(-15).decompress(body, size + 1) if method == 8 else body
                if len(plain) == size and zlib.crc32(plain) == crc:
                    results[data[at + 30 : at + 30 + name_length].decode("utf-8", "replace")] = plain
            except zlib.error:
                pass
        at = data.find(LOCAL, max(start, at + 4))
    return results


def read_arrays(
    data: bytes, wanted: dict[str, tuple[str, int]], optional: dict[str, tuple[str, int]] | None = None
) -> dict[str, NDArray[Any]]:
    """Return the arrays of an .npz, each judged by its header before it is given room.

    Parameters
    ----------
    wanted : dict
        For each name the kind of its numbers (``f``, ``i`` or ``b``) and how many dimensions it has.
    optional : dict, optional
        The same for arrays that need not be there.

    Raises
    ------
    KeyError, ValueError
    """
    results = {}
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        present = set(archive.namelist())
        more = {name: shape for name, shape in (optional or {}).items() if f"{name}.npy" in present}
        for name, (kind, dimensions) in (wanted | more).items():
            info = archive.getinfo(f"{name}.npy")
            if not plausible(info.file_size, info.compress_size):
                raise ValueError(f"{name} is far too large")
            raw = archive.read(info)
            stream = io.BytesIO(raw)
            np.lib.format.read_magic(stream)
            shape, _, dtype = np.lib.format.read_array_header_1_0(stream)
            if dtype.kind != kind or len(shape) != dimensions:
                raise ValueError(f"{name} is of another kind")
            if int(np.prod(shape, dtype=object)) * dtype.itemsize != len(raw) - stream.tell():
                raise ValueError(f"{name} is not as long as it says")
            results[name] = np.load(io.BytesIO(raw), allow_pickle=False)
    return results
