"""Smaller copies of images with their mip levels, made ahead so that showing them costs nothing."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.progress import SILENT, Progress


def mip_chain(pixels: NDArray, longest: int) -> list[NDArray[np.uint8]]:
    """Return an image as 8-bit RGBA, no larger than ``longest``, with all its mip levels."""
    image = np.asarray(pixels)
    if image.dtype == np.uint16:
        image = (image >> 8).astype(np.uint8)
    height, width = image.shape[:2]
    shrink = max(1.0, max(width, height) / longest)
    size = (max(round(width / shrink), 1), max(round(height / shrink), 1))
    if size != (width, height):
        image = cv2.resize(image, size, interpolation=cv2.INTER_AREA)
    if image.shape[2] == 3:
        image = np.dstack([image, np.full(image.shape[:2], 255, np.uint8)])
    levels = [np.ascontiguousarray(image)]
    while levels[-1].shape[0] > 1 or levels[-1].shape[1] > 1:
        height, width = levels[-1].shape[:2]
        smaller = cv2.resize(levels[-1], (max(width // 2, 1), max(height // 2, 1)), interpolation=cv2.INTER_AREA)
        levels.append(np.ascontiguousarray(smaller))
    return levels


def make_previews(
    folder: str, keys: Sequence[str], longest: int, *, progress: Progress = SILENT
) -> dict[str, list[NDArray[np.uint8]]]:
    """Return mip chains of images in a pixel store's folder, by key."""
    found = {}
    for key in progress.over(keys, lambda _: "Preparing the view", total=len(keys)):
        found[key] = mip_chain(np.load(f"{folder}/{key}.npy", mmap_mode="r"), longest)
    return found
