"""What texels of the low-poly read of the high-poly: rays from each, and what they meet, tile by tile."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from copy import copy
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.high_tables import as_target, high_tables, shown_colors
from fasciculum.baking.materials import MaterialSource
from fasciculum.baking.reaching import ROW, RayTargets, low_rows, mark_single_sheets
from fasciculum.baking.shading import edge_normals
from fasciculum.baking.target import Target, upright
from fasciculum.baking.world import world_normals
from fasciculum.kernels.rays.hit_attributes import (
    count_missed,
    face_hits,
    gather_hits,
    place_hits,
    shade_hits,
    turn_hits,
)
from fasciculum.kernels.rays.projection import find_edges, probe_tiles, probe_within, rays_of_hits
from fasciculum.kernels.sampling.textures import CHANNELS
from fasciculum.kernels.sampling.tiles import TILE, WIDE
from fasciculum.model.choices import Reads
from fasciculum.model.detail import Pair, Span
from fasciculum.model.layout import Layout
from fasciculum.model.maps import NORMAL_VALUES, Role
from fasciculum.model.scene import Image, Object, Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.uv.tangents import tangents, unit

#: rays of a texel that an edge of what is read runs through, and the turn that is an edge, degrees
FINER, TURNED = 16, 12.0
#: of what is not read, and of what meets nothing
ASIDE, MISSED = -2, -1


class Hits(NamedTuple):
    """What texels of some tiles read; one row for each ray, those of a texel one after the other.

    Attributes
    ----------
    texels : ndarray of int64, shape (S,)
        Flat numbers among (N, WIDE, WIDE).
    low, found : ndarray of int32, ndarray of int64, shape (S,)
        The triangle of the sheet, and of what is read, -1 where the ray meets nothing.
    where : ndarray of float64, shape (S, 6)
        Two weights on what is met, how far outwards it lies, which side, and the place on the sheet.
    rays : ndarray of float64, shape (S, 8)
        Place, direction, out and in.
    fine : ndarray of bool, shape (S,)
        Whether the ray is one of several of its texel.
    """

    texels: NDArray[np.int64]
    low: NDArray[np.int64]
    found: NDArray[np.int64]
    where: NDArray[np.float64]
    rays: NDArray[np.float64]
    fine: NDArray[np.bool_]
    share: float = 1.0 / FINER


class HighPolyProjector:
    """Casts rays from the texels of a target whose objects have high-poly partners.

    Parameters
    ----------
    scene : Scene
        As it is laid out, with its detail.
    layout : Layout
    target : Target
        Made of the same layout.
    told : Span
        The reach that the bundle says, 0 for what is found.
    reads : Reads
    pixels : callable
        Returns an image's stored values.
    roles : frozenset of Role
        The textures that are wanted.
    """

    def __init__(
        self,
        scene: Scene,
        layout: Layout,
        target: Target,
        told: Span,
        reads: Reads,
        pixels: Callable[[Image], NDArray[Any]],
        *,
        roles: frozenset[Role],
        cutoff: float | None = None,
        tinted: bool = True,
        edges: str = "source",
        angle: float = 40.0,
        progress: Progress = SILENT,
    ) -> None:
        detail = scene.detail
        assert detail is not None
        self.target = target
        self.pairs: dict[int, tuple[str, Pair]] = {}
        self._copies = [surface.objects for surface in layout.surfaces]
        every = tuple(item.key for item in detail.scene.objects)
        groups: dict[tuple[str, ...], int] = {}
        self.group = np.full(len(target.corners), -1, np.int32)
        rows, frames = [np.zeros((0, 3, ROW))], [np.zeros((0, 3, 7))]
        mirrored = np.zeros(len(target.corners), np.bool_)
        sheet = np.array([layout.across, layout.height], np.float64)
        for index, surface in enumerate(layout.surfaces):
            key, pair = paired_of(scene, surface.objects)
            own = target.surface == index
            item = scene.object(surface.objects[0] if pair is None else key)
            if pair is None:
                count = int(own.sum())
                rows.append(np.zeros((count, 3, ROW)))
                frames.append(np.zeros((count, 3, 7)))
                continue
            keys = every if reads is Reads.EVERY else pair.high
            group = groups.setdefault((item.key, *keys), len(groups))
            self.pairs[index] = key, pair
            self.group[own] = group
            rows.append(low_rows(scene, key, pair.reach(told), pair.handles, detail.cage_of(pair)))
            linear = scene.nodes[item.node].world[:3, :3]
            mirrored[own] = np.linalg.det(linear) < 0
            frames.append(_frames(scene, item, surface, layout.sheet_corners(index) / sheet, edges, angle))
        self.low = np.ascontiguousarray(np.concatenate(rows))
        self._frames, self._mirrored = np.ascontiguousarray(np.concatenate(frames)), mirrored
        partners: dict[tuple[str, ...], RayTargets] = {}
        used = list(dict.fromkeys(key for _, *keys in groups for key in keys))
        self.tables = high_tables(detail.scene, used, roles, progress)
        #: of each group: what is read, numbers of its triangles in the tables, and the low-poly itself
        self._groups: list[tuple[RayTargets, NDArray[np.int64], RayTargets]] = []
        for low, *rest in groups:
            chosen = tuple(rest)
            if chosen not in partners:
                partners[chosen] = RayTargets(detail.scene, chosen, pixels, progress)
            present = partners[chosen]
            spread = [np.zeros(0, np.int64)]
            for key in chosen:
                count = sum(len(one.triangles) for one in detail.scene.primitives_of(detail.scene.object(key)))
                spread.append(self.tables.starts[key] + np.arange(count))
            whole = np.concatenate(spread)
            numbers = (
                np.where(present.numbers >= 0, whole[np.maximum(present.numbers, 0)], -1)
                if len(whole)
                else (np.full(len(present.numbers), -1, np.int64))
            )
            own_side = RayTargets(scene, [low])
            members = self.group == len(self._groups)
            rows_of_group = self.low[members]
            mark_single_sheets(rows_of_group, own_side, present)
            self.low[members] = rows_of_group
            self._groups.append((present, numbers, own_side))
        self._materials = MaterialSource(
            detail.scene, as_target(self.tables, tinted=tinted), pixels, roles=roles, cutoff=cutoff
        )
        self._source = self._materials.tables_of_materials(self.tables.uvs, shown_colors(self.tables, tinted))
        self.missed = np.zeros((0, 0), np.bool_)
        self.counts = np.zeros((len(layout.surfaces), 2), np.int64)
        self._lock, self._kept = threading.Lock(), threading.local()

    def on(self, target: Target, width: int, height: int) -> HighPolyProjector:
        """Return the same reader for another size of the sheet, with nothing counted yet."""
        result = copy(self)
        result.target = target
        result.missed = np.zeros((height, width), np.bool_)
        result.counts = np.zeros_like(self.counts)
        result._lock, result._kept = threading.Lock(), threading.local()
        return result

    @property
    def paired(self) -> NDArray[np.bool_]:
        """Which triangles of the target read the high-poly, (T,)."""
        result: NDArray[np.bool_] = self.group >= 0
        return result

    def hits(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32]) -> Hits | None:
        """Return what texels of tiles read, None where none reads anything; kept until other tiles are asked for."""
        known = getattr(self._kept, "tiles", None)
        if known is not None and len(known) == len(tiles) and np.array_equal(known, tiles):
            result: Hits | None = self._kept.hits
            return result
        self._kept.hits = self._cast(tiles, across, ids)
        self._kept.tiles = tiles.copy()
        self._kept.places = None
        hits: Hits | None = self._kept.hits
        if hits is not None:
            self._count(hits, tiles, across)
        return hits

    def _cast(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32]) -> Hits | None:
        concerned = (ids >= 0) & (self.group[np.maximum(ids, 0)] >= 0)
        if not concerned.any():
            return None
        maps = self.target.maps
        result = np.full(ids.shape, ASIDE, np.int64)
        where = np.zeros((*ids.shape, 4))
        groups = np.unique(self.group[ids[concerned]]).tolist()
        for group in groups:
            present, numbers, own = self._groups[group]
            leading = (maps, self.low, self.group, group, present.tree, numbers, present.sides, own.tree)
            probe_tiles(tiles, across, ids, *leading, result, where)
        marked = np.zeros(ids.shape, np.bool_)
        level = float(np.cos(np.radians(TURNED)))
        find_edges(ids, result, where, self.tables.normals, self.tables.part, level, marked)
        single = np.flatnonzero(concerned & ~marked)
        texels = np.flatnonzero(marked)
        n, rest = np.divmod(single, WIDE * WIDE)
        y, x = np.divmod(rest, WIDE)
        places = np.empty((len(single), 6))
        places[:, :4] = where.reshape(-1, 4)[single]
        places[:, 4] = (tiles[n] % across) * TILE - 1 + x + 0.5
        places[:, 5] = (tiles[n] // across) * TILE - 1 + y + 0.5
        many = FINER
        finer, fine = np.full((len(texels), many), MISSED, np.int64), np.zeros((len(texels), many, 6))
        if len(texels):
            for group in groups:
                present, numbers, own = self._groups[group]
                leading = (maps, self.low, self.group, group, present.tree, numbers, present.sides, own.tree)
                probe_within(texels, tiles, across, ids, *leading, many, finer, fine)
        which = np.concatenate([single, np.repeat(texels, many)])
        low = ids.reshape(-1)[which].astype(np.int64)
        spread = np.concatenate([places, fine.reshape(-1, 6)])
        rays = np.empty((len(which), 8))
        rays_of_hits(low, maps, self.low, spread, rays)
        return Hits(
            which,
            low,
            np.concatenate([result.reshape(-1)[single], finer.reshape(-1)]),
            spread,
            rays,
            np.repeat([False, True], [len(single), len(texels) * many]),
        )

    def _count(self, hits: Hits, tiles: NDArray[np.int64], across: int) -> None:
        """Keep which texels meet nothing, and how many there are of each surface; what lies beside islands aside."""
        counts = np.zeros_like(self.counts)
        surface = self.target.surface
        count_missed(hits.texels, hits.found, hits.low, tiles, across, self.target.maps, surface, counts, self.missed)
        with self._lock:
            self.counts += counts

    def places(self, hits: Hits) -> NDArray[np.float64]:
        """Return where rays met surfaces, the normal there and that of the face, (S, 9), in the world."""
        if self._kept.places is None:
            self._kept.places = np.zeros((len(hits.found), 9))
            place_hits(hits.found, hits.where, self.tables.corners, self.tables.normals, self._kept.places)
        kept: NDArray[np.float64] = self._kept.places
        return kept

    def shaded(self, hits: Hits) -> NDArray[np.float32]:
        """Return what materials give where rays met surfaces, (S, 16), normals in the sheet's frames."""
        tables = self.tables
        values, facing = np.zeros((len(hits.found), CHANNELS), np.float32), np.zeros((len(hits.found), 3))
        rays = (hits.low, hits.found, hits.where, hits.fine, self.low, self.target.maps, hits.rays)
        shade_hits(*rays, tables.corners, self._source, 1, FINER**-0.5, values)
        met = (hits.found, hits.where, self.places(hits), tables.tangents, tables.material)
        face_hits(*met, self._materials.bumpy, values, facing)
        turn_hits(hits.low, hits.where, self.target.maps, self._frames, self._mirrored, facing)
        values[:, NORMAL_VALUES[0] : NORMAL_VALUES[-1] + 1] = facing
        return values

    def turned(self, hits: Hits, vectors: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return vectors in the world, (S, 3), in the sheet's frames."""
        result = np.ascontiguousarray(vectors, np.float64).copy()
        turn_hits(hits.low, hits.where, self.target.maps, self._frames, self._mirrored, result)
        return result

    def colors(self, hits: Hits) -> NDArray[np.float64]:
        """Return the vertex colours where rays met surfaces, (S, 4)."""
        table, own = self.tables.colors, np.maximum(hits.found, 0)
        rows = table[own if len(table) > 1 else np.zeros_like(own)].astype(np.float64)
        u, v = hits.where[:, 0], hits.where[:, 1]
        result: NDArray[np.float64] = np.einsum("nij,ni->nj", rows, np.stack([1.0 - u - v, u, v], axis=1))
        return result

    @staticmethod
    def means(hits: Hits, values: NDArray[Any], found: NDArray[np.float32], last: int = 0, unit: int = -1) -> None:
        """Write the means of rays of a texel, (S, K), into ``found`` (N, WIDE, WIDE, K), up to a column or all.

        Three columns from ``unit`` on are unit vectors.
        """
        flat = found.reshape(-1, found.shape[-1])
        gather_hits(hits.texels, hits.found, last or values.shape[1], unit, values, flat)

    def shares(self) -> tuple[tuple[str, float], ...]:
        """Return for each object that is read from high-poly ones the part of its texels that met nothing."""
        results = []
        for index in self.pairs:
            whole, lost = self.counts[index].tolist()
            results += [(key, lost / whole) for key in self._copies[index] if whole]
        return tuple(results)


def paired_of(scene: Scene, objects: Sequence[str]) -> tuple[str, Pair | None]:
    """Return which of the objects of a place reads high-poly ones, and its pair; the first, and None, if none does."""
    detail = scene.detail
    for key in objects:
        pair = detail.pair(key) if detail is not None else None
        if pair is not None and pair.high:
            return key, pair
    return objects[0], None


def greatest_reach(high: HighPolyProjector, told: Span) -> float:
    """Return the greatest reach of a reader's pairs, in or out, metres: what height is told by."""
    return max((pair.greatest(told) for _, pair in high.pairs.values()), default=0.0)


def _frames(
    scene: Scene, item: Object, surface: Any, sheet: NDArray[np.float64], edges: str, angle: float
) -> NDArray[np.float64]:
    """Return the frames at the corners of an object on its sheet, (T, 3, 7): normal, tangent, the third axis' sign."""
    linear = upright(scene.nodes[item.node].world)
    primitives = scene.primitives_of(item)
    parts, first = [np.zeros((0, 3, 7))], 0
    for primitive, normals in zip(primitives, edge_normals(primitives, surface, edges, angle), strict=True):
        last = first + len(primitive.triangles)
        places = primitive.positions.astype(np.float64)[primitive.triangles]
        along = tangents(places, normals, sheet[first:last])
        part = np.empty((len(places), 3, 7))
        part[..., :3] = world_normals(normals, linear)
        part[..., 3:6] = unit(along[..., :3] @ linear.T)
        part[..., 6] = along[..., 3]
        parts.append(part)
        first = last
    return np.concatenate(parts)
