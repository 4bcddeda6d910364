"""Outlines of a layout's islands, for drawing them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.bundle import Layout
from fasciculum.progress import SILENT, Progress


@dataclass(frozen=True, eq=False)
class Outline:
    """An island's border as closed lines, each of shape (N, 2), in texels; and the objects that lie there."""

    objects: tuple[str, ...]
    loops: tuple[NDArray[np.float64], ...]


def island_outlines(layout: Layout, *, progress: Progress = SILENT) -> list[Outline]:
    """Return the outline of every island of a layout, in the order of its placements."""
    found: list[Outline] = []
    for index, surface in enumerate(layout.surfaces):
        progress.update(index / len(layout.surfaces), "Outlining islands")
        count = int(surface.island.max(initial=-1)) + 1
        loops = _loops(layout.sheet_corners(index), surface.island, count)
        found += [Outline(surface.objects, tuple(parts)) for parts in loops]
    return found


def _loops(corners: NDArray[np.float64], islands: NDArray[np.int32], count: int) -> list[list[NDArray[np.float64]]]:
    """Chain the edges that only one triangle of an island has."""
    points = np.column_stack(
        [np.repeat(islands, 3).astype(np.int64), np.round(corners.reshape(-1, 2) * 256).astype(np.int64)]
    )
    _, first, number = np.unique(points, axis=0, return_index=True, return_inverse=True)
    places, owner = corners.reshape(-1, 2)[first], np.repeat(islands, 3)[first]
    corner = number.reshape(-1, 3)
    one, two = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    flipped = one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0] < 0
    corner = np.where(flipped[:, None], corner[:, ::-1], corner)
    edges = np.concatenate([corner[:, [0, 1]], corner[:, [1, 2]], corner[:, [2, 0]]])
    size = int(number.max(initial=0)) + 1
    keys = edges[:, 0] * size + edges[:, 1]
    border = edges[~np.isin(edges[:, 1] * size + edges[:, 0], keys)]
    following: dict[int, list[int]] = {}
    for start, end in border.tolist():
        following.setdefault(start, []).append(end)
    found: list[list[NDArray[np.float64]]] = [[] for _ in range(count)]
    while following:
        start = next(iter(following))
        chain, at = [start], start
        while at in following:
            after = following[at].pop()
            if not following[at]:
                del following[at]
            chain.append(after)
            at = after
        found[int(owner[start])].append(places[chain])
    return found
