"""The first construction: islands by falling size, each at the topmost free place, and the scale that fits."""

from __future__ import annotations

import math
import time
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.packing.page import Page, Stamp
from fasciculum.progress import SILENT, Progress

#: finest grid searched, in cells along the sheet's longer edge
FINEST = 1024
#: a page may grow to this many sheets' height while a scale is tried
TALLEST = 1.6


@dataclass(frozen=True)
class Rules:
    """What the packer has to keep to. Sizes in texels; ``angles`` in radians."""

    width: int
    height: int
    padding: int
    margin: int
    angles: tuple[float, ...]
    mirror: bool


@dataclass(frozen=True, eq=False)
class Packed:
    """A finished packing: the scale, texels per metre, and an affine map for each island, rows of 6."""

    scale: float
    placements: NDArray[np.float64]


def turned(corners: NDArray[np.float64], angle: float, mirror: bool) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return the corners mirrored, turned and moved to start at (0, 0), and the 2 x 3 map that did so."""
    cos, sin = math.cos(angle), math.sin(angle)
    if abs(cos) < 1e-12 or abs(sin) < 1e-12:
        cos, sin = float(round(cos)), float(round(sin))
    flip = -1.0 if mirror else 1.0
    matrix = np.array([[cos * flip, -sin], [sin * flip, cos]])
    points = corners @ matrix.T
    low = points.reshape(-1, 2).min(axis=0)
    return points - low, np.column_stack([matrix, -low])


class Packer:
    """Packs one set of islands, at whatever scales it is asked to try.

    Parameters
    ----------
    islands : list of ndarray of float64, shape (T, 3, 2)
        Metres times share.
    rules : Rules
    """

    def __init__(self, islands: list[NDArray[np.float64]], rules: Rules) -> None:
        self.rules = rules
        self.poses = []
        for island in islands:
            poses = [turned(island, angle, False) for angle in rules.angles]
            if rules.mirror:
                poses += [turned(island, angle, True) for angle in rules.angles]
            self.poses.append(self._distinct(poses))
        self.sizes = np.array([island.reshape(-1, 2).max(axis=0) for island in islands]).reshape(-1, 2)
        a, b = [], []
        for island in islands:
            one, two = island[:, 1] - island[:, 0], island[:, 2] - island[:, 0]
            area = float(np.abs(one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0]).sum() / 2)
            a.append(area)
            b.append(float(np.ptp(island[..., 0]) + np.ptp(island[..., 1])))
        self.areas, self.girths = np.array(a), np.array(b)

    @staticmethod
    def _distinct(
        poses: list[tuple[NDArray[np.float64], NDArray[np.float64]]],
    ) -> list[tuple[NDArray[np.float64], NDArray[np.float64]]]:
        """Drop poses of rectangles that are the same again."""
        kept: list[tuple[NDArray[np.float64], NDArray[np.float64]]] = []
        for pose in poses:
            points = pose[0].reshape(-1, 2)
            box = points.max(axis=0)
            cornered = bool((np.minimum(points, np.abs(box - points)) <= 1e-9 * box.max()).all())
            same = cornered and any(np.allclose(box, other[0].reshape(-1, 2).max(axis=0)) for other in kept)
            if not same:
                kept.append(pose)
        return kept

    def order(self, jitter: NDArray[np.float64] | None = None) -> NDArray[np.int64]:
        """Return the islands by falling girth, shaken a little when asked."""
        key = self.girths if jitter is None else self.girths * jitter
        return np.argsort(-key, kind="stable")

    def limit(self) -> float:
        """Return the scale above which some island is larger than the sheet in every pose, texels per metre."""
        inner = self.rules.width - 2 * self.rules.margin - 1, self.rules.height - 2 * self.rules.margin - 1
        best = math.inf
        for poses in self.poses:
            fits = [
                min(inner[0] / max(width, 1e-12), inner[1] / max(height, 1e-12))
                for width, height in (pose[0].reshape(-1, 2).max(axis=0) for pose in poses)
            ]
            best = min(best, float(max(fits)))
        return best

    def attempt(
        self, scale: float, cell: int, order: NDArray[np.int64], progress: Progress
    ) -> tuple[NDArray[np.float64] | None, float]:
        """Try a scale.

        Returns
        -------
        placements : ndarray of float64, shape (I, 6), or None
            None when not all islands fit on the sheet.
        used : float
            The height that was needed over the height that there is; infinite when it was given up.
        """
        rules = self.rules
        columns = (rules.width - 2 * rules.margin) // cell
        allowed = (rules.height - 2 * rules.margin) // cell
        page = Page(int(allowed * TALLEST) + 1, columns, cell=cell, padding=rules.padding)
        placements = np.zeros((len(self.poses), 6))
        lowest = 0
        starts: dict[tuple[int, int], int] = {}
        for island in order:
            progress.check()
            best: tuple[int, int, int, Stamp, NDArray[np.float64]] | None = None
            for corners, affine in self.poses[island]:
                stamp = Stamp(corners * scale, cell, rules.padding)
                # an island at least as large as one that found nothing above a row finds nothing there either
                start = max(
                    (
                        row
                        for (h, w), row in starts.items()
                        if stamp.height >= h and stamp.width >= w and stamp.cells == stamp.height * stamp.width
                    ),
                    default=0,
                )
                stop = page.rows if best is None else int(best[0]) - stamp.height + 1
                row, column = page.find(stamp.runs, stamp.height, stamp.width, start=start, stop=stop)
                if row < 0:
                    continue
                if stamp.cells == stamp.height * stamp.width and len(starts) < 64:
                    key = (stamp.height, stamp.width)
                    starts[key] = max(starts.get(key, 0), row)
                bottom = row + stamp.height
                if best is None or bottom < best[0] or (bottom == best[0] and column < best[2]):
                    best = (bottom, row, column, stamp, affine)
            if best is None:
                return None, math.inf
            bottom, row, column, stamp, affine = best
            grown, reach = stamp.grown()
            page.put(grown, row - reach, column - reach)
            lowest = max(lowest, int(bottom))
            place = np.array(affine) * scale
            place[0, 2] += rules.margin + column * cell + stamp.shift
            place[1, 2] += rules.margin + row * cell + stamp.shift
            placements[island] = place.reshape(-1)
        used = lowest / allowed
        return (placements if used <= 1.0 else None), used


def pack(
    islands: list[NDArray[np.float64]],
    rules: Rules,
    *,
    seconds: float = 0.0,
    seed: int = 0,
    progress: Progress = SILENT,
) -> Packed:
    """Find the greatest scale at which all islands fit, and a place for each.

    Parameters
    ----------
    islands : list of ndarray of float64, shape (T, 3, 2)
        Flat corners in metres (times share), each island from (0, 0).
    rules : Rules
    seconds : float
        Time for improving on the first construction; 0 gives the same result each time.
    seed : int

    Returns
    -------
    Packed
        The scale is 0 when the sheet is too small for the padding that was asked for.
    """
    began = time.monotonic()
    packer = Packer(islands, rules)
    inner = min(rules.width, rules.height) - 2 * rules.margin
    if not islands or inner < 1:
        return Packed(0.0, np.zeros((len(islands), 6)))
    cell = max(1, -(-max(rules.width, rules.height) // FINEST))
    limit = packer.limit()
    best = _first(packer, cell, limit, progress.part(0.0, 0.3 if seconds else 1.0))
    rng = np.random.default_rng(seed)
    start = time.monotonic()
    while best.scale > 0 and (spent := time.monotonic() - start) < seconds:
        share = spent / seconds
        progress.part(0.3, 1.0).update(share, f"Improving the layout: {best.scale:.0f} px/m")
        wanted = min(best.scale * (1 + 0.002 + 0.01 * float(rng.random())), limit)
        if wanted <= best.scale * 1.0001:
            break
        order = packer.order(rng.uniform(0.8, 1.25, len(islands)))
        placements, _ = packer.attempt(wanted, cell, order, progress)
        if placements is not None:
            best = Packed(wanted, placements)
    progress.update(1.0, f"Packed in {time.monotonic() - began:.1f} s")
    return best


def _first(packer: Packer, cell: int, limit: float, progress: Progress) -> Packed:
    """Home in on the scale: each attempt's height tells the next one."""
    rules = packer.rules
    sheet = (rules.width - 2 * rules.margin) * (rules.height - 2 * rules.margin)
    around = rules.padding + 1
    # solve  area s^2 + padding * half girth s = 0.7 sheet
    area, girth = float(packer.areas.sum()), float(packer.girths.sum()) * around
    room = 0.72 * sheet - len(packer.areas) * around * around
    scale = (-girth + math.sqrt(girth * girth + 4 * area * max(room, 1.0))) / max(2 * area, 1e-300)
    scale = min(max(scale, 1e-6), limit)
    best = Packed(0.0, np.zeros((len(packer.areas), 6)))
    failed = math.inf
    order = packer.order()
    for attempt in range(24):
        progress.update(attempt / 24, f"Packing at {scale:.0f} px/m")
        placements, used = packer.attempt(scale, cell, order, progress)
        if placements is not None:
            if scale > best.scale:
                best = Packed(scale, placements)
            if scale >= limit * 0.9999:
                break
            following = scale * min(math.sqrt(1 / max(used, 0.05)) * 1.003, 2.0)
            if following >= failed:
                following = (best.scale + failed) / 2
        else:
            failed = min(failed, scale)
            following = scale * max(math.sqrt(1 / used) if math.isfinite(used) else 0.7, 0.5) * 0.999
            if following <= best.scale:
                following = (best.scale + failed) / 2
        scale = min(following, limit)
        if best.scale > 0 and (failed / best.scale < 1.006 or attempt >= 9):
            break
    return best
