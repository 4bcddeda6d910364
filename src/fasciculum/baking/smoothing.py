"""Noise of maps that rays were cast for, evened out along the surface; never across seams, edges or other objects."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.target import Target
from fasciculum.kernels.light.denoising import guide_tiles, smooth_rows
from fasciculum.progress import SILENT, Progress
from fasciculum.threads import in_pieces

#: rows that are worked on at once
BAND = 32


class EdgeStoppingGuide:
    """Which part of the surface each texel of a sheet is of, and how it faces."""

    def __init__(self, width: int, height: int, target: Target) -> None:
        self.target = target
        #: the part that each triangle is of
        islands = int(target.island.max(initial=0)) + 1
        self.label = target.surface.astype(np.int64) * islands + target.island
        self.labels = np.full((height, width), -1, np.int64)
        self.normals = np.zeros((height, width, 3), np.int8)

    def take(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], corners: NDArray[np.float64]) -> None:
        """Write how texels of tiles face, by the shading normals of the triangles' corners (T, 3, 9)."""
        guide_tiles(tiles, across, ids, self.target.maps, corners, self.label, self.labels, self.normals)


def smooth(
    pixels: NDArray[Any], guide: EdgeStoppingGuide, radius: float, *, vectors: bool = False, progress: Progress = SILENT
) -> None:
    """Even a map (H, W, C) out, in place.

    Parameters
    ----------
    radius : float
        How far, texels.
    vectors : bool
        Whether texels are unit vectors, stored as 0.5 + 0.5 v.
    """
    whole = pixels.dtype.kind == "u"
    kind = float(np.iinfo(pixels.dtype).max) if whole else 1.0
    even = np.empty_like(pixels)
    values = pixels if whole else pixels.astype(np.float64)

    def work(first: int) -> None:
        last = min(first + BAND, len(pixels))
        # floats are not rounded
        told = (kind if vectors else 0.0) if whole else -1.0
        smooth_rows(first, last, values, guide.labels, guide.normals, radius, told, even)

    in_pieces(work, range(0, len(pixels), BAND), words="Smoothing noise", progress=progress)
    if vectors and not whole:
        turned = even[..., :3] * 2.0 - 1.0
        turned /= np.maximum(np.linalg.norm(turned, axis=-1, keepdims=True), 1e-9)
        even[..., :3] = turned * 0.5 + 0.5
    pixels[:] = even
