"""Buffer views that are compressed with ``EXT_meshopt_compression``."""

from __future__ import annotations

from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from fasciculum.io.formats.gltf import schema
from fasciculum.kernels.meshopt import (
    decode_attributes,
    decode_sequence,
    decode_triangles,
    filter_octahedral,
    filter_quaternions,
)

MESHOPT = "EXT_meshopt_compression"
#: bytes that one of compressed data may stand for, and those that any may: the most is 64, for elements all alike
MOST_TIMES, FREE = 128, 1 << 20


class Compressed(msgspec.Struct, rename="camel"):
    """What the extension says of a buffer view."""

    buffer: schema.Index
    byte_length: schema.Count
    byte_stride: schema.Count
    count: schema.Count
    mode: str
    byte_offset: schema.Count = 0
    filter: str = "NONE"


def decode_view(told: Compressed, data: memoryview) -> memoryview:
    """Return the bytes of a compressed buffer view.

    Raises
    ------
    ValueError
        With a sentence that says what is wrong with it.
    """
    stride, count = told.byte_stride, told.count
    if count < 0 or not 1 <= stride <= 256 or count * stride > FREE + MOST_TIMES * len(data):
        raise ValueError("it claims more than it can hold")
    coded = np.frombuffer(data, np.uint8)
    if told.mode == "ATTRIBUTES":
        if stride % 4:
            raise ValueError(f"a stride of {stride} bytes is no multiple of 4")
        result = np.zeros((count, stride), np.uint8)
        if not decode_attributes(coded, count, stride, result):
            raise ValueError("it is damaged")
        return memoryview(_filtered(result, told.filter).tobytes())
    if told.mode not in ("TRIANGLES", "INDICES"):
        raise ValueError(f"mode {told.mode[:40]!r} is not known")
    if stride not in (2, 4) or told.filter != "NONE":
        raise ValueError("indices have two or four bytes, and no filter")
    indices = np.zeros(count, np.int64)
    decode = decode_triangles if told.mode == "TRIANGLES" else decode_sequence
    if not decode(coded, count, indices):
        raise ValueError("it is damaged")
    return memoryview(indices.astype(np.uint16 if stride == 2 else np.uint32).tobytes())


def _filtered(values: NDArray[np.uint8], name: str) -> NDArray[Any]:
    """Return attributes with what a filter took off them, (N, stride)."""
    stride = values.shape[1]
    if name == "NONE":
        return values
    if name == "OCTAHEDRAL" and stride in (4, 8):
        rows: NDArray[Any] = values.view(np.int8) if stride == 4 else values.view(np.int16)
        filter_octahedral(rows, 127.0 if stride == 4 else 32767.0)
        return rows
    if name == "QUATERNION" and stride == 8:
        rows = values.view(np.int16)
        filter_quaternions(rows)
        return rows
    if name == "EXPONENTIAL":
        whole = values.view(np.int32)
        mantissa = (whole << 8) >> 8
        with np.errstate(over="ignore"):
            return np.asarray(np.ldexp(mantissa.astype(np.float64), whole >> 24), np.float32)
    raise ValueError(f"the filter {name[:40]!r} does not suit a stride of {stride} bytes")
