"""Accessors into arrays: strides, sparse substitution and normalised integers, with every range checked."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import UnsupportedInput
from fasciculum.io.formats.gltf.container import Container
from fasciculum.model.attributes import Attribute

COMPONENTS: dict[int, type[np.generic]] = {
    5120: np.int8,
    5121: np.uint8,
    5122: np.int16,
    5123: np.uint16,
    5125: np.uint32,
    5126: np.float32,
}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
#: what all accessors may come to: bytes that any file may ask for, and so many times what it holds
FREE_BYTES, TIMES = 64 << 20, 16

#: bytes from one element to the next that the standard allows
LEAST_STRIDE, MOST_STRIDE = 4, 252


def read_raw(container: Container, index: int) -> Attribute:
    """Return an accessor's elements in their stored type; one that is read again is the same array.

    Raises
    ------
    MalformedFile
        When a type is unknown or a range reaches past its data.
    UnsupportedInput
        When the file's accessors ask for far more than it holds.
    """
    if index not in container.attributes:
        container.attributes[index] = _read(container, index)
    return container.attributes[index]


def _spend(container: Container, size: int, item: str) -> None:
    container.spent += size
    held = len(container.data) + sum(len(data) for data in container.buffers.values())
    held += sum(len(data) for data in container.decoded.values())
    if container.spent > FREE_BYTES + TIMES * held:
        raise UnsupportedInput(
            "the accessors refer to far more data than the file holds.",
            file=container.path.name,
            item=item,
            hint="Export the model again, each piece of data once.",
        )


def _read(container: Container, index: int) -> Attribute:
    item = f"accessors[{index}]"
    if index >= len(container.document.accessors):
        raise container.fail(f"there is no accessor {index}.", item)
    accessor = container.document.accessors[index]
    if accessor.component_type not in COMPONENTS or accessor.type not in WIDTHS:
        raise container.fail(
            f"component type {accessor.component_type} with type {accessor.type!r} is not known.", item
        )
    kind = np.dtype(COMPONENTS[accessor.component_type]).newbyteorder("<")
    width = WIDTHS[accessor.type]
    if accessor.buffer_view is None:
        _spend(container, accessor.count * width * kind.itemsize, item)
        values = np.zeros((accessor.count, width), kind)
    else:
        values = _strided(
            container, accessor.buffer_view, accessor.byte_offset, accessor.count, kind, accessor.type, item
        )
        _spend(container, values.nbytes, item)
    if accessor.sparse is not None:
        values = values.copy()
        _substitute(container, values, index, kind)
    return Attribute(values, accessor.type, accessor.normalized)


def _strided(
    container: Container, view_index: int, offset: int, count: int, kind: np.dtype, shape: str, item: str
) -> NDArray[Any]:
    data = container.view(view_index)
    stride = container.document.buffer_views[view_index].byte_stride
    width = WIDTHS[shape]
    size = width * kind.itemsize
    columns = {"MAT2": 2, "MAT3": 3}.get(shape, 0)
    # columns of small matrices start on multiples of four bytes
    padded = columns * (-(-columns * kind.itemsize // 4) * 4) if columns and kind.itemsize < 4 else size
    if stride is not None and not LEAST_STRIDE <= stride <= MOST_STRIDE:
        raise container.fail(f"a stride of {stride} bytes is not one of {LEAST_STRIDE} to {MOST_STRIDE}.", item)
    step = stride or padded
    if step < padded:
        raise container.fail(f"a stride of {step} bytes is less than an element of {padded}.", item)
    if count and offset + step * (count - 1) + padded > len(data):
        raise container.fail(f"{count} elements reach past the end of bufferViews[{view_index}].", item)
    if count == 0:
        return np.zeros((0, width), kind)
    flat = np.frombuffer(data, np.uint8, count=step * (count - 1) + padded, offset=offset)
    rows = np.lib.stride_tricks.as_strided(flat, (count, padded), (step, 1), writeable=False)
    if padded != size:
        rows = rows.reshape(count, columns, -1)[:, :, : columns * kind.itemsize].reshape(count, size)
    return np.ascontiguousarray(rows).view(kind)


def _substitute(container: Container, values: NDArray[Any], index: int, kind: np.dtype) -> None:
    accessor = container.document.accessors[index]
    sparse = accessor.sparse
    assert sparse is not None
    item = f"accessors[{index}].sparse"
    if sparse.indices.component_type not in (5121, 5123, 5125):
        raise container.fail("sparse indices are of an unknown type.", item)
    index_kind = np.dtype(COMPONENTS[sparse.indices.component_type]).newbyteorder("<")
    places = _strided(
        container,
        sparse.indices.buffer_view,
        sparse.indices.byte_offset,
        sparse.count,
        index_kind,
        "SCALAR",
        item,
    )[:, 0]
    if len(places) and int(places.max()) >= len(values):
        raise container.fail("a sparse index is beyond the accessor's count.", item)
    values[places] = _strided(
        container,
        sparse.values.buffer_view,
        sparse.values.byte_offset,
        sparse.count,
        kind,
        accessor.type,
        item,
    )


def read_float(container: Container, index: int) -> NDArray[np.float32]:
    """Return an accessor's elements as float32; one that is read again is the same array."""
    if index not in container.floats:
        container.floats[index] = as_float(read_raw(container, index))
    return container.floats[index]


def as_float(attribute: Attribute) -> NDArray[np.float32]:
    """Return an attribute as float32, normalised integers scaled to -1..1 or 0..1 as glTF says."""
    values = attribute.values
    if values.dtype.kind == "f":
        return np.ascontiguousarray(values, np.float32)
    if not attribute.normalized:
        return values.astype(np.float32)
    top = np.iinfo(values.dtype).max
    scaled = values.astype(np.float64) / top
    return np.maximum(scaled, -1.0).astype(np.float32)
