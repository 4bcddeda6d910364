"""Objects of one group over several sheets: together what shares texels, and what stands near each other.

A division costs the texels of all sheets, as a part of those that are there when nothing is there twice; beside them a
quarter of how far the objects of a sheet stand apart, as a part of how far all do, weighted by the sheets' texels; and
much for what is beyond a sheet's capacity. Objects are first grown together along the scene, what shares texels in one
run; then single objects, and bunches that read a texel in common, are moved and exchanged as long as it gets cheaper
(after Kernighan and Lin 1970, doi:10.1002/j.1538-7305.1970.tb01770.x, with bunches as in multilevel partitioning).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.partitioning.refining import division_cost, refine

#: rounds of moving and exchanging, at most; exchanges that are tried in each; begins from chance where there are few
ROUNDS, EXCHANGES, BEGINS = 12, 20_000, 24
#: objects up to which every exchange is tried, and begins from chance pay
FEW = 60
#: by how much a sheet may be fuller than the mean
SLACK = 1.06


@dataclass(frozen=True, eq=False)
class Divisible:
    """Objects that are to be divided.

    Attributes
    ----------
    reads : sequence of tuple of int
        For each object the texel resources that it reads: a shared region, its mesh's own islands, and the like.
    texels : ndarray of float64, shape (R,)
        What each resource takes on a sheet, square texels.
    places : ndarray of float64, shape (N, 3)
        The objects' middles, metres.
    """

    reads: Sequence[tuple[int, ...]]
    texels: NDArray[np.float64]
    places: NDArray[np.float64]

    def loads(self) -> NDArray[np.float64]:
        """Return what each object takes by itself, square texels, shape (N,)."""
        return np.array([float(self.texels[list(read)].sum()) for read in self.reads])


class _Division:
    """One division that is being worked on, with all its sums."""

    def __init__(
        self, divisible: Divisible, count: int, labels: NDArray[np.int64], capacity: NDArray[np.float64]
    ) -> None:
        self.divisible, self.count = divisible, count
        self.starts = np.cumsum([0, *map(len, divisible.reads)]).astype(np.int64)
        self.resources = np.array([one for read in divisible.reads for one in read], np.int64)
        # so that sums of squares keep their digits far from the origin
        self.places = np.ascontiguousarray(divisible.places - divisible.places.mean(axis=0))
        self.weights = np.maximum(divisible.loads(), 1.0)
        self.labels = labels.astype(np.int64)
        used = np.unique(self.resources)
        self.whole = max(float(divisible.texels[used].sum()), 1.0)
        self.capacity = np.maximum(np.broadcast_to(np.asarray(capacity, np.float64), (count,)), 1.0).copy()
        mass = self.weights.sum()
        middle = (self.places * self.weights[:, None]).sum(axis=0) / mass
        self.reach = max(float(np.sqrt((((self.places - middle) ** 2).sum(axis=1) * self.weights).sum() / mass)), 1e-9)
        self.sums = self._sums()

    def _sums(self) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.float64], NDArray[np.int64]]:
        counts = np.zeros((self.count, len(self.divisible.texels)), np.int64)
        owner = np.repeat(self.labels, np.diff(self.starts))
        np.add.at(counts, (owner, self.resources), 1)
        loads = ((counts > 0) * self.divisible.texels[None, :]).sum(axis=1)
        square = (self.places**2).sum(axis=1)
        rows = np.column_stack([np.ones(len(self.places)), self.places, square]) * self.weights[:, None]
        moments = np.zeros((self.count, 5))
        np.add.at(moments, self.labels, rows)
        return counts, loads.astype(np.float64), moments, np.bincount(self.labels, minlength=self.count)

    def cost(self) -> float:
        """Return what it costs as it is."""
        _, loads, moments, members = self.sums
        return float(division_cost(loads, moments, members, self.whole, self.capacity, self.reach))

    def bunches(self) -> list[NDArray[np.int64]]:
        """Return what is moved together: each object, and on each sheet those that read a resource in common."""
        results: dict[bytes, NDArray[np.int64]] = {}
        owner = np.repeat(np.arange(len(self.labels)), np.diff(self.starts))
        key = self.resources * self.count + self.labels[owner]
        order = np.argsort(key, kind="stable")
        cuts = np.flatnonzero(np.diff(key[order])) + 1
        for group in np.split(owner[order], cuts):
            members = np.unique(group)
            if 1 < len(members) < len(self.labels):
                results[members.tobytes()] = members
        return [*results.values(), *np.arange(len(self.labels))[:, None]]

    def improve(self, rng: np.random.Generator) -> float:
        """Move and exchange until nothing gets cheaper; return the cost."""
        cost = self.cost()
        for _ in range(ROUNDS):
            bunches = self.bunches()
            starts = np.cumsum([0, *map(len, bunches)]).astype(np.int64)
            if len(self.labels) <= FEW:
                pairs = np.stack(np.triu_indices(len(bunches), 1), axis=1).astype(np.int64)
            else:
                pairs = rng.integers(0, len(bunches), (EXCHANGES, 2))
            after = refine(
                self.labels,
                self.starts,
                self.resources,
                self.divisible.texels,
                self.places,
                self.weights,
                starts,
                np.concatenate(bunches),
                pairs,
                self.sums,
                self.whole,
                self.capacity,
                self.reach,
            )
            # what sums up in many moves is summed anew
            self.sums = self._sums()
            if after > cost - 1e-9:
                break
            cost = after
        return self.cost()


def cost_of_division(
    divisible: Divisible, labels: NDArray[np.int64], count: int, capacity: float | NDArray[np.float64]
) -> float:
    """Return what a division costs, as said at the top; ``labels`` are the sheets of the objects, shape (N,)."""
    return _Division(divisible, count, np.asarray(labels), np.asarray(capacity)).cost()


def divide(divisible: Divisible, shares: Sequence[float], *, seed: int = 0) -> NDArray[np.int64]:
    """Divide objects over sheets.

    Parameters
    ----------
    divisible : Divisible
    shares : sequence of float
        The part of all texels that each sheet is to hold, about; none stays empty where there are as many objects.
    seed : int

    Returns
    -------
    ndarray of int64, shape (N,)
        The sheet of each object.
    """
    number, count = len(divisible.reads), len(shares)
    if count <= 1 or number <= 1:
        return np.zeros(number, np.int64)
    rng = np.random.default_rng(seed)
    used = sorted({one for read in divisible.reads for one in read})
    parts = np.array(shares, np.float64) / sum(shares)
    capacity = SLACK * float(divisible.texels[used].sum()) * parts
    begins = [_grown(divisible, parts, along) for along in (0, 1)]
    if number <= FEW:
        begins += [rng.integers(0, count, number) for _ in range(BEGINS)]
    best, least = begins[0], np.inf
    for begin in begins:
        tried = _Division(divisible, count, begin, capacity)
        cost = tried.improve(rng)
        if cost < least:
            best, least = tried.labels.copy(), cost
    return best


def _grown(divisible: Divisible, parts: NDArray[np.float64], along: int) -> NDArray[np.int64]:
    """Return a division along one of the scene's main directions, with what shares texels in one run."""
    number, count = len(divisible.reads), len(parts)
    ends = np.cumsum(parts)
    owner = np.arange(number)
    first: dict[int, int] = {}

    def leader(at: int) -> int:
        while owner[at] != at:
            owner[at] = owner[owner[at]]
            at = int(owner[at])
        return at

    for index, read in enumerate(divisible.reads):
        for one in read:
            owner[leader(index)] = leader(first.setdefault(one, index))
    groups = np.array([leader(index) for index in range(number)])
    about = divisible.places - divisible.places.mean(axis=0)
    _, _, axes = np.linalg.svd(about, full_matrices=False)
    at = about @ axes[min(along, len(axes) - 1)]
    sums, counts = np.bincount(groups, at, number), np.bincount(groups, minlength=number)
    middle = (sums / np.maximum(counts, 1))[groups]
    order = np.lexsort((at, groups, middle))
    labels = np.zeros(number, np.int64)
    seen: set[int] = set()
    heaped = 0.0
    whole = max(float(divisible.texels[sorted(first)].sum()), 1e-9) if first else 1.0
    for place, index in enumerate(order.tolist()):
        done = heaped / whole if first else place / number
        labels[index] = min(int(np.searchsorted(ends, done, side="right")), count - 1)
        new = set(divisible.reads[index]) - seen
        heaped += float(divisible.texels[sorted(new)].sum()) if new else 0.0
        seen |= new
    return labels
