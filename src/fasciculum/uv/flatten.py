"""From source UVs to a flat surface in metres: keep what is clean, unwrap the rest, cut what is too long."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.unique_rows import unique_rows
from fasciculum.model.unwrapping import PLAIN, Shaping, UnwrapSettings
from fasciculum.progress import SILENT, Progress
from fasciculum.uv.corners import Corners, signed_uv_areas, surface_areas
from fasciculum.uv.islands import connect, find_islands, position_tolerance, renumber, split_along, uv_vertices, weld
from fasciculum.uv.overlaps import marked_overlaps, self_overlap
from fasciculum.uv.projection import evened, project
from fasciculum.uv.stretch import angle_stretch, measure_stretch, metric
from fasciculum.uv.unwrap.reshape import Island
from fasciculum.uv.unwrap.unwrap import unwrap

#: shares of an island's area from which it does not count as clean: covering itself, turned over, without extent
CLASH, TURNED, COLLAPSED = 1e-4, 1e-4, 0.01
#: an island with this share of its surface drawn more than eight times off its own mean density is not clean
UNEVEN = 0.1
#: an island with this share of its surface stretched more than so many times, whatever its scales, is not clean
TOO_LONG, OVER = 0.3, 3.0
#: a clean island cut by hand is relaxed where its L2 stretch is above this
EASED = 1.01
#: how often it is relaxed at most until the sides of the cut no longer lie on each other
ROUNDS = 6


@dataclass(frozen=True, eq=False)
class Flat:
    """A flat surface: corners in metres (T, 3, 2), the island of each triangle, which were made anew, and why.

    ``why`` has a number into `REASONS` for each island.
    """

    corners: NDArray[np.float64]
    islands: NDArray[np.int32]
    projected: NDArray[np.bool_]
    why: NDArray[np.int64]


#: why islands of the source are not kept, by number; the first is that they are
REASONS = (
    "kept",
    "no UVs",
    "turned over in part",
    "covers itself",
    "has no extent",
    "drawn unevenly",
    "stretched",
    "asked for",
    "cut by hand",
    "projected",
    "shaped by hand",
)
KEPT, MISSING, FLIPPED, COVERS, EMPTY, UNEVENLY, STRETCHED, ASKED, BY_HAND, PROJECTED, SHAPED = range(len(REASONS))


def judge_islands(corners: Corners, uvs: NDArray[np.float64], islands: NDArray[np.int32]) -> NDArray[np.int64]:
    """Return for each island why it cannot be kept, of `REASONS`: folded, turned over, collapsed, uneven, stretched."""
    count = int(islands.max()) + 1
    signed, areas = signed_uv_areas(uvs), surface_areas(corners.world)
    positive = np.bincount(islands, np.maximum(signed, 0), count)
    negative = np.bincount(islands, np.maximum(-signed, 0), count)
    total, surface = positive + negative, np.bincount(islands, areas, count)
    flat = np.abs(signed)
    mean = np.where(surface > 0, total / np.maximum(surface, 1e-300), 0)[islands]
    thin = (flat < mean * areas / 4096) & (areas > 0)
    uneven = (flat < mean * areas / 64) | (flat > mean * areas * 64)
    collapsed = np.bincount(islands, areas * thin, count)
    off = np.bincount(islands, areas * uneven, count)
    even = _to_metres(corners.world, uvs, islands, True)
    with np.errstate(invalid="ignore"):
        long = np.nan_to_num(angle_stretch(corners.world, even), nan=1.0, posinf=1.0) > OVER
    result = np.zeros(count, np.int64)
    result[np.bincount(islands, areas * long, count) > surface * TOO_LONG] = STRETCHED
    result[off > surface * UNEVEN] = UNEVENLY
    result[self_overlap(uvs, islands, threshold=CLASH) > CLASH] = COVERS
    result[np.minimum(positive, negative) > total * TURNED] = FLIPPED
    result[(total <= 1e-12) | (collapsed > surface * COLLAPSED)] = EMPTY
    return result


def _to_metres(
    world: NDArray[np.float64], uvs: NDArray[np.float64], islands: NDArray[np.int32], even: bool
) -> NDArray[np.float64]:
    """Scale each island along u and v so that it has its surface's area and as little stretch as that allows."""
    count = int(islands.max()) + 1 if len(islands) else 0
    areas, flat = surface_areas(world), np.abs(signed_uv_areas(uvs))
    forms = np.nan_to_num(metric(world, uvs), nan=0.0, posinf=0.0)
    weighted = [np.bincount(islands, forms[:, column] * flat, count) for column in (0, 2)]
    scale_u, scale_v = (np.sqrt(np.maximum(part, 1e-30)) for part in weighted)
    squash = np.sqrt(scale_u / scale_v)
    surface, covered = np.bincount(islands, areas, count), np.bincount(islands, flat, count)
    if not even:
        # relative scales of the source stay; only the object's mean is brought to metres
        size = np.full(count, np.sqrt(surface.sum() / max(float(covered.sum()), 1e-300)))
        squash = np.ones(count)
    else:
        size = np.sqrt(np.maximum(surface, 1e-12) / np.maximum(covered, 1e-300))
    factors = np.stack([size * squash, size / squash], axis=1)
    scaled: NDArray[np.float64] = uvs * factors[islands][:, None, :]
    return scaled


@dataclass(frozen=True, eq=False)
class Wish:
    """What is to be done with one object: its policy and what was said of it by hand."""

    corners: Corners
    policy: str = "auto"
    shaping: Shaping = PLAIN


def flatten(
    corners: Corners, *, policy: str, even: bool, settings: UnwrapSettings | None = None, shaping: Shaping = PLAIN
) -> Flat:
    """Lay one object's surface flat; see `flatten_all`."""
    return flatten_all([Wish(corners, policy, shaping)], even=even, settings=settings or UnwrapSettings())[0]


def flatten_all(
    wishes: Sequence[Wish], *, even: bool, settings: UnwrapSettings, progress: Progress = SILENT
) -> list[Flat]:
    """Lay the surfaces of objects flat, so that what is alike among them comes out alike.

    Parameters
    ----------
    wishes : sequence of Wish
        The policy is ``keep``, which never unwraps what has UVs; ``auto``, which keeps clean islands and unwraps the
        rest; or ``unwrap``, which makes all anew.
    even : bool
        Give each island its surface's area; otherwise the relative scales of the source stay.
    settings : UnwrapSettings

    Returns
    -------
    list of Flat
        Each island's own box starts at (0, 0).
    """
    begun = [_Begun(wish, settings, even) for wish in wishes]
    rests = [np.flatnonzero(one.rest) for one in begun]
    if any(len(rest) for rest in rests):
        made = unwrap(
            np.concatenate([wish.corners.local[rest] for wish, rest in zip(wishes, rests, strict=True)]),
            settings,
            groups=np.repeat(np.arange(len(wishes)), [len(rest) for rest in rests]),
            seams=np.concatenate([one.seams[rest] for one, rest in zip(begun, rests, strict=True)]),
            joined=np.concatenate([one.joined[rest] for one, rest in zip(begun, rests, strict=True)]),
            progress=progress,
        )
        ends = np.cumsum([0, *(len(rest) for rest in rests)])
        for number, one in enumerate(begun):
            own = slice(ends[number], ends[number + 1])
            one.add(rests[number], made.corners[own], made.islands[own])
    return [one.flat() for one in begun]


class _Begun:
    """One object on its way: what is laid flat already, and what is left to unwrap."""

    def __init__(self, wish: Wish, settings: UnwrapSettings, even: bool) -> None:
        corners = wish.corners
        count = len(corners.world)
        self.wish = wish
        self.shaping = wish.shaping.fitting(count)
        self.place = np.zeros((count, 3, 2))
        self.islands = np.full(count, -1, np.int32)
        self.why = np.full(count, -1, np.int64)
        self.seams, self.joined = _edges(self.shaping.seams, count), _edges(self.shaping.joined, count)
        for hand in self.shaping.hand:
            which = np.array(hand.triangles, np.int64)
            self.add(which, np.array(hand.corners).reshape(-1, 3, 2), np.zeros(len(which), np.int32), SHAPED)
        for projection in reversed(self.shaping.projections):
            chosen = np.ones(count, np.bool_)
            if projection.triangles:
                chosen[:] = False
                chosen[np.array(projection.triangles, np.int64)] = True
            which = np.flatnonzero(chosen & (self.islands < 0))
            if len(which):
                place, islands = project(corners.local[which], projection)
                islands = renumber(islands)
                place = evened(corners.world[which], place, islands) if even else place
                self.add(which, place, islands, PROJECTED)
        self._keep(settings, even)
        self.rest: NDArray[np.bool_] = self.islands < 0

    def _keep(self, settings: UnwrapSettings, even: bool) -> None:
        """Keep what may be kept of the source UVs, and say why the rest may not."""
        corners, policy = self.wish.corners, self.wish.policy
        left = self.islands < 0
        has = left & np.asarray(np.isfinite(corners.source).all(axis=(1, 2)), np.bool_)
        self.why[left] = MISSING
        if not has.any():
            return
        world, uvs = corners.world[has], corners.source[has]
        result = find_islands(world, uvs)
        which = np.flatnonzero(has)
        some = Corners(world, uvs, corners.material[has], corners.primitive[has], corners.local[has])
        if policy == "unwrap":
            why = np.full(int(result.max()) + 1, ASKED)
        elif policy == "auto":
            why = judge_islands(some, uvs, result)
        else:
            why = np.zeros(int(result.max()) + 1, np.int64)
        touched, joined = (
            np.bincount(result, edges[which].any(axis=1), len(why)) > 0
            for edges in (self.seams | self.joined, self.joined)
        )
        only_cut = touched & ~joined & (why == KEPT)
        why[touched] = BY_HAND
        self.why[which] = why[result]
        cut = only_cut[result]
        if settings.keep_seams or touched.any():
            own = settings.keep_seams | (why[result] == BY_HAND)
            self.seams[which] |= uv_seams(world, uvs) & own[:, None]
            self.seams &= ~self.joined
        good = why[result] == KEPT
        clean = good | cut
        if clean.any():
            place = np.zeros_like(uvs)
            place[clean] = _to_metres(world[clean], uvs[clean], renumber(result[clean]), even)
            self.add(which[good], place[good], renumber(result[good]), KEPT)
            if cut.any():
                opened = split_along(uv_vertices(world[cut], uvs[cut]), self.seams[which[cut]])
                self.add(which[cut], *_eased(world[cut], place[cut], opened, even), BY_HAND)

    def add(
        self, which: NDArray[np.int64], place: NDArray[np.float64], islands: NDArray[np.int32], why: int = -1
    ) -> None:
        """Take over the places of some triangles."""
        if len(which):
            self.place[which] = place
            self.islands[which] = renumber(islands) + int(self.islands.max(initial=-1)) + 1
            if why >= 0:
                self.why[which] = why

    def flat(self) -> Flat:
        islands = renumber(self.islands)
        why = np.zeros(int(islands.max(initial=-1)) + 1, np.int64)
        why[islands] = self.why
        return Flat(_from_zero(self.place, islands), islands, self.why != KEPT, why)


def _eased(
    world: NDArray[np.float64], place: NDArray[np.float64], vertices: NDArray[np.int64], even: bool
) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
    """Return the places and islands of clean ones that were cut by hand, stretched ones relaxed into the opening.

    An open cut leaves one island; one that parts it leaves as many as it parts it into.
    """
    place, islands = place.copy(), renumber(connect(vertices))
    for number in range(int(islands.max()) + 1):
        own = islands == number
        if measure_stretch(world[own], place[own]).l2 < EASED:
            continue
        eased = _relaxed(world[own], place[own], vertices[own])
        place[own] = eased if even else eased * _like(eased, place[own])
    return place, islands


def _relaxed(
    world: NDArray[np.float64], place: NDArray[np.float64], vertices: NDArray[np.int64]
) -> NDArray[np.float64]:
    """Relax an island that is cut open; where the sides of the cut would lie on each other they stay closed."""
    start = Island(world, place, vertices)
    mask = np.zeros(len(start.places), np.int64)
    mask[start.vertex.ravel()] = weld(place.reshape(-1, 2), float(np.ptp(place)) * 1e-9)
    sides = np.bincount(mask)[mask] > 1
    shut = np.zeros(len(mask), np.bool_)
    for _ in range(ROUNDS):
        island = Island(world, place, vertices)
        island.relax(shut)
        over = np.unique(island.vertex[marked_overlaps(island.corners())])
        if not len(over):
            return island.corners()
        more = sides & np.isin(mask, mask[over]) & ~shut
        shut |= more if more.any() else sides
    return place


def _like(flat: NDArray[np.float64], other: NDArray[np.float64]) -> float:
    """Return the factor that gives flat triangles the area of others."""
    return float(np.sqrt(np.abs(signed_uv_areas(other)).sum() / max(np.abs(signed_uv_areas(flat)).sum(), 1e-300)))


def _edges(numbers: Sequence[int], count: int) -> NDArray[np.bool_]:
    result = np.zeros(3 * count, np.bool_)
    if len(numbers):
        result[np.array(numbers, np.int64)] = True
    return result.reshape(count, 3)


def uv_seams(world: NDArray[np.float64], uvs: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Return the edges along which UVs are cut though the surface is not, shape (T, 3)."""
    places = weld(world.reshape(-1, 3), position_tolerance(world)).reshape(-1, 3)
    flat = weld(uvs.reshape(-1, 2), max(float(np.ptp(uvs)) * 1e-6, 1e-7)).reshape(-1, 3)
    ends, flat_ends = (np.stack([rows, np.roll(rows, -1, axis=1)], axis=2).reshape(-1, 2) for rows in (places, flat))
    back = ends[:, 0] > ends[:, 1]
    ends[back], flat_ends[back] = ends[back][:, ::-1], flat_ends[back][:, ::-1]
    _, edge = unique_rows(ends)
    first, _ = unique_rows(np.column_stack([edge, flat_ends]))
    kinds = np.bincount(edge[first])
    cut: NDArray[np.bool_] = (kinds[edge] > 1).reshape(-1, 3)
    return cut


def _from_zero(flat: NDArray[np.float64], islands: NDArray[np.int32]) -> NDArray[np.float64]:
    low = np.full((int(islands.max()) + 1, 2), np.inf)
    np.minimum.at(low, islands, flat.min(axis=1))
    moved: NDArray[np.float64] = flat - low[islands][:, None, :]
    return moved


def cut_long(flat: Flat, world: NDArray[np.float64], longest: float, piece_length: float) -> Flat:
    """Cut islands longer than ``longest`` across, along the edges of their triangles.

    Both lengths are in metres; the pieces are about ``piece_length`` long.
    """
    count = int(flat.islands.max()) + 1 if len(flat.islands) else 0
    size = np.zeros((count, 2))
    np.maximum.at(size, flat.islands, flat.corners.max(axis=1))
    long = size.max(axis=1) > longest
    if not long.any():
        return flat
    axis = size.argmax(axis=1)
    pieces = np.where(long, np.ceil(size.max(axis=1) / piece_length - 1e-6), 1)
    middle = np.take_along_axis(flat.corners.mean(axis=1), axis[flat.islands][:, None], axis=1)[:, 0]
    piece = np.minimum(
        (middle / np.maximum(size.max(axis=1), 1e-30)[flat.islands] * pieces[flat.islands]),
        pieces[flat.islands] - 1,
    ).astype(np.int64)
    vertices = weld(world.reshape(-1, 3), position_tolerance(world)).reshape(-1, 3)
    key = flat.islands.astype(np.int64) * (int(pieces.max()) + 1) + piece
    _, key = np.unique(key, return_inverse=True)
    islands = renumber(connect(vertices * (int(key.max()) + 1) + key.reshape(-1, 1)))
    why = np.zeros(int(islands.max(initial=-1)) + 1, np.int64)
    why[islands] = flat.why[flat.islands]
    return Flat(_from_zero(flat.corners, islands), islands, flat.projected, why)
