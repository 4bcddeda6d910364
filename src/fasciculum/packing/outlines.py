"""Outlines of a layout's places, for drawing and choosing them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.layout import Layout
from fasciculum.packing.borders import Borders, borders
from fasciculum.progress import SILENT, Progress


@dataclass(frozen=True, eq=False)
class Outline:
    """One place: its border as closed lines, each of shape (N, 2), in texels.

    ``islands`` are the islands that lie there, the first being the one that is drawn; ``objects`` those they belong to.
    """

    place: int
    islands: tuple[int, ...]
    objects: tuple[str, ...]
    loops: tuple[NDArray[np.float64], ...]


def first_on_places(layout: Layout) -> NDArray[np.int64]:
    """Return the first island on each place."""
    _, first = np.unique(layout.places, return_index=True)
    return np.asarray(first, np.int64)


def place_borders(layout: Layout, places: NDArray[np.int64] | None = None) -> Borders:
    """Return the borders of a layout's places, of all or of the named ones in their order, in texels."""
    first = first_on_places(layout)
    wanted = np.arange(len(first)) if places is None else places
    number = np.full(len(layout.placements), -1, np.int64)
    number[first[wanted]] = np.arange(len(wanted))
    starts = layout.starts
    parts, labels = [np.zeros((0, 3, 2))], [np.zeros(0, np.int64)]
    for index, surface in enumerate(layout.surfaces):
        mine = number[surface.island + starts[index]]
        if (mine >= 0).any():
            parts.append(layout.sheet_corners(index)[mine >= 0])
            labels.append(mine[mine >= 0])
    return borders(np.concatenate(parts), np.concatenate(labels).astype(np.int32), len(wanted))


def island_outlines(layout: Layout, *, progress: Progress = SILENT) -> list[Outline]:
    """Return the outline of every place of a layout, in order."""
    progress.update(0.0, "Outlining islands")
    lines = place_borders(layout)
    starts = layout.starts
    owner = np.repeat(np.arange(len(layout.surfaces)), np.diff(starts))
    order = np.argsort(layout.places, kind="stable")
    bounds = np.searchsorted(layout.places[order], np.arange(len(lines.islands)))
    results = []
    for place in range(len(lines.islands) - 1):
        islands = order[bounds[place] : bounds[place + 1]].tolist()
        objects = tuple(dict.fromkeys(key for index in islands for key in layout.surfaces[owner[index]].objects))
        loops = tuple(
            lines.points[lines.loops[loop] : lines.loops[loop + 1]]
            for loop in range(int(lines.islands[place]), int(lines.islands[place + 1]))
        )
        results.append(Outline(place, tuple(islands), objects, loops))
    return results
