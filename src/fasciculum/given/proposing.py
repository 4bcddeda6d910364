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
#: how much more two runs of rows must differ than rows within each usually do, and the least of that, values of 255
UNLIKE, LEAST_LEAP = 3.0, 3.0
#: rows that are compared on either side of a leap, as a part of the picture's height, and trims proposed at most
ROWS_COMPARED, MOST_PROPOSED = 64, 31


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
    results: list[tuple[tuple[float, float, float, float], bool]] = []
    for first, last in runs:
        # panels side by side within a run have gutters across it
        across = _gutters(turned[first:last].swapaxes(0, 1))
        panels = _between(across, width) if across else []
        if len(panels) > 1:
            results += [((float(a), float(first), float(b), float(last)), False) for a, b in panels]
        else:
            results.append(((0.0, float(first), float(width), float(last)), True))
    trims = []
    for number, ((x0, y0, x1, y1), goes_on) in enumerate(results):
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
    """Return the runs of rows between leaps of the mean colour.

    The rows on either side of a leap are compared, `LEAST_TRIM` and more of them: a textured strip differs from row to
    row as much as it does from its neighbour, and yet as a whole it does not.
    """
    length = len(values)
    reach = max(LEAST_TRIM, length // ROWS_COMPARED)
    if length < 2 * LEAST_TRIM:
        return []
    heaped = np.concatenate([np.zeros((1, values.shape[2])), np.cumsum(values.mean(axis=1, dtype=np.float64), axis=0)])
    at = np.arange(LEAST_TRIM, length - LEAST_TRIM + 1)
    low, high = np.maximum(at - reach, 0), np.minimum(at + reach, length)
    above = (heaped[at] - heaped[low]) / (at - low)[:, None]
    below = (heaped[high] - heaped[at]) / (high - at)[:, None]
    steps = np.linalg.norm(below - above, axis=1)
    usual = float(np.median(steps)) + LEAST_LEAP
    edges: list[int] = []
    # the strongest first, and none so near to another that it is its flank
    for place in np.argsort(-steps, kind="stable").tolist():
        if steps[place] <= UNLIKE * usual or len(edges) >= MOST_PROPOSED:
            break
        if all(abs(int(at[place]) - edge) >= reach for edge in edges):
            edges.append(int(at[place]))
    return list(pairwise([0, *sorted(edges), length]))
