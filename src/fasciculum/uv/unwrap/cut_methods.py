"""Several ways to cut one surface, and for each connected part the one that came out best."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.unwrapping import UnwrapSettings
from fasciculum.progress import SILENT, Progress
from fasciculum.uv.stretch import singular_values
from fasciculum.uv.unwrap.charts import Charts, CutCosts, Limits, roughness
from fasciculum.uv.unwrap.segment import directions, edge_turns
from fasciculum.uv.unwrap.square import smallest_rectangles
from fasciculum.uv.unwrap.surface import Mesh

#: what a seam costs per metre: in the open, along hollow edges, along sharp ones, and where the surface faces down
HOLLOW, SHARP, BELOW = 0.55, 0.6, 0.75
#: hollow edges count as sharp from this part of the angle on: seams lie there unseen
HOLLOW_SHARP = 0.7
#: part of the surface that may be stretched over 2, for each part of L2 stretch that is allowed
OVER_TWO = 0.27
#: how long joined charts may be, over the edge of the square that has the area of all surface
REACH = 1.3


@dataclass(frozen=True)
class CutMethod:
    """A way to cut.

    Attributes
    ----------
    bend, stretch : float
        How many times as far as said first charts may bend, and any may be stretched.
    sharp : bool
        Sharp edges end charts.
    fewer : float
        The way is for those who want charts to be so few.
    """

    bend: float
    stretch: float
    sharp: bool = True
    fewer: float = 0.0


#: the way for every surface, and those that are tried on parts of so many triangles at most, as long as all that is
#: tried has no more than so many
FIRST, OTHERS = CutMethod(1.0, 0.5), (CutMethod(4.0, 1.0), CutMethod(25.0, 1.0, sharp=False, fewer=0.4))
MOST, MOST_OF_ALL = 40_000, 60_000
#: what makes a part's cut worse: charts (as far as few are wanted), seams over the root of its surface, rectangles over
#: its surface, squared stretch beyond 1, surface stretched over 2, and what is not developed to the last bit
CHARTS, SEAMS, RECTANGLES, STRETCH, OVER, BENT = 0.6, 0.3, 5.0, 20.0, 100.0, 6.0
#: triangles of less than this part of the largest one's surface are left out where stretch is judged
NOTHING = 1e-12


@dataclass(eq=False)
class FlattenedSurface:
    """A surface that has been cut and laid flat.

    Attributes
    ----------
    place : ndarray of float64, shape (T, 3, 2)
        Where each corner lies, metres; every chart about its own origin.
    label : ndarray of int64, shape (T,)
        The chart of each triangle, from 0.
    cut : ndarray of bool, shape (3 T,)
        Half-edges at which charts end, or are slit.
    exact : ndarray of bool, shape (T,)
        Triangles of charts that are developed to the last bit.
    """

    place: NDArray[np.float64]
    label: NDArray[np.int64]
    cut: NDArray[np.bool_]
    exact: NDArray[np.bool_]

    def some(self, faces: NDArray[np.int64]) -> FlattenedSurface:
        """Return some triangles only, a copy."""
        cut = self.cut.reshape(-1, 3)[faces].ravel()
        return FlattenedSurface(self.place[faces], _renumbered(self.label[faces]), cut, self.exact[faces])

    def put(self, faces: NDArray[np.int64], other: FlattenedSurface) -> None:
        """Put in other charts for triangles that are whole parts."""
        self.place[faces], self.exact[faces] = other.place, other.exact
        self.cut.reshape(-1, 3)[faces] = other.cut.reshape(-1, 3)
        self.label[faces] = other.label + int(self.label.max()) + 1
        self.label = _renumbered(self.label)


def _bend(settings: UnwrapSettings) -> float:
    """Return how far the normals of a first chart may stand out of a plane, mean square."""
    return float(0.01 * 16.0**settings.fewer)


def _joining(settings: UnwrapSettings) -> dict[str, float]:
    """Return the least part of its rectangle that a joined chart fills, and that of what both filled apart."""
    return {"fill": 0.75 - 0.2 * settings.fewer, "worse": 1.0 - 0.2 * settings.fewer}


def cut_best(
    mesh: Mesh,
    settings: UnwrapSettings,
    seams: NDArray[np.bool_],
    whole: NDArray[np.bool_],
    progress: Progress = SILENT,
) -> FlattenedSurface:
    """Cut a surface and lay it flat, each part in the way that comes out best.

    Parameters
    ----------
    mesh : Mesh
    settings : UnwrapSettings
    seams, whole : ndarray of bool, shape (3 T,)
        Half-edges that are cut in any case, and such that are not cut for being sharp.
    """
    grain = grain_of(mesh, settings, seams, whole)
    limits = Limits(1 + settings.stretch, OVER_TWO * settings.stretch)
    if grain.rough:
        # what every piece has, no cutting takes away
        l2, share = roughness(mesh)
        limits = Limits(limits.l2 + l2, limits.share + share)
    longest = REACH * float(np.sqrt(mesh.areas.sum()))

    def cut(grain: CutCosts, way: CutMethod, progress: Progress) -> FlattenedSurface:
        most = Limits(1 + (limits.l2 - 1) * way.stretch, limits.share * way.stretch)
        charts = Charts(
            grain if way.sharp else grain.without_sharp(),
            most,
            bend=_bend(settings) * way.bend,
            progress=progress.part(0, 0.6),
        )
        charts.settle()
        charts.progress = progress.part(0.6, 1.0)
        charts.join(**_joining(settings), small=settings.smallest, longest=longest)
        charts.split_hollow()
        return FlattenedSurface(charts.place, charts.label, charts.cut, charts.exact)

    best = cut(grain, FIRST, progress.part(0.0, 0.4))
    faces = _worth_more(mesh, best)
    if not len(faces):
        return best
    some, told = grain.some(faces), progress.part(0.4, 1.0)
    ways = [way for way in OTHERS if settings.fewer >= way.fewer]
    # they run side by side; the last one, which cuts most, tells how far all are
    tellers = [told.quiet() for _ in ways[1:]] + [told]
    with ThreadPoolExecutor(len(ways)) as pool:
        others = list(pool.map(lambda way, teller: cut(some, way, teller), ways, tellers))
    best.put(faces, _best_of(some.mesh, [best.some(faces), *others], settings.fewer))
    return best


def grain_of(mesh: Mesh, settings: UnwrapSettings, seams: NDArray[np.bool_], whole: NDArray[np.bool_]) -> CutCosts:
    """Return what guides the cuts: sharp edges, and what a cut along each edge costs."""
    turns = edge_turns(mesh)
    hollow = turns < -1.0
    sharp = (np.abs(turns) > np.where(hollow, HOLLOW_SHARP, 1.0) * settings.sharp) & ~whole
    down = mesh.normals[np.arange(3 * len(mesh)) // 3, 1] < -0.4
    price = mesh.lengths * np.where(hollow, HOLLOW, 1.0) * np.where(sharp, SHARP, 1.0)
    price *= np.where(down, BELOW, 1.0)
    # what must not be a seam is the last way to cut
    price = np.where(whole, price * 50, price)
    normals, sharp = directions(mesh, sharp, turns)
    return CutCosts(mesh, normals, sharp, seams & ~whole, price)


def _renumbered(label: NDArray[np.int64]) -> NDArray[np.int64]:
    result: NDArray[np.int64] = np.unique(label, return_inverse=True)[1].reshape(-1)
    return result


def _worth_more(mesh: Mesh, flats: FlattenedSurface) -> NDArray[np.int64]:
    """Return the triangles of parts that other ways are tried on: the smaller parts first, as long as there is time."""
    count = int(mesh.part.max()) + 1
    sizes = np.bincount(mesh.part, minlength=count)
    charts = np.unique(mesh.part * len(mesh) + flats.label) // len(mesh)
    several = np.bincount(charts, minlength=count) > 1
    order = np.argsort(sizes, kind="stable")
    order = order[several[order] & (sizes[order] <= MOST)]
    taken = order[np.cumsum(sizes[order]) <= MOST_OF_ALL]
    use = np.zeros(count, np.bool_)
    use[taken] = True
    return np.flatnonzero(use[mesh.part])


def scores(mesh: Mesh, flats: FlattenedSurface, fewer: float) -> NDArray[np.float64]:
    """Return how bad the cut of each part is, as somebody sees it who wants charts to be so few."""
    count = int(mesh.part.max()) + 1
    area = np.maximum(np.bincount(mesh.part, mesh.areas, count), 1e-30)
    part = np.zeros(int(flats.label.max()) + 1, np.int64)
    part[flats.label] = mesh.part
    seam = np.bincount(np.repeat(mesh.part, 3), mesh.lengths * (flats.cut & (mesh.across >= 0)), count) / 2
    rectangles = smallest_rectangles(flats.place, flats.label, flats.cut | (mesh.across < 0))
    squared, over = _stretch(mesh, flats)

    def share(values: NDArray) -> NDArray[np.float64]:
        result: NDArray[np.float64] = np.bincount(mesh.part, mesh.areas * values, count) / area
        return result

    return (
        CHARTS * fewer * np.bincount(part, minlength=count)
        + SEAMS * seam / np.sqrt(area)
        + RECTANGLES * np.bincount(part, rectangles, count) / area
        + STRETCH * share(squared - 1)
        + OVER * share(over)
        + BENT * share(~flats.exact)
    )


def _stretch(mesh: Mesh, flats: FlattenedSurface) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """Return the squared L2 stretch of each triangle, 1 for slivers, and which are stretched over 2."""
    greater, lesser = singular_values(mesh.corners, flats.place)
    solid = (mesh.areas > NOTHING * mesh.areas.max()) & np.isfinite(greater)
    squared = np.where(solid, (greater**2 + lesser**2) / 2, 1.0)
    return squared, solid & (greater > 2 * lesser)


def _best_of(mesh: Mesh, every: list[FlattenedSurface], fewer: float) -> FlattenedSurface:
    """Return for each part what came out best."""
    table = np.stack([scores(mesh, flats, fewer) for flats in every])
    # what comes first stays unless another is better by more than rounding
    table[1:] += 1e-6
    chosen = table.argmin(axis=0)[mesh.part]
    best = every[0]
    for number, flats in enumerate(every[1:], 1):
        faces = np.flatnonzero(chosen == number)
        if len(faces):
            best.put(faces, flats.some(faces))
    return best
