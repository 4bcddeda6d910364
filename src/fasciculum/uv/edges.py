"""Edges of a surface as the artist picks them: between welded positions, whichever triangles share them."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.unique_rows import unique_rows
from fasciculum.later import Later
from fasciculum.uv.islands import weld
from fasciculum.uv.unwrap.surface import weld_tolerance

sparse = Later("scipy.sparse")
csgraph = Later("scipy.sparse.csgraph")

#: a loop goes on along an edge that turns away by no more than this, degrees
STRAIGHT = 50.0


class EdgeGraph:
    """The positions and edges of triangles, shape (T, 3, 3) in metres."""

    def __init__(self, corners: NDArray[np.float64]) -> None:
        self.corners = corners
        flat = corners.reshape(-1, 3)
        self.vertices = weld(flat, weld_tolerance(corners)).reshape(-1, 3)
        self.points = np.zeros((int(self.vertices.max(initial=-1)) + 1, 3))
        self.points[self.vertices.ravel()] = flat
        ends = np.sort(np.stack([self.vertices, np.roll(self.vertices, -1, axis=1)], axis=2).reshape(-1, 2), axis=1)
        first, number = unique_rows(ends)
        self.ends = ends[first]
        #: the edge of each half-edge (three times the triangle plus the corner where it begins)
        self.edge_of: NDArray[np.int64] = number

    @cached_property
    def lengths(self) -> NDArray[np.float64]:
        """The length of each edge, metres."""
        result: NDArray[np.float64] = np.linalg.norm(
            self.points[self.ends[:, 0]] - self.points[self.ends[:, 1]], axis=1
        )
        return result

    @cached_property
    def normals(self) -> NDArray[np.float64]:
        """The normal of each triangle, of unit length; 0 for those without area."""
        result = np.cross(self.corners[:, 1] - self.corners[:, 0], self.corners[:, 2] - self.corners[:, 0])
        result /= np.maximum(np.linalg.norm(result, axis=1), 1e-300)[:, None]
        return result

    @cached_property
    def _graph(self) -> Any:
        count = len(self.points)
        length = np.maximum(self.lengths, 1e-12)
        return sparse.csr_matrix((length, (self.ends[:, 0], self.ends[:, 1])), shape=(count, count))

    @cached_property
    def _at(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        both = np.concatenate([self.ends[:, 0], self.ends[:, 1]])
        order = np.argsort(both, kind="stable")
        return order % len(self.ends), np.searchsorted(both[order], np.arange(len(self.points) + 1))

    @cached_property
    def open(self) -> NDArray[np.int64]:
        """The edges that only one triangle has."""
        return np.flatnonzero(np.bincount(self.edge_of, minlength=len(self.ends)) == 1)

    def half_edges(self, edges: NDArray[np.int64]) -> NDArray[np.int64]:
        """Return the half-edges of edges, on all their triangles."""
        return np.flatnonzero(np.isin(self.edge_of, edges))

    def edges_of(self, half_edges: NDArray[np.int64]) -> NDArray[np.int64]:
        """Return the edges that half-edges lie on."""
        return np.unique(self.edge_of[half_edges])

    def nearest_edge(self, triangle: int, point: NDArray[np.float64]) -> int:
        """Return the edge of a triangle that a point of it lies nearest to."""
        a, b = self.corners[triangle], np.roll(self.corners[triangle], -1, axis=0)
        along = b - a
        t = np.clip(np.einsum("ij,ij->i", point - a, along) / np.maximum((along**2).sum(axis=1), 1e-300), 0, 1)
        far = np.linalg.norm(a + along * t[:, None] - point, axis=1)
        return int(self.edge_of[3 * triangle + int(far.argmin())])

    def path(self, one: int, two: int) -> NDArray[np.int64]:
        """Return the edges of the shortest way that begins with edge ``one`` and ends with edge ``two``."""
        a, b = self.ends[one], self.ends[two]
        far, came = csgraph.dijkstra(self._graph, directed=False, indices=a, return_predecessors=True)
        start = int(far[:, b].min(axis=1).argmin())
        end = int(b[far[start][b].argmin()])
        if not np.isfinite(far[start, end]):
            return np.array([one, two])
        results = [one, two]
        while came[start, end] >= 0:
            before = int(came[start, end])
            results.append(self.between(before, end))
            end = before
        return np.unique(np.array(results))

    def between(self, a: int, b: int) -> int:
        """Return the edge between two positions that are neighbours."""
        edges, starts = self._at
        around = edges[starts[a] : starts[a + 1]]
        return int(around[(self.ends[around] == b).any(axis=1)][0])

    def loop(self, edge: int) -> NDArray[np.int64]:
        """Return the edges that go on straight from one, both ways, until there is none or the loop is closed."""
        results = {edge}
        for way in (0, 1):
            now, at = edge, int(self.ends[edge, way])
            while True:
                following = self._straight_on(now, at)
                if following < 0 or following in results:
                    break
                results.add(following)
                at = int(self.ends[following].sum() - at)
                now = following
        return np.array(sorted(results))

    def _straight_on(self, edge: int, at: int) -> int:
        edges, starts = self._at
        around = edges[starts[at] : starts[at + 1]]
        around = around[around != edge]
        if not len(around):
            return -1
        begin = self.points[int(self.ends[edge].sum() - at)]
        ahead = self.points[at] - begin
        others = self.points[self.ends[around].sum(axis=1) - at] - self.points[at]
        cosine = (others @ ahead) / np.maximum(np.linalg.norm(others, axis=1) * np.linalg.norm(ahead), 1e-300)
        best = int(cosine.argmax())
        return int(around[best]) if cosine[best] > np.cos(np.radians(STRAIGHT)) else -1

    def _smooth(self, angle: float) -> Any:
        """Return the graph of triangles that edges join which bend by less than ``angle`` degrees."""
        normals = self.normals
        order = np.argsort(self.edge_of, kind="stable")
        same = self.edge_of[order[1:]] == self.edge_of[order[:-1]]
        one, two = order[:-1][same] // 3, order[1:][same] // 3
        smooth = np.einsum("ij,ij->i", normals[one], normals[two]) > np.cos(np.radians(angle))
        count = len(self.corners)
        return sparse.csr_matrix((np.ones(int(smooth.sum())), (one[smooth], two[smooth])), shape=(count, count))

    def flat_region(self, triangle: int, angle: float) -> NDArray[np.int64]:
        """Return the triangles joined to one across edges that bend by less than ``angle`` degrees."""
        far = csgraph.dijkstra(self._smooth(angle), directed=False, indices=triangle, unweighted=True)
        return np.flatnonzero(np.isfinite(far))

    def flat_regions(self, angle: float) -> NDArray[np.int64]:
        """Return for each triangle the number of its region, from 0, as `flat_region` finds them."""
        _, numbers = csgraph.connected_components(self._smooth(angle), directed=False)
        return np.asarray(numbers, np.int64)


def hit(
    corners: NDArray[np.float64], origin: NDArray[np.float64], way: NDArray[np.float64]
) -> tuple[int, NDArray[np.float64]] | None:
    """Return the first triangle that a ray meets and where; None when it meets none.

    Moeller and Trumbore 1997, doi:10.1080/10867651.1997.10487468.
    """
    e1, e2 = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    p = np.cross(way, e2)
    det = np.einsum("ij,ij->i", e1, p)
    with np.errstate(divide="ignore", invalid="ignore"):
        inverse = 1.0 / det
        s = origin - corners[:, 0]
        u = np.einsum("ij,ij->i", s, p) * inverse
        q = np.cross(s, e1)
        v = (q @ way) * inverse
        t = np.einsum("ij,ij->i", e2, q) * inverse
        good = (np.abs(det) > 1e-300) & (u >= 0) & (v >= 0) & (u + v <= 1) & (t > 0)
    if not good.any():
        return None
    first = int(np.where(good, t, np.inf).argmin())
    return first, origin + t[first] * way
