"""The exact check of a finished layout, in touched texels and by its triangles; nothing is baked without it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.overlap import overlap_in_range
from fasciculum.kernels.packing.spans import count_clashes, join_spans, list_spans, smallest_gap_of


@dataclass(frozen=True)
class Verified:
    """What a layout keeps.

    Attributes
    ----------
    gap, border_gap : int
        Touched texels between islands, and to the border of their tile; -1 where there is nothing to measure.
    clashes : int
        Texels that two islands touch.
    outside : bool
        Whether a corner lies off its tile.
    overlap : float
        Area on which islands lie on each other, square texels.
    """

    gap: int
    border_gap: int
    clashes: int
    outside: bool
    overlap: float = 0.0

    def keeps(self, padding: int, margin: int) -> bool:
        """Tell whether nothing overlaps, and padding and margin hold."""
        near = padding > 0 and 0 <= self.gap < padding
        return not (self.outside or self.overlap > 0 or near or 0 <= self.border_gap < margin)


def overlap_between(corners: NDArray[np.float64], labels: NDArray[np.int32]) -> float:
    """Return the area that triangles of different labels share, in the square of the corners' unit.

    An area on which three islands lie counts once for each pair.
    """
    if not len(corners):
        return 0.0
    plain = np.ascontiguousarray(corners, np.float64)
    boxes = np.concatenate([plain.min(axis=1), plain.max(axis=1)], axis=1)
    return float(overlap_in_range(plain, boxes, labels.astype(np.int32), 0, len(plain), False, np.inf, -1))


def verify(
    corners: NDArray[np.float64],
    labels: NDArray[np.int32],
    width: int,
    height: int,
    *,
    pages: NDArray[np.int64] | None = None,
) -> Verified:
    """Measure a layout as an engine will read it, its UVs rounded to 32 bits.

    Parameters
    ----------
    corners : ndarray of float64, shape (T, 3, 2)
        Texels, tiles side by side.
    labels : ndarray of int32, shape (T,)
        The island of each triangle; twins on one place count as one.
    width, height : int
        Of one tile.
    pages : ndarray of int64, shape (T,), optional
        The tile of each triangle; all lie on the first without.
    """
    if not len(corners):
        return Verified(-1, -1, 0, False)
    page = np.zeros(len(corners), np.int64) if pages is None else pages
    own = corners - np.stack([page * width, np.zeros(len(page))], axis=-1)[:, None, :]
    size = np.array([width, height], np.float64)
    read = (own / size).astype(np.float32).astype(np.float64) * size
    outside = bool(read.min() < 0 or (read > size).any())
    gaps, borders, clashes = [], [], 0
    for number in np.unique(page).tolist():
        result = _texels(read[page == number], labels[page == number], width, height)
        clashes += result[2]
        gaps += [result[0]] if result[0] >= 0 else []
        borders += [result[1]] if result[1] >= 0 else []
    # two islands that share no texel share no area; off the sheet nobody counted texels
    overlap = overlap_between(corners, labels) if clashes or outside else 0.0
    gap, border = min(gaps, default=-1), min(borders, default=-1)
    return Verified(0 if clashes else gap, 0 if outside else border, clashes, outside, overlap)


def _texels(corners: NDArray[np.float64], labels: NDArray[np.int32], width: int, height: int) -> tuple[int, int, int]:
    """Return the gap, the border's gap, and the clashes of what lies on one tile."""
    plain = np.ascontiguousarray(corners)
    names = np.ascontiguousarray(labels, np.int32)
    spans = np.empty((list_spans(plain, names, width, height, np.empty((0, 4), np.int32)), 4), np.int32)
    if not len(spans):
        return -1, -1, 0
    list_spans(plain, names, width, height, spans)
    row, label, first = (spans[:, column].astype(np.int64) for column in (0, 1, 2))
    spans = spans[np.argsort((row * (int(label.max()) + 1) + label) * width + first, kind="stable")]
    spans = spans[: join_spans(spans)]
    row = spans[:, 0].astype(np.int64)
    spans = spans[np.argsort(row * width + spans[:, 2], kind="stable")]
    border = min(spans[:, 2].min(), width - 1 - spans[:, 3].max(), spans[:, 0].min(), height - 1 - spans[:, 0].max())
    starts = np.searchsorted(spans[:, 0], np.arange(height + 1))
    clashes = int(count_clashes(spans, starts))
    return 0 if clashes else int(smallest_gap_of(spans, starts)), int(border), clashes
