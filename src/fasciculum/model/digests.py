"""Digests of what a value holds, so that two gatherings of the same thing can be told to be the same.

Results carry digests of what they were made from, and project files keep them. What goes into one is therefore a
format: a data class is written by `digest_text` under the names that its class and fields had when digests were first
made of it. Whoever renames one declares the old name (`DIGEST_NAME` of a class, ``digest`` in a field's metadata), and
nothing goes stale.
"""

from __future__ import annotations

import dataclasses
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


def digest_text(value: Any) -> str:
    """Return a value as text for a digest: data classes by their fields, all else as Python writes it."""
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        name = getattr(type(value), "DIGEST_NAME", type(value).__qualname__)
        fields = (
            f"{field.metadata.get('digest', field.name)}={digest_text(getattr(value, field.name))}"
            for field in dataclasses.fields(value)
            if field.repr
        )
        return f"{name}({', '.join(fields)})"
    if type(value) is tuple:
        return f"({', '.join(map(digest_text, value))}{',' if len(value) == 1 else ''})"
    if type(value) is list:
        return f"[{', '.join(map(digest_text, value))}]"
    if type(value) is dict:
        return f"{{{', '.join(f'{digest_text(name)}: {digest_text(part)}' for name, part in value.items())}}}"
    return repr(value)
