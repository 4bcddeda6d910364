"""Charts of a surface: laid flat, cut where they will not lie, joined where they lie flat together."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.unwrapping.chart_lists import Ground
from fasciculum.kernels.unwrapping.halfedges import components, components_of
from fasciculum.kernels.unwrapping.joining import join_charts
from fasciculum.kernels.unwrapping.unwrap import (
    COVERED,
    EXACT,
    GOOD,
    STRETCHED,
    dart,
    flatten_charts,
    peel,
    split_chart,
)
from fasciculum.progress import SILENT, Progress
from fasciculum.uv.unwrap.segment import FEWER, segment
from fasciculum.uv.unwrap.surface import SLIVER, Mesh

THREADS = 2
#: a kernel is called for about so many triangles at a time, so that progress is told and cancelling heard
SLICE = 20_000
#: rounds of cutting before charts are taken as they are, or apart triangle by triangle
ROUNDS = 40
#: charts of fewer triangles than this are not cut because of an L2 stretch below this
FEW, BAD = 6, 1.2
#: charts of more triangles are segmented anew where they will not lie flat, by so much finer each time
MANY, FINER = 600, (0.4, 0.15, 0.05)
#: charts that lie on themselves with no more than this part of their triangles lose these, so many times
PEELED, PEELS = 0.04, 4
DARTS, MOST_DARTED = 2, 3000
#: a chart that fills less of its rectangle is cut in two or four if their rectangles take this part of its own at most;
#: only charts whose boxes are this part of all boxes are worth it
HOLLOW, SPLIT_PAYS, LARGE_BOX = 0.33, 0.55, 0.1
#: pieces of so many triangles by which the roughness of a surface is judged
SAMPLES, SAMPLE = 24, 60
#: how many times over a part's triangles may be laid flat on trial, and triangles above which it is less
TRIALS, MANY_TRIALS = 12.0, 100_000
#: charts are bent into one only where their normals stand out of a plane by no more than so many times the first limit
BENDING = 4.0


def rest_of(corners: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return triangles laid flat on their own: corner 1 at (a, 0), corner 2 at (b, c); shape (T, 3), metres."""
    one, two = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    a = np.linalg.norm(one, axis=1)
    safe = np.maximum(a, 1e-300)
    b = np.einsum("ij,ij->i", one, two) / safe
    c = np.linalg.norm(np.cross(one, two), axis=1) / safe
    short = a <= 1e-12 * np.linalg.norm(two, axis=1)
    return np.stack([a, np.where(short, 0.0, b), np.where(short, np.linalg.norm(two, axis=1), c)], axis=1)


@dataclass(frozen=True)
class Limits:
    """How much stretch charts may have: L2 stretch, and the part of the surface stretched over 2."""

    l2: float
    share: float


@dataclass(frozen=True, eq=False)
class CutCosts:
    """A surface and what guides the cuts through it.

    Attributes
    ----------
    mesh : Mesh
    normals : ndarray of float64, shape (T, 3)
        Directions to go by; on rough surfaces not the triangles' own.
    sharp, seams : ndarray of bool, shape (3 T,)
        Half-edges at which charts end, and those that are cut in any case.
    price : ndarray of float64, shape (3 T,)
        What a cut along each half-edge costs.
    """

    mesh: Mesh
    normals: NDArray[np.float64]
    sharp: NDArray[np.bool_]
    seams: NDArray[np.bool_]
    price: NDArray[np.float64]

    @property
    def rough(self) -> bool:
        """Whether the surface is noisy, so that its own normals say little."""
        return self.normals is not self.mesh.normals

    def some(self, faces: NDArray[np.int64]) -> CutCosts:
        """Return the grain of some triangles only."""
        half = (3 * faces[:, None] + np.arange(3)).ravel()
        mesh = self.mesh.some(faces)
        normals = self.normals[faces] if self.rough else mesh.normals
        return CutCosts(mesh, normals, self.sharp[half], self.seams[half], self.price[half])

    def without_sharp(self) -> CutCosts:
        """Return the same where no edge ends a chart for being sharp; cuts along sharp ones stay cheaper."""
        return replace(self, sharp=np.zeros_like(self.sharp))


class Charts:
    """A surface being cut into charts that lie flat.

    Attributes
    ----------
    cut : ndarray of bool, shape (3 T,)
        Half-edges at which charts end, or are slit.
    place : ndarray of float64, shape (T, 3, 2)
        Where each corner lies, metres; every chart about its own origin.
    label : ndarray of int64, shape (T,)
        The chart of each triangle.
    """

    def __init__(self, grain: CutCosts, limits: Limits, *, bend: float, progress: Progress = SILENT) -> None:
        self.grain, self.limits, self.bend, self.progress = grain, limits, bend, progress
        mesh = self.mesh = grain.mesh
        self.cut: NDArray[np.bool_] = grain.seams & (mesh.across >= 0)
        groups = segment(mesh, grain.sharp, grain.seams, limit=bend, normals=grain.normals)
        self._part(np.arange(len(mesh)), groups)
        self.rest = rest_of(mesh.corners)
        longest = mesh.lengths.reshape(-1, 3).max(axis=1)
        self.thin = mesh.areas * 2 <= SLIVER * longest**2
        self.place = np.zeros((len(mesh), 3, 2))
        self.label = np.zeros(len(mesh), np.int64)
        self.exact = np.zeros(len(mesh), np.bool_)
        self.where = np.zeros(len(mesh), np.int64)
        self.middles = mesh.corners.mean(axis=1)

    def _charts(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Label the charts anew; return their triangles one after the other, and where each begins."""
        count = components(self.mesh.across, self.cut, self.label)
        order = np.argsort(self.label, kind="stable")
        return order, np.searchsorted(self.label[order], np.arange(count + 1))

    def _flatten(
        self, members: NDArray[np.int64], starts: NDArray[np.int64], progress: Progress
    ) -> tuple[NDArray, NDArray]:
        """Lay the listed charts flat on all threads."""
        count = len(starts) - 1
        state, figures = np.zeros(count, np.int64), np.zeros((count, 3))
        limits = np.array([self.limits.l2, self.limits.share])
        runs = _runs(starts, SLICE)

        def work(run: tuple[int, int]) -> None:
            progress.check()
            flatten_charts(  # type: ignore[call-arg]
                members,
                starts,
                *run,
                self.where,
                self.mesh.across,
                self.cut,
                self.rest,
                self.grain.price,
                self.thin,
                self.place,
                limits,
                state,
                figures,
            )

        if len(runs) < 2:
            for run in runs:
                work(run)
        else:
            with ThreadPoolExecutor(THREADS) as pool:
                for done, _ in enumerate(pool.map(work, runs)):
                    progress.update((done + 1) / len(runs), "Laying charts flat")
        return state, figures

    def settle(self) -> None:
        """Lay every chart flat, cutting those that will not lie, until all do."""
        members, starts = self._charts()
        state, figures = self._flatten(members, starts, self.progress.part(0.0, 0.5))
        self.exact[members] = np.repeat(state == EXACT, np.diff(starts))
        for turn in range(ROUNDS):
            bad = np.flatnonzero(state > GOOD)
            if not len(bad):
                break
            self.progress.check()
            changed = np.zeros(len(self.mesh), np.bool_)
            groups = [members[starts[c] : starts[c + 1]] for c in bad.tolist()]
            with ThreadPoolExecutor(THREADS) as pool:
                work = partial(self._cut, turn=turn)
                for again in pool.map(work, groups, state[bad].tolist(), figures[bad, 0].tolist()):
                    changed[again] = True
            if not changed.any():
                break
            order = np.flatnonzero(changed)
            components_of(order, self.mesh.across, self.cut, self.label)
            order = order[np.argsort(self.label[order], kind="stable")]
            bounds = np.flatnonzero(np.diff(self.label[order])) + 1
            members, starts = order, np.concatenate([[0], bounds, [len(order)]]).astype(np.int64)
            # each round has less to do than the one before
            told = self.progress.part(1 - 0.5 ** (turn + 1), 1 - 0.5 ** (turn + 2))
            state, figures = self._flatten(members, starts, told)
            self.exact[members] = np.repeat(state == EXACT, np.diff(starts))

    def _part(self, faces: NDArray[np.int64], groups: NDArray[np.int64]) -> None:
        """Cut between triangles of different groups."""
        label = np.full(len(self.mesh), -1, np.int64)
        label[faces] = groups
        half = (3 * faces[:, None] + np.arange(3)).ravel()
        other = self.mesh.across[half]
        half, other = half[other >= 0], other[other >= 0]
        self.cut[half[label[half // 3] != label[other // 3]]] = True
        self.cut[other[label[half // 3] != label[other // 3]]] = True

    def _cut(self, faces: NDArray[np.int64], state: int, l2: float, *, turn: int) -> NDArray[np.int64]:
        """Cut a chart that will not lie flat; return the triangles that have to be laid flat again."""
        mesh, where = self.mesh, self.where
        if len(faces) < 2 or (state == STRETCHED and len(faces) < FEW and l2 < BAD):
            return faces[:0]
        if state == STRETCHED and turn < DARTS and 60 < len(faces) < MOST_DARTED:
            where[faces] = np.arange(len(faces))
            if dart(faces, where, mesh.across, self.cut, self.grain.price, self.rest, self.place):
                return faces
        if state == COVERED and turn < PEELS:
            mark = np.zeros(len(faces), np.bool_)
            most = int(PEELED * len(faces)) + 1
            if peel(faces, where, mesh.across, self.cut, self.place, most, mark):
                return faces[mark]
        if len(faces) > MANY and turn < len(FINER):
            some = mesh.some(faces)
            half = (3 * faces[:, None] + np.arange(3)).ravel()
            some.across[self.cut[half]] = -1
            groups = segment(
                some,
                self.grain.sharp[half],
                self.grain.seams[half],
                limit=self.bend * FINER[turn],
                normals=self.grain.normals[faces],
                many=FEWER,
            )
            if groups.max(initial=0) > groups.min(initial=0):
                self._part(faces, groups)
                return faces
        split_chart(faces, where, mesh.across, self.cut, self.middles, self.grain.normals, mesh.areas)
        return faces

    def join(self, *, fill: float, worse: float, small: float, longest: float) -> None:
        """Join charts that lie flat together.

        Parameters
        ----------
        fill : float
            The least part of its smallest rectangle that a joined chart fills,
        worse : float
            unless it fills at least this part of what both fill apart.
        small : float
            Charts smaller than this part of their part's surface are joined even at more stretch.
        longest : float
            Joined charts are no longer than this, metres: one that spans the whole sheet decides the density of all.
        """
        mesh = self.mesh
        components(mesh.across, self.cut, self.label)
        order = np.lexsort((self.label, mesh.part))
        changes = np.flatnonzero(np.diff(self.label[order]) != 0) + 1
        starts = np.concatenate([[0], changes, [len(order)]]).astype(np.int64)
        part = mesh.part[order[starts[:-1]]]
        first = np.searchsorted(part, np.arange(int(part.max()) + 2))
        surface = np.bincount(mesh.part, mesh.areas)
        limits = np.array([self.limits.l2, self.limits.share])
        rules = np.array([fill, worse, longest, BENDING * self.bend])
        count = len(mesh)
        ground = Ground(
            mesh.across,
            self.cut,
            self.grain.seams,
            self.grain.sharp,
            self.rest,
            self.grain.price,
            self.thin,
            mesh.lengths,
            mesh.areas,
            self.grain.normals,
            self.exact,
            self.place,
            self.label,
            self.where,
            np.empty(count, np.int64),
            np.empty(3 * count, np.int64),
        )
        parts = [number for number in range(len(first) - 1) if first[number + 1] - first[number] > 1]

        done, turn = 0, Lock()

        def work(numbers: list[int]) -> None:
            nonlocal done
            for number in numbers:
                one, end = int(first[number]), int(first[number + 1])
                size = int(starts[end] - starts[one])
                with turn:
                    self.progress.update(done / len(mesh), "Joining charts")
                    done += size
                work_left = _trials(size)
                join_charts(ground, order, starts, one, end, limits, rules, small * surface[number], work_left)

        sizes = [int(starts[first[number + 1]] - starts[first[number]]) for number in parts]
        lots: list[list[int]] = [[] for _ in range(THREADS)]
        loads = [0] * THREADS
        for index in np.argsort(sizes, kind="stable")[::-1].tolist():
            least = loads.index(min(loads))
            lots[least].append(parts[index])
            loads[least] += sizes[index]
        with ThreadPoolExecutor(THREADS) as pool:
            list(pool.map(work, lots))
        components(mesh.across, self.cut, self.label)

    def split_hollow(self) -> None:
        """Cut charts that leave most of their rectangle empty, rings for instance, where the pieces need much less."""
        members, starts = self._charts()
        surface = np.add.reduceat(self.mesh.areas[members], starts[:-1])
        # a chart's bounding box, any way turned, is no smaller than its smallest rectangle
        points = self.place[members].reshape(-1, 2)
        size = np.maximum.reduceat(points, 3 * starts[:-1]) - np.minimum.reduceat(points, 3 * starts[:-1])
        boxes = size[:, 0] * size[:, 1]
        doubtful = np.flatnonzero((surface < HOLLOW * boxes) & (boxes > LARGE_BOX * boxes.sum()))
        waiting = [members[starts[c] : starts[c + 1]] for c in doubtful.tolist()]
        while waiting:
            self.progress.check()
            faces = waiting.pop()
            whole = smallest_rectangle(self._border(faces))
            if len(faces) < FEW or float(self.mesh.areas[faces].sum()) >= HOLLOW * whole:
                continue
            half = (3 * faces[:, None] + np.arange(3)).ravel()
            before = self.cut[half].copy()
            pieces = self._halves(faces)
            if self._rectangles(pieces) > SPLIT_PAYS * whole:
                # half a ring needs as much as half its rectangle, a quarter much less
                pieces = [quarter for part in pieces for quarter in self._halves(part)]
            if self._rectangles(pieces) > SPLIT_PAYS * whole:
                self.cut[half] = before
            elif whole > LARGE_BOX * boxes.sum():
                waiting += pieces
        components(self.mesh.across, self.cut, self.label)

    def _rectangles(self, pieces: list[NDArray[np.int64]]) -> float:
        """Return the area of about the smallest rectangles around charts."""
        return sum(smallest_rectangle(self._border(faces)) for faces in pieces)

    def _border(self, faces: NDArray[np.int64]) -> NDArray[np.float64]:
        """Return where the corners on a chart's border lie, shape (N, 2)."""
        half = 3 * faces[:, None] + np.arange(3)
        points: NDArray[np.float64] = self.place[faces][self.cut[half] | (self.mesh.across[half] < 0)]
        return points

    def _halves(self, faces: NDArray[np.int64]) -> list[NDArray[np.int64]]:
        """Cut a chart in two and return the triangles of its pieces."""
        if len(faces) < 2:
            return [faces]
        mesh = self.mesh
        split_chart(faces, self.where, mesh.across, self.cut, self.middles, self.grain.normals, mesh.areas)
        piece = mesh.some(faces)
        label = np.zeros(len(faces), np.int64)
        half = (3 * faces[:, None] + np.arange(3)).ravel()
        count = components(piece.across, self.cut[half], label)
        return [faces[label == number] for number in range(count)]


def roughness(mesh: Mesh) -> tuple[float, float]:
    """Return the stretch that even the smallest pieces of a rough surface have: beyond 1, and the part over 2."""
    results = []
    for seed in np.linspace(0, len(mesh) - 1, SAMPLES).astype(np.int64).tolist():
        faces, known = [seed], {seed}
        for t in faces:
            for other in (mesh.across[3 * t : 3 * t + 3] // 3).tolist():
                if other >= 0 and other not in known and len(faces) < SAMPLE:
                    known.add(other)
                    faces.append(other)
        piece = mesh.some(np.array(sorted(faces)))
        state, figures = np.zeros(1, np.int64), np.zeros((1, 3))
        count = len(piece)
        flatten_charts(  # type: ignore[call-arg]
            np.arange(count),
            np.array([0, count]),
            0,
            1,
            np.zeros(count, np.int64),
            piece.across,
            np.zeros(3 * count, np.bool_),
            rest_of(piece.corners),
            np.ones(3 * count),
            np.zeros(count, np.bool_),
            np.zeros((count, 3, 2)),
            np.array([9.0, 1.0]),
            state,
            figures,
        )
        if state[0] <= GOOD:
            results.append((figures[0, 0] - 1, figures[0, 1]))
    return tuple(np.median(np.array(results), axis=0).tolist()) if results else (0.0, 0.0)


def smallest_rectangle(points: NDArray[np.float64]) -> float:
    """Return the area of about the smallest rectangle around points, (N, 2), any way turned."""
    turn = np.arange(45) * np.pi / 90
    ways = np.stack([np.cos(turn), np.sin(turn)])
    x, y = points @ ways, points @ np.stack([-ways[1], ways[0]])
    return float((np.ptp(x, axis=0) * np.ptp(y, axis=0)).min())


def _trials(count: int) -> int:
    """Return how many triangles may be laid flat on trial for a part of so many."""
    return int(min(TRIALS * count, max(MANY_TRIALS - count, 0.3 * count)))


def _runs(starts: NDArray[np.int64], size: int) -> list[tuple[int, int]]:
    """Group charts into runs of about so many triangles."""
    runs, first = [], 0
    for c in range(1, len(starts)):
        if starts[c] - starts[first] >= size or c == len(starts) - 1:
            runs.append((first, c))
            first = c
    return runs
