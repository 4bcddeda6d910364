"""The first construction: islands by falling size, each where it touches most of what lies there already."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.packing.placement import place_some
from fasciculum.packing.borders import Borders
from fasciculum.packing.page import CLASSES, SLACK, Page
from fasciculum.packing.shapes import Poses, Rules, Shapes

#: islands put down between two looks at whether to go on
CHUNK = 12


@dataclass(frozen=True, eq=False)
class Attempt:
    """What came of one scale: texel maps, rows of 6, NaN for islands that found no place; and how many did not."""

    scale: float
    placements: NDArray[np.float64]
    lost: int

    @property
    def whole(self) -> bool:
        """Whether every island found a place."""
        return self.lost == 0


class Greedy:
    """Puts one set of islands down, at whatever scales it is asked to try.

    Parameters
    ----------
    smallest : float
        Islands whose longest distance across comes out shorter, in texels, are scaled up to it.
    held : Borders, optional
        Islands that lie on the sheet already, in texels, tiles side by side.
    """

    def __init__(
        self, shapes: Shapes, poses: Poses, rules: Rules, *, smallest: float = 0.0, held: Borders | None = None
    ) -> None:
        self.shapes, self.poses, self.rules = shapes, poses, rules
        self.smallest, self.held = smallest, held
        thin = np.maximum(shapes.narrowness, 1e-12)
        least = max(float(np.quantile(thin, 0.02)), 1e-12) if len(thin) else 1.0
        self._classes = np.clip(np.log(thin / least) / math.log(1.2), 0, CLASSES - 1).astype(np.int64)

    def factors(self, scale: float) -> NDArray[np.float64]:
        """Return what each island's scale is multiplied with to reach the smallest size."""
        return np.maximum(1.0, self.smallest / np.maximum(self.shapes.lengths * scale, 1e-12))

    def order(self, shaken: NDArray[np.float64] | None = None) -> NDArray[np.int64]:
        """Return the islands by falling border, shaken a little when asked."""
        key = self.shapes.perimeters if shaken is None else self.shapes.perimeters * shaken
        return np.argsort(-key, kind="stable").astype(np.int64)

    def limit(self) -> float:
        """Return the scale above which some island is larger than the sheet in every pose, texels per metre."""
        inner = np.array([self.rules.width, self.rules.height]) - 2.0 * self.rules.margin - 0.1
        lines, best = self.shapes.borders, math.inf
        starts = lines.point_islands
        for island in range(len(self.shapes)):
            if self.shapes.lengths[island] * best < inner.min():
                continue
            points = lines.points[starts[island] : starts[island + 1]]
            matrices = self.poses.linear[self.poses.starts[island] : self.poses.starts[island + 1]].reshape(-1, 2, 2)
            boxes = np.ptp(np.einsum("qij,pj->qpi", matrices, points), axis=1)
            best = min(best, float((inner / np.maximum(boxes, 1e-12)).min(axis=1).max()))
        return best

    def attempt(
        self,
        scale: float,
        order: NDArray[np.int64],
        go_on: Callable[[], bool],
        *,
        cell: int,
        most: int,
        stop: bool = True,
    ) -> Attempt:
        """Put the islands down in this order at this scale.

        Parameters
        ----------
        go_on : callable
            Asked every now and then; False ends the attempt, with islands lost.
        cell : int
            Texels along the edge of a cell; islands stand on cells.
        most : int
            How many places are weighed in each search.
        stop : bool
            End with the first island that finds no place.
        """
        rules = self.rules
        aligned = rules.align > 0
        page = Page(replace(rules, margin=-(-rules.margin // cell) * cell) if aligned else rules, cell)
        if self.held is not None:
            page.take(self.held)
        places = np.full((len(self.shapes), 6), np.nan)
        stood = np.zeros(len(self.shapes), np.int64)
        lines, lost, factors = self.shapes.borders, 0, self.factors(scale)
        if not page.rows or page.tile_columns < 1:
            return Attempt(scale, places, len(order))
        for first in range(0, len(order), CHUNK):
            if not go_on():
                lost += len(order) - first
                break
            lost += place_some(
                lines.points,
                lines.loops,
                lines.islands,
                self.poses.linear,
                self.poses.starts,
                order,
                first,
                min(first + CHUNK, len(order)),
                scale,
                factors,
                2 * SLACK,
                cell,
                rules.padding,
                SLACK,
                page.rows,
                page.columns,
                page.levels,
                page.room,
                page.busy,
                page.failed,
                self._classes,
                self.shapes.lengths,
                most,
                stop,
                places,
                stood,
            )
            if stop and lost:
                break
        page.place(places, stood)
        return Attempt(scale, places, lost)
