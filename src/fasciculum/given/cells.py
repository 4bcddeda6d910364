"""Cells of palettes: found in a picture, counted off, and chosen by colour."""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import UsageError
from fasciculum.model.given import Box
from fasciculum.units import srgb_to_linear

#: stored values of one cell differ by no more than this, of 255
SAME = 3
#: the least edge of a cell that is found, px, and how many may be found
LEAST, MOST = 2, 4096
#: part of the picture that cells have to cover for it to be a palette; what is thinner than this part of the others
#: is a gap
COVERED, THIN = 0.5, 0.4
#: opacities nearer than this are one
NEAR_ALPHA = 0.02
#: from linear Rec. 709 to CIE XYZ, and white there (D65)
TO_XYZ = np.array(
    [[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]]
)
WHITE = TO_XYZ.sum(axis=1)
GRID = re.compile(r"(\d+)[xX](\d+)")


def to_lab(linear: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return linear Rec. 709 colours, (..., 3), as CIE L*a*b* under D65 (CIE 15:2004)."""
    ratio = np.maximum(linear, 0.0) @ TO_XYZ.T / WHITE
    edge = 6 / 29
    f = np.where(ratio > edge**3, np.cbrt(ratio), ratio / (3 * edge**2) + 4 / 29)
    return np.stack([116 * f[..., 1] - 16, 500 * (f[..., 0] - f[..., 1]), 200 * (f[..., 1] - f[..., 2])], axis=-1)


def counted_cells(text: str, width: int, height: int) -> tuple[Box, ...]:
    """Return the cells of a picture that has so many columns and rows, ``8x4``.

    Raises
    ------
    UsageError
    """
    match = GRID.fullmatch(text.strip())
    columns, rows = (int(match[1]), int(match[2])) if match else (0, 0)
    if not (0 < columns <= width and 0 < rows <= height and columns * rows <= MOST):
        raise UsageError(
            f"{text!r} is not a number of cells for a picture of {width} x {height} px.",
            hint="Write COLUMNSxROWS, such as 8x4.",
        )
    xs, ys = np.linspace(0, width, columns + 1), np.linspace(0, height, rows + 1)
    return tuple(
        (float(xs[c]), float(ys[r]), float(xs[c + 1]), float(ys[r + 1])) for r in range(rows) for c in range(columns)
    )


def found_cells(pixels: NDArray[np.generic]) -> tuple[Box, ...]:
    """Return the cells of a palette, (H, W, C) as stored: fields of one colour, row by row, gaps between them or none.

    Rows of cells are looked for first, and columns within each row, so that rows need not be alike. Empty when there
    are none: the picture is no palette, or has no fields of one colour.
    """
    top = float(np.iinfo(np.asarray(pixels).dtype).max)
    values = np.asarray(pixels, np.float32) * np.float32(255.0 / top)
    bands = _spans(np.abs(np.diff(values, axis=0)).max(axis=(1, 2)) > SAME, len(values))
    result: list[Box] = []
    for y0, y1 in bands:
        if y1 - y0 < LEAST:
            continue
        band = values[y0:y1]
        columns = _spans(np.abs(np.diff(band, axis=1)).max(axis=(0, 2)) > SAME, band.shape[1])
        for x0, x1 in columns:
            if x1 - x0 >= LEAST and np.ptp(band[:, x0:x1], axis=(0, 1)).max() <= SAME:
                result.append((float(x0), float(y0), float(x1), float(y1)))
    result = _without_gaps(values, result)
    area = sum((x1 - x0) * (y1 - y0) for x0, y0, x1, y1 in result)
    if not 2 <= len(result) <= MOST or area < COVERED * values.shape[0] * values.shape[1]:
        return ()
    return tuple(result)


def _spans(changes: NDArray[np.bool_], length: int) -> list[tuple[int, int]]:
    """Return the spans between changes, first and one past the last."""
    edges = [0, *(np.flatnonzero(changes) + 1).tolist(), length]
    return list(pairwise(edges))


def _without_gaps(values: NDArray[np.float32], cells: list[Box]) -> list[Box]:
    """Return cells less the gaps between them: thin fields of one colour that all thin ones share."""
    if len(cells) < 4:
        return cells
    edges = np.array([min(x1 - x0, y1 - y0) for x0, y0, x1, y1 in cells])
    # most of the picture is cells, however many gaps there are
    areas = np.array([(x1 - x0) * (y1 - y0) for x0, y0, x1, y1 in cells])
    order = np.argsort(edges)
    usual = float(edges[order][np.searchsorted(np.cumsum(areas[order]), areas.sum() / 2)])
    thin = edges < usual * THIN
    colors = np.array([values[int(y0), int(x0)] for x0, y0, x1, y1 in cells])
    if not thin.any():
        return cells
    gap = np.median(colors[thin], axis=0)
    # a field of the gap's colour as large as a cell is one
    is_gap = thin & (np.abs(colors - gap).max(axis=1) <= SAME)
    return [cell for cell, gone in zip(cells, is_gap.tolist(), strict=True) if not gone]


def cell_colors(pixels: NDArray[np.generic], cells: Sequence[Box]) -> NDArray[np.float64]:
    """Return what the middles of cells hold, (N, 4): linear colour and opacity."""
    stored = np.asarray(pixels)
    top = float(np.iinfo(stored.dtype).max)
    result = np.ones((len(cells), 4))
    for number, (x0, y0, x1, y1) in enumerate(cells):
        value = stored[int((y0 + y1) / 2), int((x0 + x1) / 2)] / top
        result[number, :3] = srgb_to_linear(value[:3])
        if len(value) > 3:
            result[number, 3] = value[3]
    return result


def nearest_cells(colors: NDArray[np.float64], cells: NDArray[np.float64]) -> NDArray[np.int64]:
    """Return for colours (N, 4), linear with opacity, the nearest by CIE Lab of cells (K, 4) that have its opacity.

    Where no cell has its opacity, those that come nearest to it count.
    """
    away = np.abs(colors[:, None, 3] - cells[None, :, 3])
    allowed = away <= away.min(axis=1, keepdims=True) + NEAR_ALPHA
    difference = np.linalg.norm(to_lab(colors[:, None, :3]) - to_lab(cells[None, :, :3]), axis=-1)
    result: NDArray[np.int64] = np.where(allowed, difference, np.inf).argmin(axis=1)
    return result


def middle_of(cell: Box) -> tuple[float, float]:
    """Return the middle of a cell, px."""
    return (cell[0] + cell[2]) / 2, (cell[1] + cell[3]) / 2
