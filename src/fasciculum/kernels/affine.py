"""Corners through the maps of their islands."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def apply_affine(rows: NDArray[np.float64], corners: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return triangles' corners, (T, 3, 2), each triangle through its own 2 x 3 map, a row of six numbers (T, 6)."""
    row = rows.T[..., None]
    x, y = corners[..., 0], corners[..., 1]
    return np.stack([row[0] * x + row[1] * y + row[2], row[3] * x + row[4] * y + row[5]], axis=2)
