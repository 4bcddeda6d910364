"""The pixel store: images on disk by content hash, so that documents refer to pixels instead of holding them."""

from __future__ import annotations

import contextlib
import os
import threading
import uuid
from collections.abc import Callable
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import OutputError
from fasciculum.memory import mapped
from fasciculum.model.digests import digest_of

#: bytes from which an array is filled on disk
LARGE = 256 << 20
#: of what is kept: arrays, and files that images were decoded from
KEPT = (".npy", ".image")

#: the headers of arrays are parsed by Python's own parser, which Python 3.11 lets only one thread use at a time
_one_header = threading.Lock()


class PixelStore:
    """Arrays and encoded images in a folder, each under a key made of its content.

    Parameters
    ----------
    folder : Path
        Made when it is missing. Whoever made the store deletes the folder.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)

    def put(self, pixels: NDArray[Any], *, key: str = "") -> str:
        """Keep an array and return its key; an array that is there already is not written again."""
        contiguous = np.ascontiguousarray(pixels)
        key = key or digest_of(contiguous)
        target = self.folder / f"{key}.npy"
        if isinstance(pixels, np.memmap) and pixels.filename is not None and pixels.flags.c_contiguous:
            part = Path(pixels.filename)
            if part.suffix == ".part" and part.parent == self.folder.resolve() and part.exists():
                pixels.flush()
                os.replace(part, target)
                return key
        if not target.exists():
            self._write(target, lambda stream: np.save(stream, contiguous))
        return key

    def blank(self, shape: tuple[int, ...], dtype: np.dtype) -> NDArray[Any]:
        """Return an array to be filled and then `put`: a large one on disk, so that memory is not what bounds it."""
        if int(np.prod(shape)) * np.dtype(dtype).itemsize < LARGE:
            return np.empty(shape, dtype)
        try:
            return mapped(np.lib.format.open_memmap(self.folder / f"{uuid.uuid4().hex}.part", "w+", dtype, shape))
        except OSError as error:
            raise self._error(error) from error

    def discard(self, array: NDArray[Any]) -> None:
        """Give up an array of `blank` that was not put; one that was is left alone."""
        if isinstance(array, np.memmap) and array.filename is not None:
            part = Path(array.filename)
            if part.suffix == ".part":
                with contextlib.suppress(OSError):
                    part.unlink()

    def _write(self, target: Path, write: Callable[[BinaryIO], object]) -> None:
        beside = self.folder / f"{uuid.uuid4().hex}.part"
        try:
            with beside.open("wb") as stream:
                write(stream)
            os.replace(beside, target)
        except OSError as error:
            with contextlib.suppress(OSError):
                beside.unlink()
            raise self._error(error) from error

    def _error(self, error: OSError) -> OutputError:
        return OutputError(
            f"pixels cannot be kept ({error.strerror or error}).",
            file=str(self.folder),
            hint="Free some space there, or set TMPDIR to a folder with more space.",
        )

    def get(self, key: str) -> NDArray[Any]:
        """Return the array of that key, mapped from disk and read-only; `KeyError` when there is none."""
        target = self.folder / f"{key}.npy"
        if not target.exists():
            raise KeyError(key)
        with _one_header:
            array = np.load(target, mmap_mode="r")
        return mapped(array)

    def has(self, key: str) -> bool:
        """Whether there are pixels under that key."""
        return (self.folder / f"{key}.npy").exists()

    def put_encoded(self, key: str, data: bytes) -> None:
        """Keep the file that an image was decoded from, for deliveries that leave it as it is."""
        self.put_file(f"{key}.image", data)

    def files(self) -> list[Path]:
        """Return the files that are kept, by name: each is named after its content, in every store."""
        return sorted(file for file in self.folder.iterdir() if file.suffix in KEPT)

    def put_file(self, name: str, data: bytes) -> None:
        """Keep a file of another store."""
        target = self.folder / name
        if not target.exists():
            self._write(target, lambda stream: stream.write(data))

    def get_encoded(self, key: str) -> bytes:
        """Return the encoded file of an image; `KeyError` when there is none."""
        target = self.folder / f"{key}.image"
        if not target.exists():
            raise KeyError(key)
        return target.read_bytes()
