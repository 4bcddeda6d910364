"""Box projection: a plain set of UVs for surfaces that have none, until something better is asked for."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.uv.islands import connect, position_tolerance, weld
from fasciculum.uv.overlaps import self_overlap

#: columns: the axes that become x and y on the sheet, for normals along +X, -X, +Y, -Y, +Z, -Z
PLANES = np.array(
    [
        [[0, 0, -1], [0, -1, 0]],
        [[0, 0, 1], [0, -1, 0]],
        [[1, 0, 0], [0, 0, 1]],
        [[1, 0, 0], [0, 0, -1]],
        [[1, 0, 0], [0, -1, 0]],
        [[-1, 0, 0], [0, -1, 0]],
    ],
    dtype=np.float64,
)
#: islands that lie on themselves by more than this share of their area are taken apart
FOLDED = 1e-6


def box_project(world: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
    """Project each triangle along the axis that its normal is nearest to.

    Parameters
    ----------
    world : ndarray of float64, shape (T, 3, 3)
        Metres.

    Returns
    -------
    corners : ndarray of float64, shape (T, 3, 2)
        Metres; a triangle that faces between axes comes out smaller, by 0.58 at worst.
    islands : ndarray of int32, shape (T,)
        No island lies on itself.
    """
    normals = np.cross(world[:, 1] - world[:, 0], world[:, 2] - world[:, 0])
    axis = np.abs(normals).argmax(axis=1)
    negative = np.take_along_axis(normals, axis[:, None], axis=1)[:, 0] < 0
    side = axis * 2 + negative
    corners = np.einsum("tij,tcj->tci", PLANES[side], world)
    vertices = weld(world.reshape(-1, 3), position_tolerance(world)).reshape(-1, 3)
    islands = connect(vertices * 6 + side[:, None])
    folded = self_overlap(corners, islands, enough=FOLDED) > FOLDED
    following = int(islands.max()) + 1 if len(islands) else 0
    for island in np.flatnonzero(folded):
        members = np.flatnonzero(islands == island)
        layers = _take_apart(corners[members], vertices[members])
        islands[members] = np.where(layers == 0, island, following + layers - 1)
        following += int(layers.max())
    return corners, islands


def _take_apart(corners: NDArray[np.float64], vertices: NDArray[np.int64]) -> NDArray[np.int32]:
    """Split a folded island until no part lies on itself: first by depth of neighbourhood, then one by one."""
    parts = np.zeros(len(corners), np.int32)
    finished = 0
    while True:
        folded = self_overlap(corners, parts, enough=FOLDED) > FOLDED
        if not folded.any() or finished > 12:
            break
        finished += 1
        for part in np.flatnonzero(folded):
            members = np.flatnonzero(parts == part)
            middles = corners[members].mean(axis=1)
            along = middles[:, np.ptp(middles, axis=0).argmax()]
            half = along > np.median(along)
            if half.all() or not half.any():
                half = np.arange(len(members)) >= len(members) // 2
            parts[members[half]] = parts.max() + 1
        # halves may have fallen into several pieces
        parts = connect(vertices * (int(parts.max()) + 1) + parts[:, None])
    folded = self_overlap(corners, parts, enough=FOLDED) > FOLDED
    single = folded[parts]
    parts[single] = parts.max() + 1 + np.arange(single.sum(), dtype=np.int32)
    _, numbers = np.unique(parts, return_inverse=True)
    return numbers.reshape(-1).astype(np.int32)
