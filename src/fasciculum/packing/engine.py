"""The packer: a first construction, and improvement of it for as long as it may go on, on two threads.

The better of two ways is kept: constructing again, in other orders and more turns, and shrinking the sheet around what
is there and moving the islands apart again.
"""

from __future__ import annotations

import os
import itertools
import math
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.depths import Solids
from fasciculum.packing.greedy import Attempt, Greedy
from fasciculum.packing.judge import Judge, lying
from fasciculum.packing.separator import Separator, solids_of
from fasciculum.packing.shapes import Poses, Rules, Shapes, poses_of, shapes_of
from fasciculum.progress import SILENT, Cancelled, Progress

THREADS = 2
#: more islands than this count as many
MANY = int(os.environ.get("MANY","1000"))
#: more islands than this are only constructed: to separate them takes longer than anyone waits
MOST_SEPARATED = 3000
#: the first step by which a scale is raised, and the last
LARGEST_STEP, FIRST_STEP, LAST_STEP = float(os.environ.get("LS",".025")), 0.008, float(os.environ.get("LA","0.002"))
#: failures in a row after which islands are exchanged before the next try, since small moves lead nowhere
STUCK = 5
#: parts of a step that are tried one after the other, each from where the one before got stuck
RETREATS = (1.0, 0.9, 0.7, 0.4, 0.15)
#: rounds of moving islands apart before a scale is given up, and of them those without a gain
import os
PK=float(os.environ.get('PK','1'))
WG=int(os.environ.get('WG','0'))
IDLE = int(os.environ.get('IDLE','60'))


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
    enough : callable, optional
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
        enough: Callable[[], bool] = lambda: False,
        progress: Progress = SILENT,
    ) -> None:
        self.rules, self.smallest, self.seed = rules, smallest, seed
        self.judge = Judge(islands, rules, held)
        self.held = lying(held)
        self.show, self.enough, self.progress = show, enough, progress
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

    def _greedy(self, poses: Poses, shapes: Shapes | None = None) -> Greedy:
        return Greedy(shapes or self.shapes, poses, self.rules, smallest=self.smallest, held=self.held)

    def _content(self) -> bool:
        """Whether there is a packing and whoever waits for a better one has had enough."""
        return self.best.scale > 0 and self.enough()

    def _go_on(self) -> bool:
        return not self._stop.is_set()

    def construct(self, *, scale: float | None = None) -> Packed:
        """Find a first packing, the same one each time; at the greatest scale that fits, or at ``scale``."""
        if not len(self.shapes) or min(self.rules.width, self.rules.height) - 2 * self.rules.margin < 1:
            return self.best
        greedy = self._greedy(self._poses(4 if scale is None and self.held is None else 16))
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
            pool.submit(greedy.attempt, scale, order, self._go_on, cell=cell, most=self.most)
            for scale, order, cell in wishes
        ]
        while not all(one.done() for one in waiting):
            self.progress.check()
            if self._content():
                self._stop.set()
            time.sleep(0.004)
        found = []
        for attempt in [one.result() for one in waiting]:
            if attempt.whole and self.offer(attempt.scale, attempt.placements) and self.show is not None:
                self.show(self.best)
            refused = attempt.whole and attempt.scale > self.best.scale
            found.append(replace(attempt, lost=len(self.shapes)) if refused else attempt)
        return found

    def guess(self) -> float:
        """Return the scale at which islands with their padding would fill most of the sheet, texels per metre."""
        rules = self.rules
        room = float(rules.width - 2 * rules.margin) * (rules.height - 2 * rules.margin) * rules.tiles
        around = rules.padding + (1.0 if rules.padding else 0.0) + self.cell * 0.5
        area, border = float(self.shapes.areas.sum()), float(self.shapes.perimeters.sum()) / 2 * around
        taken = 0.0
        if self.held is not None:
            points, starts = self.held.points, self.held.point_islands
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
        """Look for better packings for so long, or until there is enough; returns the best."""
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
            while (spent := time.monotonic() - began) < seconds and not self.enough() and self._ended < THREADS:
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
        rng = np.random.default_rng((self.seed, number))
        count = len(self.shapes)
        separable = count <= MOST_SEPARATED and self.held is None and not self.rules.align
        factors = self._greedy(self._poses(1)).factors(self.best.scale)
        separator: Separating | None = None
        # to construct again pays where turns are few, and where there are many islands: there the start decides
        constructing = not separable or count > MANY or (number == 1 and self.rules.turns != "any")
        many = self._greedy(self._poses(16))
        again = Again(many, 0.04 if number == 0 else 0.025)
        misses = 0
        while self._go_on():
            if constructing:
                misses = 0 if self._construct_again(again, rng) else misses + 1
                if separable and misses > (2 if count > MANY else 12):
                    constructing = False
                continue
            if separator is None:
                separator = Separating(self, factors, (self.seed, number))
            if not separator.step():
                return

    def solids(self, shapes: Shapes) -> tuple[Solids, Poses]:
        """Return the islands as the separator reads them and their turns, made once for all threads."""
        with self._lock:
            if self._solid is None:
                turns = 64 if len(shapes) <= MANY else 16
                self._solid = (
                    solids_of(shapes, (self.rules.padding + 1.5) / self.best.scale),
                    poses_of(shapes, self.rules, most=turns),
                )
            return self._solid

    def _construct_again(self, again: Again, rng: np.random.Generator) -> bool:
        greedy, large = again.greedy, len(self.shapes) > MANY
        limit = greedy.limit()
        before = self.best.scale
        further = again.step if large else 0.001 + 0.012 * float(rng.random()) ** 2
        wish = min(before * (1 + further), limit)
        if wish <= before * 1.0002:
            time.sleep(0.01)
            return False
        spread = float(rng.uniform(0.0, 0.1 if large else 0.35))
        order = greedy.order(np.exp(rng.uniform(-spread, spread, len(self.shapes))))
        cell = self.cell if self.rules.align else max(1, self.cell // (2 if large else int(rng.choice([1, 1, 2]))))
        attempt = greedy.attempt(wish, order, self._go_on, cell=cell, most=self.most)
        found = attempt.whole and self.offer(attempt.scale, attempt.placements)
        again.step *= 1.0 if found else 0.6
        return found

    def offer(self, scale: float, placements: NDArray[np.float64]) -> bool:
        """Keep a packing if it is the best and the exact check lets it pass; called from any thread."""
        if scale <= self.best.scale or not self.judge.passes(placements):
            return False
        with self._lock:
            if scale <= self.best.scale:
                return False
            self.best = Packed(scale, placements)
            return True


@dataclass
class Again:
    """One thread's constructing again, and by how much it tries to raise the scale of many islands."""

    greedy: Greedy
    step: float


class Separating:
    """One thread's shrinking and separating; takes over what another has found once it is better."""

    def __init__(self, packer: Packer, factors: NDArray[np.float64], seed: tuple[int, int]) -> None:
        self.packer = packer
        self.rng = np.random.default_rng(seed)
        shapes = packer.shapes if float(factors.max()) <= 1.0 else packer.shapes.scaled(factors)
        self.factors = factors
        solids, poses = packer.solids(shapes)
        self.separator = Separator(shapes, poses, solids, packer.rules, seed[1])
        self.limit = packer._greedy(self.separator.poses, shapes).limit()
        self.held = packer.best
        self.step_size = FIRST_STEP * (1.0 if seed[1] == 0 else 0.6)
        self.fails = 0
        self.hops = self.landed = 0
        self._owner: NDArray[np.int32] | None = None

    def step(self) -> bool:
        """Try one smaller sheet; False when nothing more can be gained."""
        packer, separator = self.packer, self.separator
        if packer.best.scale > self.held.scale:
            self.held = packer.best
        wish = min(self.held.scale * (1 + self.step_size * float(self.rng.uniform(0.8, 1.2))), self.limit)
        if wish <= self.held.scale * 1.00005:
            return False
        separator.load(self.held.placements / self._column(), self.held.scale)
        separator.weight[:] = 1.0
        # whole texels ask for more or less wherever borders lie in them; what borders ask for stays
        separator.extra *= 0.0 if packer.rules.padding else 0.9
        separator.rescale(wish)
        hops = self.hops
        for part in RETREATS:
            # what has been found so far is kept, on a sheet that is a little larger again
            scale = self.held.scale + (wish - self.held.scale) * part
            separator.rescale(scale)
            if (
                separator.contain()
                and self._resolve(IDLE if part == 1.0 else IDLE // 2)
                and packer.offer(scale, separator.placements() * self._column())
            ):
                self._stepped(part, self.hops - hops)
                return True
            if not packer._go_on() or packer.best.scale >= scale:
                # the other thread has come further: its packing is taken over
                return True
        self.step_size = max(self.step_size * 0.55, LAST_STEP)
        return True

    def _stepped(self, part: float, hops: int) -> None:
        """Choose the next step by how this one went: what part of it could be taken, after how many hops."""
        if part < 1.0:
            self.step_size *= 0.7 + 0.3 * part
        elif hops < 10:
            self.step_size = min(self.step_size * 1.5, LARGEST_STEP)
        elif self.step_size < FIRST_STEP:
            self.step_size *= 1.15

    def _column(self) -> NDArray[np.float64]:
        column = np.repeat(self.factors[:, None], 6, axis=1)
        column[:, [2, 5]] = 1.0
        return column

    def _settled(self) -> None:
        """Move all at once until that leads nowhere."""
        last = math.inf
        for _ in range(6):
            left = self.separator.relax(30)
            if left <= 0 or left > last * 0.7 or not self.packer._go_on():
                return
            last = left

    def _resolve(self, patience: int) -> bool:
        separator, go_on = self.separator, self.packer._go_on
        idle, raised, least = 0, 0, math.inf
        changed: NDArray[np.int64] | None = None
        self._settled()
        pairs, found = separator.clashes()
        while go_on() and self.packer.best.scale < separator.scale:
            if not len(pairs):
                bad = self._violations(changed)
                if not len(bad):
                    return separator.inside()
                raised += 1
                if raised > 40:
                    return False
                separator.apart(bad, 0.25 if self.packer.rules.padding else 0.1)
                changed = separator.around(np.unique(bad))
                separator.relax(40, changed)
                # what they press on too
                changed = separator.around(changed)
                pairs, found = separator.clashes()
                least = math.inf
                continue
            changed = None
            total = float(found.sum())
            if total < least * 0.97:
                least, idle = total, 0
            idle += 1
            if idle > patience:
                return False
            if idle == patience // 2:
                self._settled()
                pairs, found = separator.clashes()
                continue
            if WG and idle % WG == 0:
                separator.heavier(pairs, found)
            if idle % 8 == 1:
                separator.look_for_room()
            each = np.bincount(pairs.ravel(), np.repeat(found, 2), len(separator.pose))
            each = each / separator.solids.reach**PK
            island = int(self.rng.choice(len(each), p=each / each.sum()))
            self.hops += 1
            who = separator.hop(island, self.rng)
            if who is not None:
                self.landed += 1
                stale = np.isin(pairs, who).any(axis=1)
                new, deep = separator.clashes(who)
                pairs, found = np.concatenate([pairs[~stale], new]), np.concatenate([found[~stale], deep])
        return False

    def _violations(self, changed: NDArray[np.int64] | None) -> NDArray[np.int64]:
        rules = self.packer.rules
        if not rules.padding:
            return self.separator.violations()
        if self._owner is None:
            self._owner = np.empty((rules.height, rules.width * rules.tiles), np.int32)
        return self.separator.too_near(self._owner, changed)


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
    enough: Callable[[], bool] = lambda: False,
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
        enough=enough,
        progress=progress.part(0.0, 0.1 if seconds else 1.0),
    )
    packer.construct(scale=scale)
    if scale is None and seconds > 0:
        packer.progress = progress.part(0.1, 1.0)
        packer.improve(seconds)
    progress.update(1.0)
    return packer.best
