"""The front: what no other beats, and which choices of a group may be part of it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.operations.plan.costs import GroupCosts, Options


def pareto_front(points: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Tell which points no other beats: none is at least as good in all and better in one.

    Parameters
    ----------
    points : ndarray of float64, shape (N, K)
        Less is better in each column; of equal points all are kept.
    """
    order = np.lexsort(points.T[::-1])
    kept: NDArray[np.bool_] = np.zeros(len(points), np.bool_)
    best = np.zeros((0, points.shape[1]))
    for start in range(0, len(order), 512):
        block = order[start : start + 512]
        rows = points[block]
        beaten = _beaten(rows, best) | _beaten(rows, rows)
        kept[block[~beaten]] = True
        best = np.concatenate([best, rows[~beaten]])
    return kept


def _beaten(rows: NDArray[np.float64], by: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Tell which rows some row of another table beats."""
    if not len(by):
        return np.zeros(len(rows), np.bool_)
    no_worse = np.ones((len(rows), len(by)), np.bool_)
    better = np.zeros((len(rows), len(by)), np.bool_)
    for column in range(rows.shape[1]):
        one, two = by[None, :, column], rows[:, None, column]
        no_worse &= one <= two
        better |= one < two
    return np.asarray((no_worse & better).any(axis=1), np.bool_)


def worth_trying(options: Options, cost: GroupCosts, shared: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Tell which choices of a group no other one of it makes needless, whatever is chosen elsewhere.

    One does when it has no more draw calls and bytes, and no more surface below any yield. An image that other groups
    may read as well counts against the one that reads it, and not for one that does without.
    """
    sizes = cost.figures.sizes
    own = options.sheet_bytes + options.images[:, ~shared] @ sizes[~shared]
    # what is quite as sharp as its source has no surface below
    area = np.where(options.sharpness >= 1, 0.0, options.area)
    sharp = np.where(area <= 0, 1.0, options.sharpness)
    images, weights = options.images[:, shared], sizes[shared]
    kept: NDArray[np.bool_] = np.zeros(len(options), np.bool_)
    patterns, kind = np.unique(images, axis=0, return_inverse=True)
    points = np.column_stack([options.calls, own, -sharp, area])
    for pattern in range(len(patterns)):
        rows = np.flatnonzero(kind.reshape(-1) == pattern)
        kept[rows] = pareto_front(points[rows])
    for pattern, read in enumerate(patterns):
        rows = np.flatnonzero((kind.reshape(-1) == pattern) & kept)
        for other, more in enumerate(patterns):
            if other != pattern:
                by = points[(kind.reshape(-1) == other) & kept].copy()
                by[:, 1] += float((more & ~read) @ weights)
                kept[rows] &= ~_beaten(points[rows], by)
    return kept


def thinned(options: Options, cost: GroupCosts) -> Options:
    """Return about half of the choices, those at the ends of draw calls, bytes and sharpness among them."""
    size = options.sheet_bytes + options.images @ cost.figures.sizes
    order = np.lexsort((size, options.calls))
    keep = set(order[::2].tolist())
    keep |= {int(options.calls.argmin()), int(size.argmin()), int(options.sharpness.argmax())}
    for calls in np.unique(options.calls).tolist():
        own = np.flatnonzero(options.calls == calls)
        keep |= {int(own[size[own].argmin()]), int(own[options.sharpness[own].argmax()])}
    chosen = np.array(sorted(keep), np.int64)
    return options.rows(chosen) if len(chosen) < len(options) else options.rows(chosen[: len(options) // 2])
