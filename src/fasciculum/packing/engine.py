"""The packer: a first construction, and improvement of it for as long as it may go on, on two threads.

The better of two ways is kept: constructing again, in other orders and more turns, and shrinking the sheet around what
is there and moving the islands apart again.
"""

from __future__ import annotations

import itertools
import math
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.packing.penetration import Solids
from fasciculum.packing.constructing import Constructing
from fasciculum.packing.greedy import Attempt, Greedy
from fasciculum.packing.judge import Judge
from fasciculum.packing.separating import Separating
from fasciculum.packing.shapes import Poses, Rules, Shapes, poses_of, shapes_of
from fasciculum.packing.solids import joined, solids_of
from fasciculum.progress import SILENT, Cancelled, Progress

THREADS = 2
#: more islands than this count as many
MANY = 1000
#: more islands than this are only constructed: to separate them takes longer than anyone waits
MOST_SEPARATED = 3000


@dataclass(frozen=True, eq=False)
class Packed:
    """A packing.

    Attributes
    ----------
    scale : float
        Texels per metre; 0 when the sheet is too small for the padding that was asked for.
    placements : ndarray of float64, shape (I, 6)
        The 2 x 3 map of each island, row by row, from metres times share to texels, tiles side by side.
    """

    scale: float
    placements: NDArray[np.float64]


class Packer:
    """One packing in the making.

    Parameters
    ----------
    islands : list of ndarray of float64, shape (T, 3, 2)
        Flat corners in metres times share.
    rules : Rules
    smallest : float
        Islands that would come out shorter than this many texels are scaled up.
    held : list of ndarray of float64, shape (T, 3, 2)
        Islands that already lie on the sheet, in texels, tiles side by side; the rest goes around them.
    show : callable, optional
        Called with each better packing as it is found, from the caller's thread.
    stop_early : callable, optional
        Asked every now and then whether to end with the best packing so far.
    """

    def __init__(
        self,
        islands: list[NDArray[np.float64]],
        rules: Rules,
        *,
        smallest: float = 0.0,
        held: Sequence[NDArray[np.float64]] = (),
        seed: int = 0,
        show: Callable[[Packed], None] | None = None,
        stop_early: Callable[[], bool] = lambda: False,
        progress: Progress = SILENT,
    ) -> None:
        self.rules, self.smallest, self.seed = rules, smallest, seed
        self.judge = Judge(islands, rules, held)
        self.held = shapes_of(list(held)) if held else None
        self.show, self.stop_early, self.progress = show, stop_early, progress
        self.shapes = shapes_of(islands)
        self.best = Packed(0.0, np.zeros((len(islands), 6)))
        #: the scale that all are packed at, when it is not to be found
        self.wanted: float | None = None
        self._stop = threading.Event()
        self._lock = threading.Lock()
        self._solid: tuple[Solids, Poses] | None = None
        self._shown = 0.0
        count = len(islands)
        longest = max(rules.width, rules.height)
        fine = 512 if count <= 800 else 1024
        self.cell = rules.align or max(1, -(-longest // fine))
        self.most = 4000 if count <= 400 else max(40, 400_000 // max(count, 1))

    def _poses(self, most: int) -> Poses:
        return poses_of(self.shapes, self.rules, most=most)

    def greedy(self, poses: Poses, shapes: Shapes | None = None) -> Greedy:
        """Return what puts the islands down one after the other, in these poses."""
        return Greedy(
            shapes or self.shapes,
            poses,
            self.rules,
            smallest=self.smallest,
            held=None if self.held is None else self.held.borders,
        )

    def _content(self) -> bool:
        """Whether there is a packing and whoever waits for a better one wants no more."""
        return self.best.scale > 0 and self.stop_early()

    def go_on(self) -> bool:
        """Tell whether a thread is to go on."""
        return not self._stop.is_set()

    def construct(self, *, scale: float | None = None) -> Packed:
        """Find a first packing, the same one each time; at the greatest scale that fits, or at ``scale``."""
        if not len(self.shapes) or min(self.rules.width, self.rules.height) - 2 * self.rules.margin < 1:
            return self.best
        greedy = self.greedy(self._poses(4 if scale is None and self.held is None else 16))
        with ThreadPoolExecutor(THREADS) as pool:
            try:
                if scale is not None:
                    self._at(greedy, scale, pool)
                else:
                    self._home(greedy, pool)
            finally:
                self._stop.set()
        self._stop.clear()
        return self.best

    def construct_near(self, scale: float, least: float) -> Packed:
        """Find a packing at a scale, else at the greatest down to ``least`` of it, else one of scale 0."""
        packed = self.construct(scale=scale)
        if packed.scale <= 0:
            packed = self.construct()
        return packed if packed.scale >= scale * least else Packed(0.0, packed.placements)

    def _tries(
        self, greedy: Greedy, wishes: list[tuple[float, NDArray[np.int64], int]], pool: ThreadPoolExecutor
    ) -> list[Attempt]:
        """Try scales side by side, waiting for all; keep what is best."""
        waiting = [
            pool.submit(greedy.attempt, scale, order, self.go_on, cell=cell, most=self.most)
            for scale, order, cell in wishes
        ]
        while not all(one.done() for one in waiting):
            self.progress.check()
            if self._content():
                self._stop.set()
            time.sleep(0.004)
        results = []
        for attempt in [one.result() for one in waiting]:
            if attempt.whole and self.offer(attempt.scale, attempt.placements) and self.show is not None:
                self.show(self.best)
            refused = attempt.whole and attempt.scale > self.best.scale
            results.append(replace(attempt, lost=len(self.shapes)) if refused else attempt)
        return results

    def guess(self) -> float:
        """Return the scale at which islands with their padding would fill most of the sheet, texels per metre."""
        rules = self.rules
        room = float(rules.width - 2 * rules.margin) * (rules.height - 2 * rules.margin) * rules.tiles
        around = rules.padding + (1.0 if rules.padding else 0.0) + self.cell * 0.5
        area, border = float(self.shapes.areas.sum()), float(self.shapes.perimeters.sum()) / 2 * around
        taken = 0.0
        if self.held is not None:
            points, starts = self.held.borders.points, self.held.borders.point_islands
            taken = sum(float(np.ptp(points[a:b], axis=0).prod()) for a, b in itertools.pairwise(starts))
        room = max(0.77 * room - taken, 0.01 * room) - len(self.shapes) * around * around * 0.5
        return (-border + math.sqrt(border * border + 4 * area * max(room, 1.0))) / max(2 * area, 1e-300)

    def _home(self, greedy: Greedy, pool: ThreadPoolExecutor) -> None:
        """Home in on the greatest scale, two tries at a time: by steps, then between what fits and what does not."""
        limit = greedy.limit()
        order = greedy.order()
        low, high = 0.0, math.inf
        scale, step = min(max(self.guess(), 1e-9), limit), 1.035
        for turn in range(40):
            self.progress.update(min(turn / 8, 0.99), f"First layout: {scale:.0f} px/m")
            if self._content():
                return
            if low == 0.0:
                wishes = [scale, scale / step]
            elif math.isinf(high):
                wishes = [min(low * step, limit), min(low * step * step, limit)]
            else:
                wishes = [low + (high - low) * part for part in (1 / 3, 2 / 3)]
            for attempt in self._tries(greedy, [(wish, order, self.cell) for wish in dict.fromkeys(wishes)], pool):
                if attempt.whole:
                    low = max(low, attempt.scale)
                else:
                    high = min(high, attempt.scale)
            if low == 0.0:
                scale = scale / step**2
                step = min(step**1.5, 4.0)
                if scale * float(self.shapes.lengths.max()) < 0.5:
                    return
            high = math.inf if high <= low else high
            if low >= limit * 0.9999 or (low > 0 and high / low < 1.008):
                return
            if len(self.shapes) > 1200 and low > 0 and high / low < 1.04:
                return

    def _at(self, greedy: Greedy, scale: float, pool: ThreadPoolExecutor) -> bool:
        """Try to put all down at one scale, finer each time."""
        finest = max(1, self.cell // 4)
        for cell in dict.fromkeys(
            (self.cell, max(self.cell // 2, 1), finest) if not self.rules.align else (self.cell,)
        ):
            rng = np.random.default_rng(self.seed)
            shaken = greedy.order(rng.uniform(0.8, 1.25, len(self.shapes)))
            if any(
                one.whole for one in self._tries(greedy, [(scale, greedy.order(), cell), (scale, shaken, cell)], pool)
            ):
                return True
        return False

    def improve(self, seconds: float) -> Packed:
        """Look for better packings for so long, or until no more are wanted; returns the best."""
        if self.best.scale <= 0 or seconds <= 0 or not len(self.shapes):
            return self.best
        began = time.monotonic()
        shown = self.best
        self._stop.clear()
        threads = [threading.Thread(target=self._work, args=(number,), daemon=True) for number in range(THREADS)]
        self._failure: BaseException | None = None
        self._ended = 0
        for thread in threads:
            thread.start()
        try:
            while (spent := time.monotonic() - began) < seconds and not self.stop_early() and self._ended < THREADS:
                self.progress.update(spent / seconds, f"Improving: {self.best.scale:.1f} px/m")
                if self.show is not None and self.best is not shown and time.monotonic() - self._shown > 0.2:
                    shown, self._shown = self.best, time.monotonic()
                    self.show(shown)
                time.sleep(0.02)
        finally:
            self._stop.set()
            for thread in threads:
                thread.join()
        if self._failure is not None:
            raise self._failure
        return self.best

    def _work(self, number: int) -> None:
        try:
            self._improve_on(number)
        except Cancelled:
            pass
        except BaseException as error:
            self._failure = error
        finally:
            self._ended += 1

    def _improve_on(self, number: int) -> None:
        count = len(self.shapes)
        separable = count <= MOST_SEPARATED and not self.rules.align
        factors = self.greedy(self._poses(1)).factors(self.best.scale)
        # to construct again pays where turns are few, and where there are many islands: there the start decides
        constructing = not separable or count > MANY or (number == 1 and self.rules.turns != "any")
        if constructing:
            # of many islands one thread tries fewer turns, and is done sooner
            turns = 8 if count > MANY and number == 0 else 16
            again = Constructing(self, self.greedy(self._poses(turns)), (self.seed, number), many=count > MANY)
            while self.go_on() and (not separable or again.misses <= (2 if count > MANY else 12)):
                again.step()
        if self.go_on():
            separating = Separating(self, factors, (self.seed, number))
            while self.go_on() and separating.step():
                pass

    def _check(self) -> None:
        """Raise `Cancelled` when a thread is to end."""
        if not self.go_on():
            raise Cancelled

    def solids(self, shapes: Shapes) -> tuple[Solids, Poses]:
        """Return the islands as the separator reads them and their turns, made once for all threads."""
        with self._lock:
            if self._solid is None:
                turns = 64 if len(shapes) <= MANY else 16
                around = self.rules.padding + 1.5
                solid = solids_of(shapes, around / self.best.scale, self._check)
                if self.held is not None:
                    solid = joined(solid, solids_of(self.held, around, self._check))
                self._solid = solid, poses_of(shapes, self.rules, most=turns, check=self._check)
            return self._solid

    def offer(self, scale: float, placements: NDArray[np.float64]) -> bool:
        """Keep a packing if it is the best and the exact check lets it pass; called from any thread."""
        if scale <= self.best.scale or not self.judge.passes(placements):
            return False
        with self._lock:
            if scale <= self.best.scale:
                return False
            self.best = Packed(scale, placements)
            return True


def pack(
    islands: list[NDArray[np.float64]],
    rules: Rules,
    *,
    seconds: float = 0.0,
    seed: int = 0,
    scale: float | None = None,
    smallest: float = 0.0,
    held: Sequence[NDArray[np.float64]] = (),
    show: Callable[[Packed], None] | None = None,
    stop_early: Callable[[], bool] = lambda: False,
    progress: Progress = SILENT,
) -> Packed:
    """Find a place for each island, at the greatest scale at which all fit, or at ``scale``.

    Parameters are those of `Packer`; ``seconds`` is the time for improving on the first construction, and 0 gives the
    same result each time.
    """
    packer = Packer(
        islands,
        rules,
        smallest=smallest,
        held=held,
        seed=seed,
        show=show,
        stop_early=stop_early,
        progress=progress.part(0.0, 0.1 if seconds else 1.0),
    )
    packer.construct(scale=scale)
    if scale is None and seconds > 0:
        packer.progress = progress.part(0.1, 1.0)
        packer.improve(seconds)
    progress.update(1.0)
    return packer.best
