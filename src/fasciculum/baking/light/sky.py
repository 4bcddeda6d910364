"""The sky as tables: its values to all sides, and where it is bright."""

from __future__ import annotations

from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.model.lighting import Sky, SkyKind
from fasciculum.units import brightness

#: cells that a picture's brightness is sorted into, across and down, at most
CELLS = 1024, 512
#: what skies are, as the kernels know it
NOTHING, GRADIENT, PICTURE = 0, 1, 2


class SkyTables(NamedTuple):
    """A sky as kernels read it.

    Attributes
    ----------
    kind : ndarray of int64, shape (1,)
    colors : ndarray of float64, shape (3, 3)
        Above, at the horizon and below, nits.
    turn : ndarray of float64, shape (2,)
        By which a picture is turned, in parts of a whole turn; its mean over all sides, luminance.
    picture : ndarray of float32, shape (H, W, 3)
    rows, columns : ndarray of float64, shapes (R + 1,), (R, C + 1)
        How much of the light comes from rows above each, and within a row from cells before each, from 0 to 1.
    """

    kind: NDArray[np.int64]
    colors: NDArray[np.float64]
    turn: NDArray[np.float64]
    picture: NDArray[np.float32]
    rows: NDArray[np.float64]
    columns: NDArray[np.float64]


def sky_tables(sky: Sky, picture: NDArray[np.float32] | None, *, others: bool) -> SkyTables:
    """Return the tables of a sky.

    Parameters
    ----------
    sky : Sky
    picture : ndarray of float32, shape (H, W, 3), optional
        Of a sky that is one: equirectangular, linear.
    others : bool
        Whether anything else shines: a sky that nothing is said of is white only if not.
    """
    kind = sky.kind
    if kind is SkyKind.AUTO:
        kind = SkyKind.NONE if others else SkyKind.PLAIN
    colors = np.zeros((3, 3))
    nothing = np.zeros((1, 1, 3), np.float32)
    flat = np.array([0.0, 1.0]), np.array([[0.0, 1.0]])
    turn = np.array([sky.turn / 360.0, 0.0])
    if kind is SkyKind.NONE or sky.strength <= 0:
        return SkyTables(np.array([NOTHING]), colors, turn, nothing, *flat)
    if kind is not SkyKind.PICTURE or picture is None:
        colors[:] = [sky.color, sky.horizon, sky.ground] if kind is SkyKind.GRADIENT else [sky.color] * 3
        return SkyTables(np.array([GRADIENT]), colors * sky.strength, turn, nothing, *flat)
    whole = np.ascontiguousarray(np.maximum(picture, 0) * np.float32(sky.strength))
    rows, columns, mean = _brightness(whole)
    turn[1] = mean
    return SkyTables(np.array([PICTURE]), colors, turn, whole, rows, columns)


def _brightness(picture: NDArray[np.float32]) -> tuple[NDArray[np.float64], NDArray[np.float64], float]:
    """Return how the light of a picture is spread over its rows, over the cells of each, and its mean."""
    light = brightness(np.asarray(picture, np.float64))
    height, width = light.shape
    # the mean over each texel of what is read between its middle and those beside it
    around = np.pad(np.pad(light, ((1, 1), (0, 0)), mode="edge"), ((0, 0), (1, 1)), mode="wrap")
    down = (around[:-2] + 6 * around[1:-1] + around[2:]) / 8
    light = (down[:, :-2] + 6 * down[:, 1:-1] + down[:, 2:]) / 8
    size = min(width, CELLS[0]), min(height, CELLS[1])
    cells = np.asarray(cv2.resize(light, size, interpolation=cv2.INTER_AREA), np.float64)
    angle = (np.arange(size[1]) + 0.5) / size[1] * np.pi
    weighed = cells * np.sin(angle)[:, None]
    mean = float(weighed.sum() / max(np.sin(angle).sum() * size[0], 1e-12))
    # what is dark is looked at too
    weighed += 1e-3 * weighed.mean() + 1e-30
    columns = np.zeros((size[1], size[0] + 1))
    columns[:, 1:] = np.cumsum(weighed, axis=1)
    whole = columns[:, -1:].copy()
    rows = np.concatenate([[0.0], np.cumsum(whole[:, 0])])
    return rows / rows[-1], columns / whole, mean
