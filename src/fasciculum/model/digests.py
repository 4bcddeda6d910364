"""Digests of what a value holds, so that two gatherings of the same thing can be told to be the same."""

from __future__ import annotations

import hashlib
from typing import Any

import numpy as np
from numpy.typing import NDArray


def digest_of(*parts: bytes | str | NDArray[Any] | None) -> str:
    """Return a short hex digest of the parts, in order; arrays count with their type and shape."""
    state = hashlib.blake2b(digest_size=16)
    for part in parts:
        if part is None:
            state.update(b"none")
        elif isinstance(part, np.ndarray):
            state.update(f"{part.dtype.str}{part.shape}".encode())
            state.update(np.ascontiguousarray(part).data)
        else:
            state.update(part.encode() if isinstance(part, str) else part)
        state.update(b"\0")
    return state.hexdigest()
