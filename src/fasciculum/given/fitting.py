"""Which trim an island is laid onto, how it is turned and how large it is there.

An island keeps its shape: it is turned by quarters, and made larger or smaller, longer along one axis by a little at
most. What is chosen costs least: a density unlike the sheet's own, room of the trim that stays bare, and a grain that
runs across the island's length.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.given import Given, Trim, TrimRepeats

#: how much longer than wide an island may become
MOST_STRETCH = 1.1
#: how much denser than the sheet's own density an island is made so that it fills a trim
MOST_DENSER = 1.25
#: what costs how much, in halvings: density lost, density gained, room left bare beside what goes on and in a panel
LOST, GAINED, BARE_ACROSS, BARE = 1.5, 1.0, 0.5, 0.45
#: what a grain that runs across an island's length costs at most, and the aspect from which an island has a length
ACROSS_GRAIN, LONG = 1.2, 1.3
#: what goes on costs an island that has no length so much
NO_LENGTH = 0.25
#: trailing numbers of copies in names
NUMBER = re.compile(r"[\s._-]*\d+$")
#: quarter turns against the clock, as seen, with x to the right and y down
QUARTERS = np.array([[[1, 0], [0, 1]], [[0, 1], [-1, 0]], [[-1, 0], [0, -1]], [[0, -1], [1, 0]]], float)


@dataclass(frozen=True)
class Fit:
    """How an island lies on a trim.

    Attributes
    ----------
    trim : int
    quarters : int
        Turns by 90 degrees against the clock.
    mirrored : bool
    scale : (float, float)
        Px per metre of the island along the sheet's axes.
    cost : float
    """

    trim: int
    quarters: int
    scale: tuple[float, float]
    cost: float
    mirrored: bool = False

    @property
    def stretch(self) -> float:
        """By how much it is longer along one axis than along the other."""
        return max(self.scale) / min(self.scale)


def named_trim(names: Iterable[str], trims: Sequence[Trim]) -> int | None:
    """Return the trim that one of the names calls for, in any letters and with a copy's number behind it."""
    known = {trim.name.strip().lower(): number for number, trim in enumerate(trims)}
    for name in names:
        plain = name.strip().lower()
        for word in (plain, NUMBER.sub("", plain)):
            if word in known:
                return known[word]
    return None


def size_of(corners: NDArray[np.float64]) -> tuple[float, float]:
    """Return how wide and high flat corners, (..., 2), lie."""
    wide, high = np.ptp(corners.reshape(-1, 2), axis=0).tolist()
    return wide, high


def fit_on(size: tuple[float, float], trim: Trim, number: int, natural: float, quarters: int) -> Fit:
    """Return how an island of a size, metres, lies on a trim when it is turned by so many quarters."""
    wide, high = size if quarters % 2 == 0 else size[::-1]
    wide, high = max(wide, 1e-9), max(high, 1e-9)
    x0, y0, x1, y1 = trim.room
    room = x1 - x0, y1 - y0
    limits = [
        limit / length
        for limit, length, free in zip(
            room, (wide, high), (trim.repeats is TrimRepeats.U, trim.repeats is TrimRepeats.V), strict=True
        )
        if not free
    ]
    scale = min(*limits, natural * MOST_DENSER)
    scales = [scale, scale]
    if trim.repeats is TrimRepeats.NONE:
        # a little longer along one axis, where that fills the trim
        for axis in range(2):
            if 1.0 < limits[axis] / scale <= MOST_STRETCH:
                scales[axis] = limits[axis]
    halvings = math.log2(math.sqrt(scales[0] * scales[1]) / natural)
    cost = GAINED * halvings if halvings > 0 else -LOST * halvings
    long_ = max(wide, high) / min(wide, high)
    if trim.repeats is TrimRepeats.NONE:
        cost += BARE * math.log2(max(room[0] * room[1] / (wide * scales[0] * high * scales[1]), 1.0))
        grain_along_x = room[0] >= room[1]
        has_grain = max(room) / min(room) >= LONG
    else:
        grain_along_x, has_grain = trim.repeats is TrimRepeats.U, True
        across, used = (room[1], high * scales[1]) if grain_along_x else (room[0], wide * scales[0])
        cost += BARE_ACROSS * math.log2(max(across / used, 1.0))
        cost += NO_LENGTH if long_ < LONG else 0.0
    if has_grain and long_ >= LONG and (wide > high) != grain_along_x:
        cost += min(math.log2(long_), ACROSS_GRAIN)
    return Fit(number, quarters, (scales[0], scales[1]), cost)


def best_fit(size: tuple[float, float], given: Given, *, turns: Sequence[int] = (0, 1), only: int | None = None) -> Fit:
    """Return how an island of a size, metres, is best laid onto a given sheet.

    Parameters
    ----------
    turns : sequence of int
        Quarters that it may be turned by; the first of what is as good counts.
    only : int, optional
        The one trim that it may lie on.
    """
    trims = range(len(given.trims)) if only is None else [only]
    fits = [
        fit_on(size, given.trims[number], number, given.px_per_metre, quarters)
        for number in trims
        for quarters in turns
    ]
    return min(fits, key=lambda fit: (round(fit.cost, 9), fit.trim, turns.index(fit.quarters)))


def row_of(corners: NDArray[np.float64], fit: Fit, trim: Trim, shift: float = 0.0) -> NDArray[np.float64]:
    """Return the 2 x 3 map, six numbers, from an island's corners (T, 3, 2), metres, to where it lies on its trim, px.

    It lies in the middle of the trim's room, or where a trim that goes on begins, ``shift`` px further along.
    """
    matrix = np.diag(fit.scale) @ QUARTERS[fit.quarters % 4]
    if fit.mirrored:
        matrix = np.diag([-1.0, 1.0]) @ matrix
    placed = corners.reshape(-1, 2) @ matrix.T
    low, high = placed.min(axis=0), placed.max(axis=0)
    x0, y0, x1, y1 = trim.room
    start = np.array([x0 + (x1 - x0) / 2, y0 + (y1 - y0) / 2]) - (low + high) / 2
    if trim.repeats is TrimRepeats.U:
        start[0] = x0 - low[0] + shift
    elif trim.repeats is TrimRepeats.V:
        start[1] = y0 - low[1] + shift
    return np.concatenate([matrix[0], start[:1], matrix[1], start[1:]])


def within(corners: NDArray[np.float64], trim: Trim, slack: float = 1e-3) -> bool:
    """Tell whether corners, px, lie in a trim's room, along which they may go on where the trim does."""
    x0, y0, x1, y1 = trim.room
    low, high = corners.reshape(-1, 2).min(axis=0), corners.reshape(-1, 2).max(axis=0)
    across = trim.repeats is TrimRepeats.U or (low[0] >= x0 - slack and high[0] <= x1 + slack)
    down = trim.repeats is TrimRepeats.V or (low[1] >= y0 - slack and high[1] <= y1 + slack)
    return bool(across and down)
