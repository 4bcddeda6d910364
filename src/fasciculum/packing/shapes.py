"""The islands that are to be packed: their borders, measures, and the poses that each may take."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.packing.borders import Borders, borders
from fasciculum.packing.turns import STEPS

#: an island is straight-edged when this part of its border keeps to two directions at right angles
STRAIGHT = 0.5
#: islands this many times longer than wide get finer turns
SLENDER = 5.0


@dataclass(frozen=True)
class Rules:
    """What the packer has to keep to.

    Sizes in texels; ``turns`` is a word of `turns.STEPS`; ``tiles`` lie side by side, their sizes alike; islands' boxes
    begin on multiples of ``align`` texels, wherever they like at 0. ``upright`` has an entry for each island, or none:
    those where it is true may be turned by half a turn only, whatever ``turns`` allows.
    """

    width: int
    height: int
    padding: int
    margin: int
    turns: str = "quarter"
    mirror: bool = False
    tiles: int = 1
    align: int = 0
    upright: tuple[bool, ...] = ()


@dataclass(frozen=True, eq=False)
class Shapes:
    """Islands ready for packing, in metres times share.

    Attributes
    ----------
    borders : Borders
    areas, lengths, narrowness, perimeters : ndarray of float64, shape (I,)
        Area; the longest distance across; about twice the area over half the border, which is the width of a strip.
    square : ndarray of float64, shape (I,)
        The turn, in radians, that sets a straight-edged island square to the pixels; 0 for others.
    """

    borders: Borders
    areas: NDArray[np.float64]
    lengths: NDArray[np.float64]
    narrowness: NDArray[np.float64]
    perimeters: NDArray[np.float64]
    square: NDArray[np.float64]

    def __len__(self) -> int:
        return len(self.areas)

    def scaled(self, factors: NDArray[np.float64]) -> Shapes:
        """Return the islands, each as many times larger as its factor."""
        points = self.borders.points * np.repeat(factors, np.diff(self.borders.point_islands))[:, None]
        lines = Borders(points, self.borders.loops, self.borders.islands)
        return Shapes(
            lines,
            self.areas * factors**2,
            self.lengths * factors,
            self.narrowness * factors,
            self.perimeters * factors,
            self.square,
        )


def shapes_of(islands: list[NDArray[np.float64]]) -> Shapes:
    """Measure islands given as triangles, each of shape (T, 3, 2)."""
    count = len(islands)
    corners = np.concatenate(islands) if islands else np.zeros((0, 3, 2))
    labels = np.repeat(np.arange(count, dtype=np.int32), [len(island) for island in islands])
    lines = borders(corners, labels, count)
    one, two = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    twice = np.abs(one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0])
    areas = np.bincount(labels, twice / 2, minlength=count).astype(np.float64)
    points, starts = lines.points, lines.point_islands
    owner = np.repeat(np.arange(count), np.diff(starts))
    after = np.arange(1, len(points) + 1)
    after[lines.loops[1:] - 1] = lines.loops[:-1]
    edges = points[after] - points if len(points) else np.zeros((0, 2))
    long = np.hypot(edges[:, 0], edges[:, 1])
    perimeters = np.bincount(owner, long, minlength=count).astype(np.float64)
    # the fourth harmonic of the edges' directions: edges at right angles to each other add up
    direction = np.arctan2(edges[:, 1], edges[:, 0]) * 4
    across = np.bincount(owner, long * np.cos(direction), minlength=count)
    along = np.bincount(owner, long * np.sin(direction), minlength=count)
    straight = np.hypot(across, along) > STRAIGHT * np.maximum(perimeters, 1e-300)
    square = np.where(straight, -np.arctan2(along, across) / 4, 0.0)
    square[np.abs(square) < 1e-9] = 0.0
    lengths = np.array([_length(points[starts[i] : starts[i + 1]]) for i in range(count)])
    narrowness = 4 * areas / np.maximum(perimeters, 1e-300)
    return Shapes(lines, areas, lengths, narrowness, perimeters, square)


def _length(points: NDArray[np.float64]) -> float:
    if not len(points):
        return 0.0
    angles = np.arange(12) * math.pi / 12
    spread = points @ np.stack([np.cos(angles), np.sin(angles)])
    return float(np.ptp(spread, axis=0).max())


@dataclass(frozen=True, eq=False)
class Poses:
    """The turns that each island may take.

    Attributes
    ----------
    linear : ndarray of float64, shape (Q, 4)
        Turn and mirroring as a 2 x 2 matrix, row by row.
    angles : ndarray of float64, shape (Q,)
    mirrored : ndarray of bool, shape (Q,)
    starts : ndarray of int64, shape (I + 1,)
    """

    linear: NDArray[np.float64]
    angles: NDArray[np.float64]
    mirrored: NDArray[np.bool_]
    starts: NDArray[np.int64]


def linear(angle: float, mirror: bool) -> tuple[float, float, float, float]:
    """Return the matrix that mirrors left to right, when asked, and then turns."""
    cos, sin = math.cos(angle), math.sin(angle)
    if abs(cos) < 1e-12 or abs(sin) < 1e-12:
        cos, sin = float(round(cos)), float(round(sin))
    flip = -1.0 if mirror else 1.0
    return cos * flip, -sin, sin * flip, cos


def poses_of(shapes: Shapes, rules: Rules, *, most: int = 64, check: Callable[[], None] = lambda: None) -> Poses:
    """Return the poses to try, those of an island that look the same left out; ``most`` bounds the turns of each.

    ``check`` is called for each island, and may raise to end it.
    """
    rows: list[tuple[float, float, float, float]] = []
    angles, mirrored, starts = [], [], [0]
    points, begins = shapes.borders.points, shapes.borders.point_islands
    steps = STEPS[rules.turns]
    for island in range(len(shapes)):
        check()
        own, base = steps, 0.0
        if rules.turns == "any":
            base = float(shapes.square[island])
            if shapes.lengths[island] > SLENDER * shapes.narrowness[island]:
                own = 4 * steps
        mirrorings = (False, True) if rules.mirror else (False,)
        if rules.upright and rules.upright[island]:
            own, base, mirrorings = min(STEPS["half"], steps), 0.0, (False,)
        own = max(min(own, most), 1)
        outline = points[begins[island] : begins[island + 1]]
        seen: list[NDArray[np.float64]] = []
        symmetric = len(outline) <= 64 and _may_be_symmetric(outline, rules.mirror)
        for mirror in mirrorings:
            for step in range(own):
                matrix = linear(base + 2 * math.pi * step / own, mirror)
                if symmetric and _again(outline, matrix, seen):
                    continue
                rows.append(matrix)
                angles.append(base + 2 * math.pi * step / own)
                mirrored.append(mirror)
        starts.append(len(rows))
    return Poses(
        np.array(rows, np.float64).reshape(-1, 4),
        np.array(angles, np.float64),
        np.array(mirrored, np.bool_),
        np.array(starts, np.int64),
    )


def _may_be_symmetric(outline: NDArray[np.float64], mirror: bool) -> bool:
    """Tell whether a turn, or a mirroring, may map an outline to itself.

    A turn takes every corner but the middle to another as far from it; a mirroring leaves those on its axis.
    """
    far = np.sort(np.hypot(*(outline - outline.mean(axis=0)).T))
    if len(far) < 2:
        return True
    near = np.diff(far) <= 1e-4 * far[-1]
    alone = ~(np.append(near, False) | np.append(False, near))
    return bool(near.any()) if mirror else int(alone.sum()) <= 1


def _again(outline: NDArray[np.float64], matrix: tuple[float, ...], seen: list[NDArray[np.float64]]) -> bool:
    """Tell whether an outline in this pose is one seen before, only moved; it is kept in ``seen`` when not."""
    turned = outline @ np.array(matrix).reshape(2, 2).T
    turned = turned - turned.min(axis=0)
    size = float(turned.max())
    keys = np.round(turned / max(size * 1e-5, 1e-300)) + 0.0
    keys = keys[np.lexsort((keys[:, 1], keys[:, 0]))]
    if any(len(other) == len(keys) and float(np.abs(other - keys).max()) <= 2 for other in seen):
        return True
    seen.append(keys)
    return False
