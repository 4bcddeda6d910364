"""Constructing again: the order of the islands is changed a little, and kept where more of them find a place."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

import numpy as np

from fasciculum.packing.greedy import Greedy

if TYPE_CHECKING:
    from fasciculum.packing.engine import Packer

#: steps by which the scale is raised, by thread
STEPS = (0.012, 0.006)
#: of many islands, each of whose attempts takes seconds; with padding, smaller cells alone gain as much
STEPS_MANY, STEPS_PADDED = (0.008, 0.016), (0.033, 0.041)
#: attempts at one scale before a smaller step is tried
PATIENCE, PATIENCE_MANY = 12, 1
#: share of the islands that change their place in the order, and how much (of the logarithm of their size)
CHANGED, SHAKEN = 0.15, 0.15


class Constructing:
    """One thread's search through orders.

    Parameters
    ----------
    packer : Packer
    greedy : Greedy
    seed : tuple
        Its last number is that of the thread.
    many : bool
        Whether there are so many islands that an attempt takes seconds.
    """

    def __init__(self, packer: Packer, greedy: Greedy, seed: tuple[int, int], *, many: bool) -> None:
        self.packer, self.greedy, self.many = packer, greedy, many
        #: attempts since the last that found something
        self.misses = 0
        self._rng = np.random.default_rng(seed)
        steps = (STEPS_PADDED if packer.rules.padding else STEPS_MANY) if many else STEPS
        self._step = steps[seed[1] % 2]
        shapes = packer.shapes
        # many islands fill a sheet better by length than by border; of few, both ways are tried by chance
        self._keys = np.log(shapes.lengths / shapes.perimeters) if many else np.zeros(len(shapes))
        self._limit = greedy.limit()
        self._tried = 0
        self._wish = 0.0
        self._reached, self._lost = 0.0, -1

    def step(self) -> bool:
        """Try one order; return whether it led to a better packing."""
        packer, rng = self.packer, self._rng
        best = packer.best.scale
        if best >= self._wish or self._tried >= (PATIENCE_MANY if self.many else PATIENCE):
            if self._tried and best < self._wish:
                self._step *= 0.6
            self._wish = min(best * (1 + self._step), self._limit)
            self._tried, self._reached, self._lost = 0, 0.0, -1
        if self._wish <= best * 1.0002:
            self.misses += 1
            time.sleep(0.01)
            return False
        self._tried += 1
        keys = self._keys.copy()
        changed = rng.random(len(keys)) < CHANGED
        keys[changed] += rng.normal(0.0, SHAKEN, int(changed.sum()))
        if self._lost >= 0:
            # what found no place comes sooner
            keys[self._lost] += abs(float(rng.normal(0.0, 2 * SHAKEN)))
        order = self.greedy.order(np.exp(keys))
        finer = 2 if self.many else int(rng.choice([1, 1, 2]))
        cell = packer.cell if packer.rules.align else max(1, packer.cell // finer)
        attempt = self.greedy.attempt(
            self._wish, order, packer.go_on, cell=cell, most=packer.most * (2 if self.many else 1)
        )
        if attempt.whole and packer.offer(attempt.scale, attempt.placements):
            self._keys, self.misses = keys, 0
            if self.many:
                self._step *= 0.4
            return True
        self.misses += 1
        placed = ~np.isnan(attempt.placements[:, 0])
        reached = float(packer.shapes.areas[placed].sum())
        if not attempt.whole and reached >= self._reached:
            self._keys, self._reached = keys, reached
            self._lost = int(order[int(np.argmin(placed[order]))])
        return False
