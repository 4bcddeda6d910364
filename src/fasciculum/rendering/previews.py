"""Smaller copies of images with their mip levels, made ahead so that showing them costs nothing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.progress import SILENT, Progress
from fasciculum.units import linear_to_srgb, srgb_to_linear

#: edge of the preview of a layer's picture
LAYER_EDGE = 512


@dataclass(frozen=True)
class Shown:
    """How an image is looked at.

    Attributes
    ----------
    channel : int
        The one that is shown as grey, -1 for all.
    exposure : float
        Stops by which it is brightened.
    light : bool
        Whether it is light: stored as sRGB, or linear where it holds floats.
    """

    channel: int = -1
    exposure: float = 0.0
    light: bool = False


def mip_chain(pixels: NDArray, longest: int, shown: Shown = Shown()) -> list[NDArray[np.uint8]]:
    """Return an image as 8-bit RGBA, no larger than ``longest``, with all its mip levels."""
    image = np.asarray(pixels)
    height, width = image.shape[:2]
    shrink = max(1.0, max(width, height) / longest)
    size = (max(round(width / shrink), 1), max(round(height / shrink), 1))
    if size != (width, height):
        image = cv2.resize(image, size, interpolation=cv2.INTER_AREA).reshape(size[1], size[0], -1)
    image = _as_seen(image, shown)
    if image.shape[2] == 1:
        image = np.repeat(image, 3, axis=2)
    if image.shape[2] == 3:
        image = np.dstack([image, np.full(image.shape[:2], 255, np.uint8)])
    levels = [np.ascontiguousarray(image)]
    while levels[-1].shape[0] > 1 or levels[-1].shape[1] > 1:
        height, width = levels[-1].shape[:2]
        smaller = cv2.resize(levels[-1], (max(width // 2, 1), max(height // 2, 1)), interpolation=cv2.INTER_AREA)
        levels.append(np.ascontiguousarray(smaller))
    return levels


def _as_seen(image: NDArray, shown: Shown) -> NDArray[np.uint8]:
    """Return an image as 8 bits, shape (H, W, C), one channel of it or brightened when asked."""
    if shown.channel >= 0:
        mask = shown.channel < image.shape[2]
        image = image[..., shown.channel, None] if mask else np.full((*image.shape[:2], 1), 255, np.uint8)
    floats = image.dtype.kind == "f"
    if not floats and shown.exposure == 0.0:
        return (image >> 8).astype(np.uint8) if image.dtype == np.uint16 else image
    values = image.astype(np.float32) if floats else image / np.float32(np.iinfo(image.dtype).max)
    colors, rest = values[..., :3], values[..., 3:]
    light = shown.light and shown.channel != 3
    if light and not floats:
        colors = srgb_to_linear(colors)
    colors = np.clip(colors * 2.0**shown.exposure, 0, 1)
    if light:
        colors = linear_to_srgb(colors)
    seen: NDArray[np.uint8] = np.round(np.clip(np.concatenate([colors, rest], axis=2), 0, 1) * 255).astype(np.uint8)
    return seen


def make_previews(
    folder: str, keys: Sequence[str], longest: int, shown: Shown = Shown(), *, progress: Progress = SILENT
) -> dict[str, list[NDArray[np.uint8]]]:
    """Return mip chains of images in a pixel store's folder, by key."""
    results = {}
    for key in progress.over(keys, lambda _: "Preparing the view", total=len(keys)):
        results[key] = mip_chain(np.load(f"{folder}/{key}.npy", mmap_mode="r"), longest, shown)
    return results


def layer_preview(pixels: NDArray[Any]) -> NDArray[np.uint8]:
    """Return a layer's picture, (H, W, C) as stored, as the renderer's array of them holds it.

    All are of one size, (N, N, 4); colours are the roots of linear light, which are cheap to square.
    """
    top = float(np.iinfo(pixels.dtype).max)
    values = np.asarray(pixels, np.float32) / np.float32(top)
    light = np.ones((*values.shape[:2], 4), np.float32)
    light[..., :3] = srgb_to_linear(values[..., :3])
    if values.shape[2] > 3:
        light[..., 3] = values[..., 3]
    size = (LAYER_EDGE, LAYER_EDGE)
    small = np.asarray(cv2.resize(light, size, interpolation=cv2.INTER_AREA), np.float32)
    small[..., :3] = np.sqrt(np.clip(small[..., :3], 0.0, 1.0))
    result: NDArray[np.uint8] = np.round(small * 255).astype(np.uint8)
    return result
