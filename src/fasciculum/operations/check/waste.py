"""Waste: maps and islands that a smaller mip would show as well, and the size that would do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.threads import in_pieces
from fasciculum.units import linear_to_srgb, srgb_to_linear

#: dB from which nobody tells a map from itself made smaller and larger again
AS_WELL = 44.0
MOST_LEVELS = 5
#: part of the covered texels that must lie on islands which are shown as well
NEARLY_ALL = 0.97
#: texels up to which a map is measured whole; edge of the squares that else stand for it, how many, and what about
#: them is read with them: both are multiples of the largest step, so that nothing is cut differently than in the whole
WHOLE, EDGE, MOST_WINDOWS, AROUND = 1 << 20, 128, 40, 32
#: times that what a smaller map lost is put back into it
ROUNDS = 4


#: rows and columns of a map
Window = tuple[slice, slice]


@dataclass(frozen=True)
class Waste:
    """How many mip levels smaller a map, and each of its islands (I,), could be; -1 for islands without texels."""

    levels: int
    islands: NDArray[np.int64]


def _smaller_and_back(light: NDArray[np.float32], level: int) -> NDArray[np.float32]:
    """Return a channel as a smaller map of it would be read: one that was baked for bilinear reading."""
    height, width = light.shape
    size = max(width >> level, 1), max(height >> level, 1)
    small = cv2.resize(light, size, interpolation=cv2.INTER_AREA)
    large = cv2.resize(small, (width, height), interpolation=cv2.INTER_LINEAR)
    for _ in range(ROUNDS):
        # what reading blurs is put back, as far as the smaller map can hold it (back-projection, Irani and Peleg 1991)
        small = small + cv2.resize(light - large, size, interpolation=cv2.INTER_AREA)
        large = cv2.resize(small, (width, height), interpolation=cv2.INTER_LINEAR)
    return np.asarray(large, np.float32)


def waste_of(
    pixels: NDArray[Any], owner: NDArray[np.int32], *, srgb: bool, windows: Sequence[Window] | None = None
) -> Waste:
    """Measure what of a map's detail is above each mip's cut-off.

    The map is made smaller as a bake would make it, and read between texel centres, in linear light; that is compared
    over the texels that islands cover, encoded as the map is. Large maps are measured in squares spread over them.

    Parameters
    ----------
    pixels : ndarray, shape (H, W, C)
        Stored values.
    owner : ndarray of int32, shape (H, W)
        The island that covers each texel, -1 for none.
    srgb : bool
        Whether colour is stored sRGB-encoded; a fourth channel never is.
    windows : sequence of Window, optional
        What `windows_of` says of ``owner``, for callers that measure several maps of one size.
    """
    covered = owner >= 0
    count = int(owner.max()) + 1 if covered.any() else 0
    texels = np.bincount(owner[covered], minlength=count)
    levels, islands = 0, np.where(texels > 0, 0, -1)
    going = np.ones(count, np.bool_)
    errors, sampled = _errors(pixels, owner, windows_of(owner) if windows is None else windows, srgb=srgb)
    least = 10 ** (-AS_WELL / 10) * pixels.shape[2]
    whole = True
    for level in range(1, len(errors) + 1):
        going &= errors[level - 1] <= least * sampled
        islands[going & (texels > 0)] = level
        # a mean would hide what little of it is lively
        whole &= float(texels[going].sum()) >= NEARLY_ALL * float(texels.sum())
        if whole:
            levels = level
    return Waste(levels if count else 0, islands)


def windows_of(owner: NDArray[np.int32]) -> list[Window]:
    """Return parts of a map that stand for it: all of a small one, else squares spread over it, some on each island."""
    height, width = owner.shape
    if height * width <= WHOLE:
        return [(slice(0, height), slice(0, width))]
    rows = [slice(top, min(top + EDGE, height)) for top in range(0, height, EDGE)]
    columns = [slice(left, min(left + EDGE, width)) for left in range(0, width, EDGE)]
    every = [(row, column) for row in rows for column in columns]
    held = [np.flatnonzero(np.bincount(owner[window].ravel() + 1)) - 1 for window in every]
    some = [number for number, labels in enumerate(held) if labels[-1] >= 0]
    # a fixed order that has no pattern, so that lattices of islands are not met at one place alone
    order = np.random.default_rng(0).permutation(some).tolist()
    chosen, seen = order[:MOST_WINDOWS], np.zeros(int(owner.max()) + 1, np.bool_)
    for number in chosen:
        seen[held[number][held[number] >= 0]] = True
    for number in order[MOST_WINDOWS:]:
        labels = held[number][held[number] >= 0]
        if not seen[labels].all():
            seen[labels] = True
            chosen.append(number)
    return [every[number] for number in sorted(chosen)]


def _errors(
    pixels: NDArray[Any], owner: NDArray[np.int32], windows: Sequence[Window], *, srgb: bool
) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Return for each level the squared errors of each island in windows, (L, I), and their texels, (I,)."""
    height, width = owner.shape
    count = int(owner.max()) + 1 if owner.size else 0
    levels = [level for level in range(1, MOST_LEVELS + 1) if min(height, width) >> level >= 1]
    top = 1.0 if pixels.dtype.kind == "f" else float(np.iinfo(pixels.dtype).max)
    table = srgb_to_linear(np.arange(256, dtype=np.float32) / 255).astype(np.float32)

    results: list[tuple[NDArray[np.float64], NDArray[np.int64]] | None] = [None] * len(windows)

    def measure(index: int) -> None:
        window = windows[index]
        rows, columns = (
            slice(max(part.start - AROUND, 0), min(part.stop + AROUND, size))
            for part, size in zip(window, (height, width), strict=True)
        )
        inner = (
            slice(window[0].start - rows.start, window[0].stop - rows.start),
            slice(window[1].start - columns.start, window[1].stop - columns.start),
        )
        labels = owner[window]
        covered = labels >= 0
        labels = labels[covered]
        error = np.zeros((len(levels), count))
        for channel in range(pixels.shape[2]):
            raw = pixels[rows, columns, channel]
            stored = np.asarray(raw, np.float32) / np.float32(top)
            coded = srgb and channel < 3 and pixels.dtype.kind == "u"
            if coded:
                light = table[raw] if pixels.dtype == np.uint8 else srgb_to_linear(stored).astype(np.float32)
            else:
                light = stored
            known = stored[inner][covered]
            for number, level in enumerate(levels):
                large = _smaller_and_back(light, level)[inner][covered]
                shown = linear_to_srgb(large) if coded else large
                error[number] += np.bincount(labels, (shown - known) ** 2, count)
        results[index] = error, np.bincount(labels, minlength=count)

    in_pieces(measure, range(len(windows)))
    errors, texels = np.zeros((len(levels), count)), np.zeros(count, np.int64)
    # in one order, so that sums are the same whichever was done first
    for result in results:
        if result is not None:
            errors += result[0]
            texels += result[1]
    return errors, texels
