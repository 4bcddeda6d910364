"""Trims proposed from a texture: where its gutters lie, and where one kind of texture ends and another begins."""

from __future__ import annotations

from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.model.given import Trim, TrimRepeats

#: the least height of a trim, and the most of a gutter, px
LEAST_TRIM, MOST_GUTTER = 6, 24
#: a gutter's row is as even as this part of the texture's usual unevenness, or this many values of 255
EVEN, EVEN_VALUES = 0.25, 4.0
#: how much more two runs of rows must differ than rows within each do
UNLIKE = 3.0


def proposed_trims(pixels: NDArray[np.generic]) -> tuple[Trim, ...]:
    """Return trims that a texture, (H, W, C) as stored, seems to have, from the top or from the left.

    A gutter is a run of rows of one even colour between rows that are uneven. Where there are none, runs of rows end
    where their colour leaps. What is found goes on along the sheet. Rows and columns are both tried, and those that
    part the picture better are taken; within a run that has gutters across it too, panels are proposed.
    """
    stored = np.asarray(pixels)
    values = stored.astype(np.float32) * np.float32(255.0 / float(np.iinfo(stored.dtype).max))
    values = cv2.medianBlur(np.ascontiguousarray(np.clip(values[..., :3], 0, 255).astype(np.uint8)), 3).astype(
        np.float32
    )
    rows, columns = _runs(values), _runs(values.swapaxes(0, 1))
    along_u = _worth(rows) >= _worth(columns)
    runs, turned = (rows, values) if along_u else (columns, values.swapaxes(0, 1))
    width = turned.shape[1]
    if len(runs) < 2:
        return ()
    found: list[tuple[tuple[float, float, float, float], bool]] = []
    for first, last in runs:
        # panels side by side within a run have gutters across it
        across = _gutters(turned[first:last].swapaxes(0, 1))
        panels = _between(across, width) if across else []
        if len(panels) > 1:
            found += [((float(a), float(first), float(b), float(last)), False) for a, b in panels]
        else:
            found.append(((0.0, float(first), float(width), float(last)), True))
    trims = []
    for number, ((x0, y0, x1, y1), goes_on) in enumerate(found):
        box = (x0, y0, x1, y1) if along_u else (y0, x0, y1, x1)
        way = (TrimRepeats.U if along_u else TrimRepeats.V) if goes_on else TrimRepeats.NONE
        trims.append(Trim(f"trim {number + 1}", box, way, 0.0))
    return tuple(trims)


def _worth(runs: list[tuple[int, int]]) -> int:
    return len(runs) if len(runs) > 1 else 0


def _gutters(values: NDArray[np.float32]) -> list[tuple[int, int]]:
    """Return runs of even rows, first and one past the last, that lie between uneven ones or at a side."""
    middle = np.median(values, axis=1, keepdims=True)
    spread = np.percentile(np.abs(values - middle).max(axis=2), 90, axis=1)
    usual = float(np.median(spread))
    even = spread <= max(min(EVEN * usual, 40.0), EVEN_VALUES)
    if even.mean() > 0.6:
        return []
    edges = np.flatnonzero(np.diff(np.concatenate([[False], even, [False]]).astype(np.int8)))
    return [(int(a), int(b)) for a, b in edges.reshape(-1, 2) if b - a <= MOST_GUTTER]


def _between(gutters: list[tuple[int, int]], length: int) -> list[tuple[int, int]]:
    """Return what lies between gutters, as long as a trim has to be."""
    edges = [0, *(edge for gutter in gutters for edge in gutter), length]
    return [(a, b) for a, b in zip(edges[::2], edges[1::2], strict=True) if b - a >= LEAST_TRIM]


def _runs(values: NDArray[np.float32]) -> list[tuple[int, int]]:
    """Return the runs of rows between gutters, else between leaps of colour."""
    gutters = _gutters(values)
    runs = _between(gutters, len(values)) if gutters else []
    return runs if len(runs) > 1 else _leaps(values)


def _leaps(values: NDArray[np.float32]) -> list[tuple[int, int]]:
    """Return the runs of rows between leaps of the mean colour."""
    means = values.mean(axis=1)
    steps = np.linalg.norm(np.diff(means, axis=0), axis=1)
    if not len(steps):
        return []
    usual = float(np.percentile(steps, 75)) + 1.0
    leaps = [n + 1 for n in np.flatnonzero(steps > UNLIKE * usual).tolist()]
    edges = [0]
    for edge in leaps:
        if edge - edges[-1] >= LEAST_TRIM:
            edges.append(edge)
    edges.append(len(values))
    return list(pairwise(edges))
