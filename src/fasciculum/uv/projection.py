"""Projections: a surface seen from one side, or from all sides of a box, a cylinder or a sphere."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.unwrapping import Projection
from fasciculum.uv.corners import signed_uv_areas, surface_areas
from fasciculum.uv.islands import connect, find_islands, position_tolerance, weld
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
#: a triangle belongs to a cylinder's cap when its normal is this near to the axis (a cosine), and to a sphere's when
#: it lies beyond this latitude (radians)
CAP, POLE = 0.75, np.radians(52.0)


def project(points: NDArray[np.float64], projection: Projection) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
    """Project triangles.

    Parameters
    ----------
    points : ndarray of float64, shape (T, 3, 3)
        Metres, in the space that the projection is given in.
    projection : Projection
        Its choice of triangles is not looked at.

    Returns
    -------
    corners : ndarray of float64, shape (T, 3, 2)
        Metres on the projecting surface.
    islands : ndarray of int32, shape (T,)
        No island lies on itself.
    """
    axes = np.array(projection.axes).reshape(3, 3)
    local = (points - np.array(projection.origin)) @ axes.T
    if projection.kind == "box":
        return box_project(local)
    if projection.kind == "plane":
        corners = np.stack([local[..., 0], -local[..., 1]], axis=2)
        # what faces away is seen from behind: an island of its own
        side = (np.cross(local[:, 1] - local[:, 0], local[:, 2] - local[:, 0])[:, 2] < 0).astype(np.int64)
        corners[side == 1, :, 0] *= -1
        return corners, _islands(local, corners, side)
    corners, side = (_cylinder if projection.kind == "cylinder" else _sphere)(local, projection.size, projection.caps)
    return corners, _islands(local, corners, side)


def _around(local: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the angle of each corner about the second axis, those of one triangle without a leap; radians."""
    angle = np.arctan2(local[..., 0], local[..., 2])
    middle = local.mean(axis=1)
    home = np.arctan2(middle[:, 0], middle[:, 2])[:, None]
    # a corner on the axis has no direction: it goes with the rest of its triangle
    lone = np.hypot(local[..., 0], local[..., 2]) < 1e-9 * max(float(np.abs(local).max(initial=0)), 1e-300)
    angle = np.where(lone, home, angle)
    result: NDArray[np.float64] = home + (angle - home + np.pi) % (2 * np.pi) - np.pi
    return result


def _cylinder(local: NDArray[np.float64], size: float, caps: bool) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    normals = np.cross(local[:, 1] - local[:, 0], local[:, 2] - local[:, 0])
    normals /= np.maximum(np.linalg.norm(normals, axis=1), 1e-300)[:, None]
    corners = np.stack([_around(local) * size, -local[..., 1]], axis=2)
    side = np.zeros(len(local), np.int64)
    if caps:
        for number, way in ((1, 1.0), (2, -1.0)):
            cap = normals[:, 1] * way > CAP
            side[cap] = number
            corners[cap] = np.stack([local[cap][..., 0], local[cap][..., 2] * way], axis=2)
    return corners, side


def _sphere(local: NDArray[np.float64], size: float, caps: bool) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    level = np.hypot(local[..., 0], local[..., 2])
    latitude = np.arctan2(local[..., 1], level)
    angle = _around(local)
    corners = np.stack([angle * size, -latitude * size], axis=2)
    side = np.zeros(len(local), np.int64)
    if caps:
        middle = latitude.mean(axis=1)
        for number, way in ((1, 1.0), (2, -1.0)):
            cap = middle * way > POLE
            side[cap] = number
            away = (np.pi / 2 - latitude[cap] * way) * size
            corners[cap] = np.stack([np.sin(angle[cap]) * away, np.cos(angle[cap]) * away * way], axis=2)
    return corners, side


def _islands(local: NDArray[np.float64], corners: NDArray[np.float64], side: NDArray[np.int64]) -> NDArray[np.int32]:
    """Return islands of what hangs together on one side, taken apart where they lie on themselves."""
    islands = find_islands(local, corners + side[:, None, None] * 4 * max(float(np.ptp(corners)), 1e-9))
    return _unfolded(local, corners, islands)


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
    return corners, _unfolded(world, corners, connect(vertices * 6 + side[:, None]))


def _unfolded(
    world: NDArray[np.float64], corners: NDArray[np.float64], islands: NDArray[np.int32]
) -> NDArray[np.int32]:
    """Take islands apart that lie on themselves."""
    folded = self_overlap(corners, islands, threshold=FOLDED) > FOLDED
    if not folded.any():
        return islands
    vertices = weld(world.reshape(-1, 3), position_tolerance(world)).reshape(-1, 3)
    following = int(islands.max()) + 1 if len(islands) else 0
    for island in np.flatnonzero(folded):
        members = np.flatnonzero(islands == island)
        layers = _take_apart(corners[members], vertices[members])
        islands[members] = np.where(layers == 0, island, following + layers - 1)
        following += int(layers.max())
    return islands


def evened(world: NDArray[np.float64], corners: NDArray[np.float64], islands: NDArray[np.int32]) -> NDArray[np.float64]:
    """Return islands scaled so that each has the area of its surface."""
    count = int(islands.max(initial=-1)) + 1
    surface = np.bincount(islands, surface_areas(world), count)
    flat = np.bincount(islands, np.abs(signed_uv_areas(corners)), count)
    size = np.sqrt(np.where(flat > 0, surface / np.maximum(flat, 1e-300), 1.0))
    scaled: NDArray[np.float64] = corners * np.clip(size, 1e-3, 1e3)[islands][:, None, None]
    return scaled


def _take_apart(corners: NDArray[np.float64], vertices: NDArray[np.int64]) -> NDArray[np.int32]:
    """Split a folded island until no part lies on itself: first by depth of neighbourhood, then one by one."""
    parts = np.zeros(len(corners), np.int32)
    finished = 0
    while True:
        folded = self_overlap(corners, parts, threshold=FOLDED) > FOLDED
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
    folded = self_overlap(corners, parts, threshold=FOLDED) > FOLDED
    single = folded[parts]
    parts[single] = parts.max() + 1 + np.arange(single.sum(), dtype=np.int32)
    _, numbers = np.unique(parts, return_inverse=True)
    return numbers.reshape(-1).astype(np.int32)
