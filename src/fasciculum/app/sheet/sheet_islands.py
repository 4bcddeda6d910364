"""The places of a sheet, ready to be painted and pointed at; and how they follow a layout that only moved them."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainterPath, QPolygonF, QTransform

from fasciculum.model.layout import Layout
from fasciculum.operations.lay_out.arrange import boxes_of, maps_between
from fasciculum.packing.borders import Borders
from fasciculum.packing.outlines import Outline

#: places whose outlines are made into paths between two looks at the event loop
SLICE = 120


class Island:
    """A place ready to be painted: its outline in texels, whose it is, its box."""

    def __init__(self, outline: Outline, loops: Iterable[NDArray[np.float64]]) -> None:
        self.place = outline.place
        self.islands = outline.islands
        self.keys = outline.objects
        self.path = QPainterPath()
        for loop in loops:
            self.path.addPolygon(QPolygonF([QPointF(x, y) for x, y in loop.tolist()]))
            self.path.closeSubpath()
        self.box = self.path.boundingRect()

    @property
    def outline(self) -> QPainterPath:
        """The border as a path."""
        return self.path

    def follow(self, transform: QTransform) -> None:
        """Go where a map takes the island."""
        self.path = transform.map(self.path)
        self.box = self.path.boundingRect()


def transform_of(matrix: NDArray[np.float64]) -> QTransform:
    """Return a 2 x 3 map as Qt's."""
    a = matrix
    return QTransform(a[0, 0], a[1, 0], a[0, 1], a[1, 1], a[0, 2], a[1, 2])


class Drawn:
    """What is drawn of a layout.

    Attributes
    ----------
    islands : list of Island
        In the order of the places; filled bit by bit.
    lines : Borders
        The same borders as arrays.
    """

    def __init__(self, layout: Layout, outlines: list[Outline]) -> None:
        self.layout = layout
        self.islands: list[Island] = []
        self._waiting = outlines
        loops, points, starts = [0], [np.zeros((0, 2))], [0]
        for outline in outlines:
            for loop in outline.loops:
                points.append(loop)
                loops.append(loops[-1] + len(loop))
            starts.append(len(loops) - 1)
        self.lines = Borders(np.concatenate(points), np.array(loops), np.array(starts))
        self.boxes = boxes_of(self.lines)
        self._first = np.array([outline.islands[0] for outline in outlines], np.int64)

    def fill(self, count: int = SLICE) -> bool:
        """Make some more islands; False when there are none left to be made."""
        at, lines = len(self.islands), self.lines
        for outline in self._waiting[at : at + count]:
            loops = range(int(lines.islands[outline.place]), int(lines.islands[outline.place + 1]))
            own = (lines.points[lines.loops[loop] : lines.loops[loop + 1]] for loop in loops)
            self.islands.append(Island(outline, own))
        return len(self.islands) < len(self._waiting)

    def fits(self, layout: Layout) -> bool:
        """Tell whether another layout has the same islands, so that they only need to be moved."""
        mine = self.layout
        return (
            len(layout.placements) == len(mine.placements)
            # what lies in the cells of a palette has no extent that could be moved
            and not (layout.on_given and not layout.placements[:, [0, 1, 3, 4]].any(axis=1).all())
            and len(layout.surfaces) == len(mine.surfaces)
            and np.array_equal(layout.places, mine.places)
            and all(
                one is two or len(one.corners) == len(two.corners)
                for one, two in zip(layout.surfaces, mine.surfaces, strict=True)
            )
        )

    def follow(self, layout: Layout) -> set[int]:
        """Move what is drawn to where another layout with the same islands has it; return the places that moved."""
        old, new = self.layout.placements[self._first], layout.placements[self._first]
        self.layout = layout
        changed = np.flatnonzero((old != new).any(axis=1))
        if not len(changed):
            return set()
        moves = maps_between(old[changed], new[changed])
        every = np.tile(np.array([[1.0, 0, 0], [0, 1.0, 0]]), (len(self._first), 1, 1))
        every[changed] = moves
        points = self.lines.points
        each = every[np.repeat(np.arange(len(every)), np.diff(self.lines.point_islands))]
        points = (each[:, :, 0] * points[:, :1]) + (each[:, :, 1] * points[:, 1:]) + each[:, :, 2]
        for place, move in zip(changed.tolist(), moves, strict=True):
            if place < len(self.islands):
                self.islands[place].follow(transform_of(move))
        self.lines = Borders(points, self.lines.loops, self.lines.islands)
        self.boxes = boxes_of(self.lines)
        return set(changed.tolist())

    def at(self, point: QPointF) -> Island | None:
        """Return the island under a point, in texels."""
        x, y = point.x(), point.y()
        own = self.boxes
        inside = (own[:, 0] <= x) & (own[:, 2] >= x) & (own[:, 1] <= y) & (own[:, 3] >= y)
        for place in np.flatnonzero(inside).tolist():
            if place < len(self.islands) and self.islands[place].path.contains(point):
                return self.islands[place]
        return None

    def within(self, area: QRectF) -> list[Island]:
        """Return the islands that a rectangle meets."""
        own = self.boxes
        met = (own[:, 0] <= area.right()) & (own[:, 2] >= area.left())
        met &= (own[:, 1] <= area.bottom()) & (own[:, 3] >= area.top())
        return [
            self.islands[place]
            for place in np.flatnonzero(met).tolist()
            if place < len(self.islands) and self.islands[place].path.intersects(area)
        ]

    def with_moved(self, places: Iterable[int], dx: float, dy: float) -> Borders:
        """Return the borders as they would be with some places moved."""
        points = self.lines.points.copy()
        at = self.lines.point_islands
        for place in places:
            points[at[place] : at[place + 1]] += (dx, dy)
        return Borders(points, self.lines.loops, self.lines.islands)
