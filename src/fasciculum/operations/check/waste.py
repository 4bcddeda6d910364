"""Waste: maps and islands that a smaller mip would show as well, and the size that would do."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.units import linear_to_srgb, srgb_to_linear

#: dB from which nobody tells a map from itself made smaller and larger again
AS_WELL = 44.0
MOST_LEVELS = 5
#: part of the covered texels that must lie on islands which are shown as well
NEARLY_ALL = 0.97
#: times that what a smaller map lost is put back into it
ROUNDS = 4


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


def waste_of(pixels: NDArray[Any], owner: NDArray[np.int32], *, srgb: bool) -> Waste:
    """Measure what of a map's detail is above each mip's cut-off.

    The map is made smaller as a bake would make it, and read between texel centres, in linear light; that is compared
    over the texels that islands cover, encoded as the map is.

    Parameters
    ----------
    pixels : ndarray, shape (H, W, C)
        Stored values.
    owner : ndarray of int32, shape (H, W)
        The island that covers each texel, -1 for none.
    srgb : bool
        Whether colour is stored sRGB-encoded; a fourth channel never is.
    """
    covered = owner >= 0
    count = int(owner.max()) + 1 if covered.any() else 0
    labels = owner[covered]
    texels = np.bincount(labels, minlength=count)
    top = 1.0 if pixels.dtype.kind == "f" else float(np.iinfo(pixels.dtype).max)
    height, width = owner.shape
    levels, islands = 0, np.where(texels > 0, 0, -1)
    going = np.ones(count, np.bool_)
    whole = True
    for level in range(1, MOST_LEVELS + 1):
        if min(height, width) >> level < 1 or not going.any():
            break
        error = np.zeros(count)
        for channel in range(pixels.shape[2]):
            stored = np.asarray(pixels[..., channel], np.float32) / top
            coded = srgb and channel < 3 and pixels.dtype.kind == "u"
            light = srgb_to_linear(stored).astype(np.float32) if coded else stored
            large = _smaller_and_back(light, level)[covered]
            shown = linear_to_srgb(np.asarray(large, np.float32)) if coded else large
            error += np.bincount(labels, (shown - stored[covered]) ** 2, count)
        least = 10 ** (-AS_WELL / 10) * pixels.shape[2]
        fits = error <= least * texels
        going &= fits
        islands[going & (texels > 0)] = level
        # a mean would hide what little of it is lively
        whole &= float(texels[going].sum()) >= NEARLY_ALL * float(texels.sum())
        if whole:
            levels = level
    return Waste(levels if count else 0, islands)
