"""Small pictures of images, for lists."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.io.pixels import PixelStore
from fasciculum.model.scene import Image
from fasciculum.progress import SILENT, Progress


def thumbnails(
    images: tuple[Image, ...], store: PixelStore, *, edge: int = 40, progress: Progress = SILENT
) -> dict[int, NDArray[np.uint8]]:
    """Return a picture of each image that is there, shape (h, w, 4), at most ``edge`` texels along each side."""
    results = {}
    for number, image in enumerate(progress.over(images, lambda image: f"Shrinking {image.name}", total=len(images))):
        if image.missing:
            continue
        pixels = store.get(image.pixels)
        # a sparse sample first, so that large images are not read whole
        step = max(max(image.width, image.height) // (edge * 4), 1)
        sample = np.asarray(pixels[::step, ::step])
        if sample.dtype == np.uint16:
            sample = (sample >> 8).astype(np.uint8)
        scale = edge / max(sample.shape[:2])
        size = (max(round(sample.shape[1] * scale), 1), max(round(sample.shape[0] * scale), 1))
        small = np.asarray(cv2.resize(np.ascontiguousarray(sample), size, interpolation=cv2.INTER_AREA), np.uint8)
        opaque = np.full((*small.shape[:2], 1), 255, np.uint8)
        results[number] = (
            small if small.shape[2] == 4 else np.ascontiguousarray(np.concatenate([small, opaque], axis=2))
        )
    return results
