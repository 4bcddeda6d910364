"""Turning charts so that their straight edges run along the pixels."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

#: part of a border that has to agree about a direction for the chart to be turned by it
AGREE = 0.35
#: turns that are tried for the smallest rectangle, over a quarter turn
TRIED = 90


def squared(place: NDArray[np.float64], label: NDArray[np.int64], border: NDArray[np.bool_]) -> NDArray[np.float64]:
    """Return charts turned square, each in its own box from (0, 0).

    Parameters
    ----------
    place : ndarray of float64, shape (T, 3, 2)
    label : ndarray of int64, shape (T,)
        Charts from 0.
    border : ndarray of bool, shape (3 T,)
        Half-edges on a chart's border.

    Notes
    -----
    Straight borders are turned by the mean direction of their edges, a quarter turn making no difference; others into
    their smallest rectangle.
    """
    if not len(place):
        return place
    count = int(label.max()) + 1
    along = (np.roll(place, -1, axis=1) - place).reshape(-1, 2)[border]
    start = place.reshape(-1, 2)[border]
    owner = np.repeat(label, 3)[border]
    length = np.hypot(along[:, 0], along[:, 1])
    four = 4 * np.arctan2(along[:, 1], along[:, 0])
    cosine, sine = (np.bincount(owner, length * part, count) for part in (np.cos(four), np.sin(four)))
    whole = np.bincount(owner, length, count)
    angle = np.arctan2(sine, cosine) / 4
    loose = np.hypot(cosine, sine) < AGREE * np.maximum(whole, 1e-300)
    if loose.any():
        some = loose[owner]
        angle[loose] = _smallest_boxes(start[some], owner[some], count)[loose]
    c, s = np.cos(-angle)[label][:, None], np.sin(-angle)[label][:, None]
    turned = np.stack([c * place[..., 0] - s * place[..., 1], s * place[..., 0] + c * place[..., 1]], axis=2)
    low = np.full((count, 2), np.inf)
    np.minimum.at(low, label, turned.min(axis=1))
    moved: NDArray[np.float64] = turned - low[label][:, None, :]
    return moved


def smallest_rectangles(
    place: NDArray[np.float64], label: NDArray[np.int64], border: NDArray[np.bool_]
) -> NDArray[np.float64]:
    """Return the area of about the smallest rectangle around each chart, any way turned; parameters as `squared`."""
    areas = np.zeros(int(label.max()) + 1)
    owner, _, result = _smallest(place.reshape(-1, 2)[border], np.repeat(label, 3)[border])
    areas[owner] = result
    return areas


def _smallest_boxes(points: NDArray[np.float64], owner: NDArray[np.int64], count: int) -> NDArray[np.float64]:
    """Return the turn of about the smallest rectangle around each owner's points, radians."""
    angles = np.zeros(count)
    owners, turns, _ = _smallest(points, owner)
    angles[owners] = turns
    return angles


def _smallest(
    points: NDArray[np.float64], owner: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.float64]]:
    """Return the owners, and of about the smallest rectangle around the points of each the turn and the area."""
    order = np.argsort(owner, kind="stable")
    points, owner = points[order], owner[order]
    first = np.flatnonzero(np.diff(owner, prepend=-1))
    best, result = np.full(len(first), np.inf), np.zeros(len(first))
    for step in range(TRIED):
        turn = step * np.pi / 2 / TRIED
        x = np.cos(turn) * points[:, 0] + np.sin(turn) * points[:, 1]
        y = np.cos(turn) * points[:, 1] - np.sin(turn) * points[:, 0]
        size = (np.maximum.reduceat(x, first) - np.minimum.reduceat(x, first)) * (
            np.maximum.reduceat(y, first) - np.minimum.reduceat(y, first)
        )
        better = size < best * (1 - 1e-9)
        best[better], result[better] = size[better], turn
    return owner[first], result, best
