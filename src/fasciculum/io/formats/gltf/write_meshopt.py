"""Buffer views written with ``EXT_meshopt_compression``: bit for bit what they stand for."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.meshopt_encoding import MOST_OF_TRIANGLE, encode_attributes, encode_triangles
from fasciculum.model.attributes import Attribute
from fasciculum.model.output import Part


def encoded_rows(rows: NDArray[np.uint8]) -> bytes:
    """Return vertex attributes, uint8 (N, stride), stride a multiple of four up to 256, encoded."""
    result = np.empty(rows.size * 5 // 4 + 1024, np.uint8)
    return bytes(result[: encode_attributes(np.ascontiguousarray(rows), result)])


def encoded_triangles(triangles: NDArray[np.integer[Any]]) -> bytes:
    """Return the corners of triangles, shape (T, 3), encoded."""
    result = np.empty(MOST_OF_TRIANGLE * len(triangles) + 32, np.uint8)
    return bytes(result[: encode_triangles(np.ascontiguousarray(triangles, np.int64), result)])


def in_order_of_use(part: Part) -> Part:
    """Return a part with its vertices in the order in which triangles come to them, which packs best."""
    if not len(part.triangles):
        return part
    count = len(part.attributes["POSITION"].values)
    used, first = np.unique(part.triangles, return_index=True)
    order = used[np.argsort(first)]
    if len(order) < count:
        order = np.concatenate([order, np.setdiff1d(np.arange(count), order)])
    numbers = np.empty(count, np.int32)
    numbers[order] = np.arange(count, dtype=np.int32)

    def moved(attributes: dict[str, Attribute]) -> dict[str, Attribute]:
        return {name: Attribute(one.values[order], one.type, one.normalized) for name, one in attributes.items()}

    targets = tuple(moved(target) for target in part.targets)
    return replace(part, attributes=moved(part.attributes), triangles=numbers[part.triangles], targets=targets)
