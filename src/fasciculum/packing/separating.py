"""Shrinking and separating: a scale is raised a little, and islands are moved until none comes too near to another."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from fasciculum.packing.separator import Separator

if TYPE_CHECKING:
    from fasciculum.packing.engine import Packer

#: the first step by which a scale is raised, and the least and the greatest
FIRST_STEP, LEAST_STEP, GREATEST_STEP = 0.008, 0.002, 0.025
#: parts of a step that are tried one after the other, each from where the one before got stuck
RETREATS = (1.0, 0.9, 0.7, 0.4, 0.15)
#: hops without a gain before a scale is given up
IDLE = 60
#: hops up to which a step was so easy that the next may be larger
EASY = 10
#: a gain is at least this part of all depths
GAIN = 0.03
#: times that pairs are parted further for one scale, since the exact check refuses them
MOST_PARTED = 40


class Separating:
    """One thread's shrinking and separating; takes over what another has found once it is better."""

    def __init__(self, packer: Packer, factors: NDArray[np.float64], seed: tuple[int, int]) -> None:
        self.packer = packer
        self.rng = np.random.default_rng(seed)
        shapes = packer.shapes if float(factors.max()) <= 1.0 else packer.shapes.scaled(factors)
        self.factors = factors
        solids, poses = packer.solids(shapes)
        held = None if packer.held is None else packer.held.borders
        self.separator = Separator(shapes, poses, solids, packer.rules, (*seed, 1), held)
        self.limit = packer.greedy(self.separator.poses, shapes).limit()
        self.held = packer.best
        self.step_size = FIRST_STEP * (1.0 if seed[1] == 0 else 0.6)
        self.hops = 0
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
        # whole texels ask for more or less wherever borders lie in them; what borders ask for stays
        separator.extra *= 0.0 if packer.rules.padding else 0.9
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
            if not packer.go_on() or packer.best.scale >= scale:
                # the other thread has come further: its packing is taken over
                return True
        self.step_size = max(self.step_size * 0.55, LEAST_STEP)
        return True

    def _stepped(self, part: float, hops: int) -> None:
        """Choose the next step by how this one went: what part of it could be taken, after how many hops."""
        if part < 1.0:
            self.step_size *= 0.7 + 0.3 * part
        elif hops < EASY:
            self.step_size = min(self.step_size * 1.5, GREATEST_STEP)
        elif self.step_size < FIRST_STEP:
            self.step_size *= 1.15

    def _column(self) -> NDArray[np.float64]:
        column = np.repeat(self.factors[:, None], 6, axis=1)
        column[:, [2, 5]] = 1.0
        return column

    def _settled(self) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """Move all at once until that leads nowhere; return the pairs that are still too near, and how deep."""
        last = math.inf
        # of many islands few rounds at a time, so that whoever cancels does not wait
        rounds = max(6, min(30, 15_000 // len(self.separator.shapes)))
        for _ in range(180 // rounds):
            left = self.separator.relax(rounds)
            if left <= 0 or left > last * 0.7 or not self.packer.go_on():
                break
            last = left
        return self.separator.clashes()

    def _resolve(self, patience: int) -> bool:
        """Move islands until none is too near to another; False when hop after hop gains nothing."""
        separator = self.separator
        idle, least = 0, math.inf
        pairs, result = self._settled()
        while self.packer.go_on() and self.packer.best.scale < separator.scale:
            if not len(pairs):
                parted = self._parted()
                if parted is not None:
                    return parted
                pairs, result = separator.clashes()
                least = math.inf
                continue
            total = float(result.sum())
            if total < least * (1 - GAIN):
                least, idle = total, 0
            idle += 1
            if idle > patience:
                return False
            if idle == patience // 2:
                pairs, result = self._settled()
                continue
            if idle % 8 == 1:
                separator.look_for_room()
            # small ones sooner: they find room elsewhere
            each = np.bincount(pairs.ravel(), np.repeat(result, 2), len(separator.pose)) / separator.solids.reach
            each = each[: len(separator.shapes)]
            self.hops += 1
            who = separator.hop(int(self.rng.choice(len(each), p=each / each.sum())))
            if who is not None:
                stale = np.isin(pairs, who).any(axis=1)
                new, deep = separator.clashes(who)
                pairs, result = np.concatenate([pairs[~stale], new]), np.concatenate([result[~stale], deep])
        return False

    def _parted(self) -> bool | None:
        """Part the pairs that the exact check refuses until it refuses none; return whether that is so on the sheet.

        None when islands lie too near to each other again.
        """
        separator, padding = self.separator, self.packer.rules.padding
        changed: NDArray[np.int64] | None = None
        for _ in range(MOST_PARTED):
            bad = self._violations(changed)
            if not len(bad):
                return separator.inside()
            separator.apart(bad, 0.25 if padding else 0.1)
            changed = separator.around(np.unique(bad))
            separator.relax(40, changed)
            # and what these press on
            changed = separator.around(changed)
            if len(separator.clashes(changed)[0]):
                return None
            if not self.packer.go_on():
                break
        return False

    def _violations(self, changed: NDArray[np.int64] | None) -> NDArray[np.int64]:
        """Return the pairs that break the rules, all or those among the islands that were ``changed``; exact."""
        rules = self.packer.rules
        if not rules.padding:
            return self.separator.violations()
        if self._owner is None:
            self._owner = np.empty((rules.height, rules.width * rules.tiles), np.int32)
        return self.separator.too_near(self._owner, changed)
