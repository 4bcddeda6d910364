"""Values with large arrays, through a file: pickled, the arrays' bytes apart and mapped on reading."""

from __future__ import annotations

import mmap
import os
import pickle
import struct
from pathlib import Path
from typing import Any

ALIGN = 64


def write_payload(value: Any, path: Path) -> None:
    """Write a value; arrays go out of band (pickle protocol 5)."""
    buffers: list[pickle.PickleBuffer] = []
    data = pickle.dumps(value, protocol=5, buffer_callback=buffers.append)
    parts = [memoryview(data), *(buffer.raw() for buffer in buffers)]
    with path.open("wb") as stream:
        stream.write(struct.pack(f"<Q{len(parts)}Q", len(parts), *(part.nbytes for part in parts)))
        for part in parts:
            stream.write(b"\0" * (-stream.tell() % ALIGN))
            stream.write(part)


def read_payload(path: Path) -> Any:
    """Read a value and delete its file; arrays stay mapped and are read-only."""
    with path.open("rb") as stream:
        mapped = memoryview(mmap.mmap(stream.fileno(), 0, access=mmap.ACCESS_READ))
    os.unlink(path)
    (count,) = struct.unpack_from("<Q", mapped, 0)
    sizes = struct.unpack_from(f"<{count}Q", mapped, 8)
    at, parts = 8 + 8 * count, []
    for size in sizes:
        at += -at % ALIGN
        parts.append(mapped[at : at + size])
        at += size
    return pickle.loads(parts[0], buffers=parts[1:])
