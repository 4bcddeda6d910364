"""From source UVs to a flat surface in metres: keep what is clean, project the rest, cut what is too long."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.uv.corners import Corners, signed_uv_areas, surface_areas
from fasciculum.uv.islands import connect, find_islands, position_tolerance, renumber, weld
from fasciculum.uv.overlaps import self_overlap
from fasciculum.uv.projection import box_project
from fasciculum.uv.stretch import metric

#: shares of an island's area from which it does not count as clean: covering itself, turned over, without extent
CLASH, TURNED, COLLAPSED = 1e-4, 1e-4, 0.01
#: an island with this share of its surface drawn more than eight times off its own mean density is not clean
UNEVEN = 0.1


@dataclass(frozen=True, eq=False)
class Flat:
    """A flat surface: corners in metres (T, 3, 2), the island of each triangle, and which were projected."""

    corners: NDArray[np.float64]
    islands: NDArray[np.int32]
    projected: NDArray[np.bool_]


def clean_islands(corners: Corners, uvs: NDArray[np.float64], islands: NDArray[np.int32]) -> NDArray[np.bool_]:
    """Return which islands can be kept: not folded, turned over in part, collapsed or grossly uneven."""
    count = int(islands.max()) + 1
    signed, areas = signed_uv_areas(uvs), surface_areas(corners.world)
    positive = np.bincount(islands, np.maximum(signed, 0), count)
    negative = np.bincount(islands, np.maximum(-signed, 0), count)
    total, surface = positive + negative, np.bincount(islands, areas, count)
    flat = np.abs(signed)
    mean = np.where(surface > 0, total / np.maximum(surface, 1e-300), 0)[islands]
    thin = (flat < mean * areas / 4096) & (areas > 0)
    uneven = (flat < mean * areas / 64) | (flat > mean * areas * 64)
    collapsed = np.bincount(islands, areas * thin, count)
    off = np.bincount(islands, areas * uneven, count)
    return (
        (total > 1e-12)
        & (np.minimum(positive, negative) <= total * TURNED)
        & (collapsed <= surface * COLLAPSED)
        & (off <= surface * UNEVEN)
        & (self_overlap(uvs, islands, enough=CLASH) <= CLASH)
    )


def _to_metres(
    world: NDArray[np.float64], uvs: NDArray[np.float64], islands: NDArray[np.int32], even: bool
) -> NDArray[np.float64]:
    """Scale each island along u and v so that it has its surface's area and as little stretch as that allows."""
    count = int(islands.max()) + 1 if len(islands) else 0
    areas, flat = surface_areas(world), np.abs(signed_uv_areas(uvs))
    forms = np.nan_to_num(metric(world, uvs), nan=0.0, posinf=0.0)
    weighted = [np.bincount(islands, forms[:, column] * flat, count) for column in (0, 2)]
    scale_u, scale_v = (np.sqrt(np.maximum(part, 1e-30)) for part in weighted)
    squash = np.sqrt(scale_u / scale_v)
    surface, covered = np.bincount(islands, areas, count), np.bincount(islands, flat, count)
    if not even:
        # relative scales of the source stay; only the object's mean is brought to metres
        size = np.full(count, np.sqrt(surface.sum() / max(float(covered.sum()), 1e-300)))
        squash = np.ones(count)
    else:
        size = np.sqrt(np.maximum(surface, 1e-12) / np.maximum(covered, 1e-300))
    factors = np.stack([size * squash, size / squash], axis=1)
    scaled: NDArray[np.float64] = uvs * factors[islands][:, None, :]
    return scaled


def flatten(corners: Corners, *, policy: str, even: bool) -> Flat:
    """Lay an object's surface flat.

    Parameters
    ----------
    corners : Corners
    policy : str
        ``keep`` never projects what has UVs; ``auto`` keeps clean islands and projects the rest; ``unwrap``
        projects everything.
    even : bool
        Give each island its surface's area; otherwise the relative scales of the source stay.

    Returns
    -------
    Flat
        Each island's own box starts at (0, 0).
    """
    count = len(corners.world)
    has_uvs = np.asarray(np.isfinite(corners.source).all(axis=(1, 2)), np.bool_)
    keep: NDArray[np.bool_] = has_uvs.copy() if policy != "unwrap" else np.zeros(count, bool)
    islands = np.full(count, -1, np.int32)
    flat = np.zeros((count, 3, 2))
    if keep.any():
        world, uvs = corners.world[keep], corners.source[keep]
        found = find_islands(world, uvs)
        if policy == "auto":
            chosen = Corners(world, uvs, corners.material[keep], corners.primitive[keep], corners.own[keep])
            good = clean_islands(chosen, uvs, found)[found]
        else:
            good = np.ones(len(found), bool)
        keep[np.flatnonzero(keep)[~good]] = False
        if good.any():
            labels = renumber(found[good])
            flat[keep] = _to_metres(world[good], uvs[good], labels, even)
            islands[keep] = labels
    rest: NDArray[np.bool_] = ~keep
    if rest.any():
        projected, parts = box_project(corners.own[rest])
        flat[rest] = projected
        islands[rest] = parts + islands.max() + 1
    islands = renumber(islands)
    return Flat(_from_zero(flat, islands), islands, rest)


def _from_zero(flat: NDArray[np.float64], islands: NDArray[np.int32]) -> NDArray[np.float64]:
    low = np.full((int(islands.max()) + 1, 2), np.inf)
    np.minimum.at(low, islands, flat.min(axis=1))
    moved: NDArray[np.float64] = flat - low[islands][:, None, :]
    return moved


def cut_long(flat: Flat, world: NDArray[np.float64], longest: float, piece_length: float) -> Flat:
    """Cut islands longer than ``longest`` across, along the edges of their triangles.

    Both lengths are in metres; the pieces are about ``piece_length`` long.
    """
    count = int(flat.islands.max()) + 1 if len(flat.islands) else 0
    size = np.zeros((count, 2))
    np.maximum.at(size, flat.islands, flat.corners.max(axis=1))
    long = size.max(axis=1) > longest
    if not long.any():
        return flat
    axis = size.argmax(axis=1)
    pieces = np.where(long, np.ceil(size.max(axis=1) / piece_length - 1e-6), 1)
    middle = np.take_along_axis(flat.corners.mean(axis=1), axis[flat.islands][:, None], axis=1)[:, 0]
    piece = np.minimum(
        (middle / np.maximum(size.max(axis=1), 1e-30)[flat.islands] * pieces[flat.islands]),
        pieces[flat.islands] - 1,
    ).astype(np.int64)
    vertices = weld(world.reshape(-1, 3), position_tolerance(world)).reshape(-1, 3)
    key = flat.islands.astype(np.int64) * (int(pieces.max()) + 1) + piece
    _, key = np.unique(key, return_inverse=True)
    islands = renumber(connect(vertices * (int(key.max()) + 1) + key.reshape(-1, 1)))
    return Flat(_from_zero(flat.corners, islands), islands, flat.projected)
