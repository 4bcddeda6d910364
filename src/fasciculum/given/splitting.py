"""Split to fit: an island that is longer than its trim is parted across its length, along edges that it has."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from fasciculum.given.fitting import best_fit, size_of
from fasciculum.model.given import Given
from fasciculum.uv.islands import connect

#: from what part of the sheet's own density an island is parted
TOO_SMALL = 0.8
#: how much denser parting must make an island, and into how many lengths it goes at most
WORTH, MOST_LENGTHS = 1.1, 64


def parted(
    flat: NDArray[np.float64],
    vertices: NDArray[np.int64],
    given: Given,
    *,
    turns: Sequence[int] = (0, 1),
    only: int | None = None,
) -> NDArray[np.int32]:
    """Return a part's number for each triangle of an island, all 0 where it lies well as one.

    It goes into the fewest lengths with which it is as dense as the sheet, or as dense as it gets.

    Parameters
    ----------
    flat : ndarray of float64, shape (T, 3, 2)
        Metres.
    vertices : ndarray of int64, shape (T, 3)
        Welded corners, by which triangles hang together.
    turns, only
        As for :func:`~fasciculum.given.fitting.best_fit`.
    """
    whole = np.zeros(len(flat), np.int32)
    fit = best_fit(size_of(flat), given, turns=turns, only=only)
    density = math.sqrt(fit.scale[0] * fit.scale[1])
    if density >= TOO_SMALL * given.px_per_metre:
        return whole
    best, reached = whole, density * WORTH
    lengths = 2
    while lengths <= min(MOST_LENGTHS, len(flat)):
        parts = _lengths(flat, vertices, lengths)
        sizes = [size_of(flat[parts == part]) for part in range(int(parts.max()) + 1)]
        fits = [best_fit(size, given, turns=turns, only=only) for size in sizes]
        result = min(math.sqrt(one.scale[0] * one.scale[1]) for one in fits)
        if result > reached:
            best, reached = parts, result * WORTH
        if result >= TOO_SMALL * given.px_per_metre:
            break
        lengths += max(lengths // 4, 1)
    return best


def _lengths(flat: NDArray[np.float64], vertices: NDArray[np.int64], count: int) -> NDArray[np.int32]:
    """Part triangles by where their middles lie along an island's longer side; what does not hang together is apart."""
    corners = flat.reshape(-1, 2)
    low, size = corners.min(axis=0), np.ptp(corners, axis=0)
    axis = int(np.argmax(size))
    middles = flat[:, :, axis].mean(axis=1) - low[axis]
    band = np.clip(middles / max(float(size[axis]), 1e-12) * count, 0, count - 1).astype(np.int64)
    # faces whose middles lie a little apart, such as both halves of a square, are in one band
    pairs = _halves(flat, vertices)
    band[pairs[:, 1]] = band[pairs[:, 0]]
    parts, made = np.zeros(len(flat), np.int32), 0
    for number in np.unique(band).tolist():
        own = np.flatnonzero(band == number)
        pieces = connect(vertices[own])
        parts[own] = made + pieces
        made += int(pieces.max()) + 1
    return parts


def _halves(flat: NDArray[np.float64], vertices: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return pairs of triangles that share the longest edge of both, (P, 2): the halves of a quad."""
    length = np.linalg.norm(flat - np.roll(flat, -1, axis=1), axis=2)
    longest = length.argmax(axis=1)
    rows = np.arange(len(flat))
    ends = np.sort(np.stack([vertices[rows, longest], vertices[rows, (longest + 1) % 3]], axis=1), axis=1)
    order = np.lexsort((rows, ends[:, 1], ends[:, 0]))
    same = (ends[order[:-1]] == ends[order[1:]]).all(axis=1)
    # of three that share one, the first two
    same[1:] &= ~same[:-1]
    return np.stack([order[:-1][same], order[1:][same]], axis=1)
