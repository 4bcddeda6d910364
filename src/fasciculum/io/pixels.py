"""The pixel store: images on disk by content hash, so that documents refer to pixels instead of holding them."""

from __future__ import annotations

import hashlib
import os
import uuid
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray


def digest_of(*parts: bytes | str) -> str:
    """Return a short hex digest of the parts, in order."""
    state = hashlib.blake2b(digest_size=16)
    for part in parts:
        state.update(part.encode() if isinstance(part, str) else part)
        state.update(b"\0")
    return state.hexdigest()


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
        key = key or digest_of(str(contiguous.dtype), str(contiguous.shape), contiguous.tobytes())
        target = self.folder / f"{key}.npy"
        if not target.exists():
            beside = self.folder / f"{uuid.uuid4().hex}.part"
            with beside.open("wb") as stream:
                np.save(stream, contiguous)
            os.replace(beside, target)
        return key

    def get(self, key: str) -> NDArray[Any]:
        """Return the array of that key, mapped from disk and read-only; `KeyError` when there is none."""
        target = self.folder / f"{key}.npy"
        if not target.exists():
            raise KeyError(key)
        found: NDArray[Any] = np.load(target, mmap_mode="r")
        return found

    def has(self, key: str) -> bool:
        """Whether there are pixels under that key."""
        return (self.folder / f"{key}.npy").exists()

    def put_encoded(self, key: str, data: bytes) -> None:
        """Keep the file that an image was decoded from, for deliveries that leave it as it is."""
        target = self.folder / f"{key}.image"
        if not target.exists():
            beside = self.folder / f"{uuid.uuid4().hex}.part"
            beside.write_bytes(data)
            os.replace(beside, target)

    def get_encoded(self, key: str) -> bytes:
        """Return the encoded file of an image; `KeyError` when there is none."""
        target = self.folder / f"{key}.image"
        if not target.exists():
            raise KeyError(key)
        return target.read_bytes()
