"""Rows of an array that are alike: numbered by sorting one column of whole numbers instead of whole rows."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray


def unique_rows(rows: NDArray[Any]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the first place of each distinct row, and for every row the number of its kind.

    ``rows`` is (N, K), of any plain type; kinds are numbered in the order of their values, first column first.
    """
    count = len(rows)
    if not count:
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    key, kinds = np.zeros(count, np.int64), 1
    lows, spans = _spans(rows)
    if lows and math.prod(spans) < 1 << 62:
        # whole numbers that are not too far apart say themselves which kind they are
        for column, (low, span) in enumerate(zip(lows, spans, strict=True)):
            key = key * span + (rows[:, column] - low)
        rows = rows[:, :0]
    for column in range(rows.shape[1]):
        values, places = np.unique(rows[:, column], return_inverse=True)
        if kinds * len(values) >= 1 << 62:
            _, key = np.unique(key, return_inverse=True)
            kinds = int(key.max()) + 1
        key = key.reshape(-1) * len(values) + places.reshape(-1)
        kinds *= len(values)
    _, first, inverse = np.unique(key, return_index=True, return_inverse=True)
    return first.astype(np.int64), inverse.reshape(-1).astype(np.int64)


def _spans(rows: NDArray[Any]) -> tuple[list[int], list[int]]:
    """Return the least value of each column and how many values lie from there to the greatest, whole numbers only."""
    if rows.dtype.kind != "i":
        return [], []
    lows, highs = rows.min(axis=0).tolist(), rows.max(axis=0).tolist()
    return lows, [high - low + 1 for low, high in zip(lows, highs, strict=True)]
