"""One island made over by hand: relaxed, its border straightened, or laid into a rectangle."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.unwrapping.flattening import corners_at, frames, relax
from fasciculum.later import Later
from fasciculum.uv.corners import signed_uv_areas
from fasciculum.uv.islands import weld
from fasciculum.uv.unwrap.charts import rest_of

sparse = Later("scipy.sparse")
solving = Later("scipy.sparse.linalg")

#: how many times vertices are moved at most
SWEEPS = 60
#: a border's corner turns by at least this much, degrees
CORNER = 30.0
#: edges this near to an axis are brought onto it when an island is straightened, degrees
NEAR_AXIS = 20.0


class Island:
    """An island's triangles on the surface, (T, 3, 3), and flat, (T, 3, 2), in metres, with its vertices.

    ``vertex`` numbers them where places alone do not tell, as along an open cut.
    """

    def __init__(
        self, world: NDArray[np.float64], flat: NDArray[np.float64], vertex: NDArray[np.int64] | None = None
    ) -> None:
        #: whether the island lies face down; it is worked on face up
        self.turned = bool(signed_uv_areas(flat).sum() < 0)
        if self.turned:
            flat = flat * np.array([-1.0, 1.0])
        self.world = world
        size = max(float(np.ptp(flat.reshape(-1, 2), axis=0).max()), 1e-300)
        if vertex is None:
            self.vertex = weld(flat.reshape(-1, 2), size * 1e-7).reshape(-1, 3)
        else:
            self.vertex = np.unique(vertex, return_inverse=True)[1].reshape(-1, 3)
        self.places = np.zeros((int(self.vertex.max()) + 1, 2))
        self.places[self.vertex.ravel()] = flat.reshape(-1, 2)

    def corners(self) -> NDArray[np.float64]:
        """Return the flat corners, (T, 3, 2)."""
        flat: NDArray[np.float64] = self.places[self.vertex]
        return flat * np.array([-1.0, 1.0]) if self.turned else flat

    def loops(self) -> list[NDArray[np.int64]]:
        """Return the vertices of each border, one after the other, the longest border first."""
        ends = np.stack([self.vertex, np.roll(self.vertex, -1, axis=1)], axis=2).reshape(-1, 2)
        present = {(int(a), int(b)) for a, b in ends}
        after = {a: b for a, b in present if (b, a) not in present}
        results = []
        while after:
            start, now = next(iter(after.items()))
            del after[start]
            loop = [start]
            while now != start and now in after:
                loop.append(now)
                now = after.pop(now)
            results.append(np.array(loop))
        return sorted(results, key=lambda loop: -self._length(loop))

    def _length(self, loop: NDArray[np.int64]) -> float:
        return float(np.hypot(*(np.roll(self.places[loop], -1, axis=0) - self.places[loop]).T).sum())

    def relax(self, fixed: NDArray[np.bool_] | None = None) -> None:
        """Move vertices so that stretch becomes as little as it can; ``fixed`` ones stay. Nothing is folded over."""
        faces = np.arange(len(self.world))
        rest = rest_of(self.world)
        gradient, area = np.empty((len(faces), 3, 2)), np.empty(len(faces))
        frames(faces, rest, gradient, area)
        count = len(self.places)
        starts, member = np.empty(count + 1, np.int64), np.empty(3 * len(faces), np.int64)
        corners_at(self.vertex, count, starts, member)
        held = np.zeros(count, np.bool_) if fixed is None else fixed
        size = float(np.sqrt(area.mean()))
        for soft in (0.5, 0.1, 0.0):
            if soft and not self._folded():
                continue
            relax(  # type: ignore[call-arg]
                self.vertex, gradient, area, self.places, starts, member, held, SWEEPS, soft, 1e-4 * size
            )

    def _folded(self) -> bool:
        return bool((signed_uv_areas(self.places[self.vertex]) <= 0).any())

    def _fill_in(self, fixed: NDArray[np.bool_]) -> None:
        """Give every other vertex the mean of its neighbours: no folds when the border is convex (Tutte 1963)."""
        ends = np.concatenate([self.vertex[:, [0, 1]], self.vertex[:, [1, 2]], self.vertex[:, [2, 0]]])
        count = len(self.places)
        rows = np.concatenate([ends[:, 0], ends[:, 1]])
        columns = np.concatenate([ends[:, 1], ends[:, 0]])
        graph = sparse.coo_matrix((np.ones(len(rows)), (rows, columns)), shape=(count, count)).tocsr()
        graph.data[:] = 1.0
        free = np.flatnonzero(~fixed)
        if not len(free):
            return
        degree = np.asarray(graph.sum(axis=1)).ravel()
        inner = -graph[free][:, free]
        inner.setdiag(degree[free])
        outer = graph[free][:, np.flatnonzero(fixed)] @ self.places[fixed]
        self.places[free] = solving.splu(inner.tocsc()).solve(outer)

    def rectangle(self) -> bool:
        """Lay the island into a rectangle by its four strongest corners; False when it has no four."""
        loop = self.loops()[0]
        places = self.places[loop]
        before, after = places - np.roll(places, 1, axis=0), np.roll(places, -1, axis=0) - places
        turn = np.degrees(
            np.arctan2(before[:, 0] * after[:, 1] - before[:, 1] * after[:, 0], (before * after).sum(axis=1))
        )
        corner = np.sort(np.argsort(-turn, kind="stable")[:4])
        if len(loop) < 4 or turn[corner].min() < CORNER:
            return False
        length = np.hypot(*after.T)
        sides = [_run(int(corner[n]), int(corner[(n + 1) % 4]), len(loop)) for n in range(4)]
        sizes = [float(length[side[:-1]].sum()) for side in sides]
        wide, high = (sizes[0] + sizes[2]) / 2, (sizes[1] + sizes[3]) / 2
        ends = np.array([[0.0, 0.0], [wide, 0.0], [wide, high], [0.0, high]])
        angle = np.arctan2(*(places[corner[1]] - places[corner[0]])[::-1])
        quarter = round(angle / (np.pi / 2))
        turned = np.array([[0, -1], [1, 0]], float)
        ends = ends @ np.linalg.matrix_power(turned, quarter % 4).T
        for n, side in enumerate(sides):
            along = np.concatenate([[0.0], np.cumsum(length[side[:-1]])]) / max(sizes[n], 1e-300)
            self.places[loop[side]] = ends[n] + along[:, None] * (ends[(n + 1) % 4] - ends[n])
        fixed = np.zeros(len(self.places), np.bool_)
        fixed[loop] = True
        self._fill_in(fixed)
        self.relax(fixed)
        return True

    def straighten(self) -> bool:
        """Bring runs of the border that lie nearly along an axis onto it; False when there are none."""
        held = np.zeros(len(self.places), np.bool_)
        before = self.places.copy()
        for loop in self.loops():
            self._straighten_loop(loop, held)
        if not held.any():
            return False
        inner = np.ones(len(self.places), np.bool_)
        for loop in self.loops():
            inner[loop] = False
        self.relax(~inner | held)
        if self._folded():
            self.places = before
            return False
        self.relax(held)
        return True

    def _straighten_loop(self, loop: NDArray[np.int64], held: NDArray[np.bool_]) -> None:
        along = np.roll(self.places[loop], -1, axis=0) - self.places[loop]
        angle = np.degrees(np.arctan2(along[:, 1], along[:, 0]))
        off = (angle + 45) % 90 - 45
        axis = np.where(np.abs(off) < NEAR_AXIS, np.round((angle - off) / 90).astype(int) % 2, -1)
        first = next((n for n in range(len(loop)) if axis[n] != axis[n - 1]), 0)
        n = 0
        while n < len(loop):
            start = (first + n) % len(loop)
            size = 1
            while n + size < len(loop) and axis[(start + size) % len(loop)] == axis[start]:
                size += 1
            if axis[start] >= 0:
                run = loop[(start + np.arange(size + 1)) % len(loop)]
                cross = 1 - axis[start]
                weight = np.hypot(*along[(start + np.arange(size)) % len(loop)].T)
                middle = (self.places[run[:-1], cross] + self.places[run[1:], cross]) / 2
                self.places[run, cross] = float(np.average(middle, weights=np.maximum(weight, 1e-300)))
                held[run] = True
            n += size


def _run(first: int, last: int, count: int) -> NDArray[np.int64]:
    """Return the places from one corner of a loop to the next."""
    return (first + np.arange((last - first) % count + 1)) % count
