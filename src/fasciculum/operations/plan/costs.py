"""What a group of objects costs, for many choices of what goes onto its sheet at once, and for each size of it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, fields

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.choices import Repeats, Share, Treatment
from fasciculum.model.maps import EMISSIVE, NORMAL, ORM
from fasciculum.model.scene import Scene
from fasciculum.model.terms import Terms
from fasciculum.operations.lay_out.forecast import BOXY, RAGGED
from fasciculum.operations.plan.figures import HIGH_SHARE, PLAIN_SHARE, GroupFigures, MaterialFigures
from fasciculum.treatments.even import Even, even_of
from fasciculum.treatments.reading import held_meshes
from fasciculum.treatments.regions import swatch_edge
from fasciculum.units import texture_bytes

#: the least part of a sheet's edge that a map has, when it holds nothing finer
LEAST_PART = 0.25
#: part of the surface below which a map's detail counts for less
LITTLE = 0.05
#: density of surfaces where nothing on the sheet has a texture, px/m
BARE_DENSITY = 64.0
#: what is laid out must keep at least this of its sharpness to be a plan at all
LEAST_YIELD = 0.6
#: part of the fill that is usual which a plan counts on, so that it is held rather than missed
SURE, SURE_BLOCKS = 0.85, 0.95
#: edges of sheets, texels
EDGES = (16, 32, 64, 128, 256, 512, 1024, 2048, 4096, 8192, 16384)


def sheet_sizes(terms: Terms) -> list[tuple[int, int]]:
    """Return the sizes that a sheet may have, smallest first: powers of two, as wide as high or twice as wide."""
    return sizes_up_to(terms.largest) if terms.size is None else [terms.size]


def sizes_up_to(largest: int) -> list[tuple[int, int]]:
    """Return the sizes of sheets that are at most so wide, smallest first."""
    sizes = [(wide, high) for wide in EDGES for high in (wide // 2, wide) if high >= EDGES[0] and wide <= largest]
    return sorted(sizes, key=lambda size: size[0] * size[1])


@dataclass(frozen=True, eq=False)
class Options:
    """Choices for one group, a row for each.

    Attributes
    ----------
    laid : ndarray of bool, shape (N, M)
        The materials on its sheet.
    size : ndarray of int64, shape (N,)
        Which of the sizes; -1 without a sheet.
    calls : ndarray of int64, shape (N,)
    sheet_bytes : ndarray of float64, shape (N,)
    images : ndarray of bool, shape (N, I)
        Images that are read by what is kept apart.
    sharpness : ndarray of float64, shape (N,)
        The yield on the sheet, at most 1.
    area : ndarray of float64, shape (N,)
        Surface with detail on the sheet, square metres.
    several : ndarray of int64, shape (N,)
        Which of the divisions over several sheets; -1 for one sheet at most.
    """

    laid: NDArray[np.bool_]
    size: NDArray[np.int64]
    calls: NDArray[np.int64]
    sheet_bytes: NDArray[np.float64]
    images: NDArray[np.bool_]
    sharpness: NDArray[np.float64]
    area: NDArray[np.float64]
    several: NDArray[np.int64]

    def rows(self, which: NDArray[np.int64]) -> Options:
        """Return some of the choices."""
        return Options(
            self.laid[which],
            self.size[which],
            self.calls[which],
            self.sheet_bytes[which],
            self.images[which],
            self.sharpness[which],
            self.area[which],
            self.several[which],
        )

    def with_more(self, other: Options) -> Options:
        """Return these choices and others behind them."""
        return Options(*(np.concatenate([getattr(self, one.name), getattr(other, one.name)]) for one in fields(self)))

    def __len__(self) -> int:
        return len(self.size)


class GroupCosts:
    """The costs of one group.

    Parameters
    ----------
    scene : Scene
    figures : GroupFigures
    terms : Terms
    """

    def __init__(self, scene: Scene, figures: GroupFigures, terms: Terms) -> None:
        self.figures, self.terms = figures, terms
        self.sizes = sheet_sizes(terms)
        materials = figures.materials
        held = held_meshes(scene, figures.objects)
        paired = [key for key in figures.objects if scene.nodes[scene.object(key).node].mesh in held]
        self.even: list[Even] = [even_of(scene, one.index, paired if one.paired else ()) for one in materials]
        rows, times = np.unique(figures.shown, axis=0, return_counts=True)
        #: the materials that things show that are drawn at once, (D, M), and how many show the same
        self._drawn = rows.astype(np.float32), times.astype(np.int64)
        self.flat = np.array([one.flat and terms.swatches for one in materials], np.bool_)
        self.detailed = np.array([one.detailed for one in materials], np.bool_)
        self.area = np.array([one.area if one.detailed else 0.0 for one in materials])
        texels = sum(one.texels for one in materials)
        whole = sum(one.area for one in materials if one.texels > 0)
        #: px/m that textures have here, on average
        self.density = math.sqrt(texels / whole) if texels > 0 and whole > 0 else BARE_DENSITY
        self.ways = [self.way_of(one) for one in materials]
        #: for each map a number for each material's value, whether it varies, and the part of the edge that it has
        self._held = [self._levels(name) for name in ("base_color", NORMAL.name, ORM.name, EMISSIVE.name)]
        #: materials that may be kept apart, and those that may lie on the sheet
        self.may_part = np.array([self._may_part(one) for one in materials], np.bool_) | self.flat
        self.may_lie = ~self.may_part | np.array([self._may_lie(one) for one in materials], np.bool_)

    def _levels(self, name: str) -> tuple[NDArray[np.float64], NDArray[np.bool_], NDArray[np.float64] | None]:
        level = [even.levels[name] for even in self.even]
        names = {value: number for number, value in enumerate(dict.fromkeys(level))}
        ratio = None if name == "base_color" else [one.ratios.get(name, 0.0) for one in self.figures.materials]
        return (
            np.array([names[value] for value in level], np.float64),
            np.array([value is None for value in level], np.bool_),
            None if ratio is None else np.array(ratio),
        )

    def _may_part(self, one: MaterialFigures) -> bool:
        if one.paired or (self.terms.repeats in ("bake", "cut", "lane") and one.repeats):
            return False
        return one.index >= 0 and (one.detailed or self.terms.may_part_plain)

    def _may_lie(self, one: MaterialFigures) -> bool:
        if self.terms.repeats == "apart" and one.repeats:
            return False
        most = self.terms.most_repeats
        return not (most is not None and one.span > most and self.way_of(one) is Treatment.BAKE)

    def way_of(self, one: MaterialFigures) -> Treatment:
        """Return how a material would lie on the sheet: on a swatch, cut at its repeats if that is less, or baked."""
        if one.flat and self.terms.swatches:
            return Treatment.SWATCH
        rule = self.terms.repeats
        if rule == "lane" and one.lane is not None:
            return Treatment.LANE
        room = one.texels
        way = Treatment.BAKE
        if self.terms.share == Share.AUTO and one.block is not None and (not one.repeats or rule == Repeats.AUTO):
            room, way = one.block[0], Treatment.BLOCK
        may_cut = rule in ("auto", "cut", "lane") and one.cut is not None
        if may_cut and one.cut is not None and (rule == "cut" or one.cut[0] * one.cut[1] < room):
            return Treatment.CUT
        return way

    # -- what lies on the sheet -------------------------------------------------------------------------------

    def measure(self, ways: Sequence[Treatment]) -> NDArray[np.float64]:
        """Return texels, boxes, half the girth and islands of each material on the sheet at full sharpness, (4, M)."""
        result = np.zeros((4, len(ways)))
        for number, (way, one) in enumerate(zip(ways, self.figures.materials, strict=True)):
            if way in (Treatment.SWATCH, Treatment.LANE, Treatment.APART):
                continue
            if way is Treatment.CUT and one.cut is not None:
                wide, high = one.cut
                result[:, number] = wide * high, wide * high, wide + high, 1
            elif way is Treatment.BLOCK and one.block is not None:
                result[:, number] = one.block
            elif one.texels > 0:
                result[:, number] = one.texels, one.boxes, one.girth, one.islands
            else:
                edge = self.density * (1.0 if one.detailed else HIGH_SHARE if one.paired else PLAIN_SHARE)
                texels = one.area * edge**2
                result[:, number] = texels, texels / 0.6, 2 * math.sqrt(texels / 0.6 * one.islands), one.islands
        return result

    def sharpness(
        self, laid: NDArray[np.bool_], ways: Sequence[Treatment], sizes: Sequence[tuple[int, int]] | None = None
    ) -> NDArray[np.float64]:
        """Return the yield at each size, at most 1, shape (N, K); 0 where a sheet is too small.

        Parameters
        ----------
        laid : ndarray of bool, shape (N, M)
        ways : sequence of Way
            Of the materials, where they are on the sheet.
        sizes : sequence of tuple of int, optional
            Those that may be without.
        """
        sizes = self.sizes if sizes is None else sizes
        padding = self.terms.padding
        border, around = (padding + 1) // 2, padding + 1
        measured = self.measure(ways)
        sums: NDArray[np.float64] = measured @ laid.T.astype(np.float64)
        texels, _, girth, islands = sums
        usual = usual_fill(ways, measured, laid)
        result = np.zeros((len(laid), len(sizes)))
        values = {self.even[m].values for m in np.flatnonzero(self.flat).tolist()}
        edge = swatch_edge(padding)
        swatches = (laid & self.flat[None, :]).any(axis=1)
        lanes = [
            (m, one.lane) for m, one in enumerate(self.figures.materials) if ways[m] is Treatment.LANE and one.lane
        ]
        for k, (wide, high) in enumerate(sizes):
            strips = np.zeros(len(laid))
            for m, (along, across) in lanes:
                repeats = max(1, round(wide / along))
                strips += laid[:, m] * (math.ceil(across * wide / (repeats * along)) + around)
            row = max(wide // edge, 1)
            rows = -(-len(values) // row) if values else 0
            cells = rows * edge * swatches
            low = high - 2 * border - strips
            room = (
                usual * ((wide - 2 * border) * np.maximum(low, 0) - len(values) * edge**2 * swatches)
                - islands * around**2
            )
            half = girth * around
            solved = (-half + np.sqrt(half**2 + 4 * texels * np.maximum(room, 0))) / (2 * np.maximum(texels, 1e-9))
            solved = np.where(texels > 0, solved, 1.0)
            taken = strips + cells + np.where(strips > 0, 2 * border, 0)
            fits = (taken <= high) & (~swatches | np.bool_(wide >= edge))
            result[:, k] = np.where(fits & ((room > 0) | (texels <= 0)), np.minimum(solved, 1.0), 0.0)
        return result

    def map_parts(self, laid: NDArray[np.bool_]) -> NDArray[np.float64]:
        """Return the part of the sheet's edge that each map has, shape (N, 4); 0 where it is not written.

        Base colour, normal, surface (occlusion, roughness, metallic) and emission.
        """
        result = np.zeros((len(laid), 4))
        for column, (labels, varied, ratio) in enumerate(self._held):
            low = np.where(laid, labels, np.inf).min(axis=1, initial=np.inf)
            high = np.where(laid, labels, -np.inf).max(axis=1, initial=-np.inf)
            needed = (laid & varied).any(axis=1) | (low != high)
            if ratio is None:
                part = np.ones(len(laid))
            else:
                part = np.where(laid, ratio, 0.0).max(axis=1, initial=0.0)
                # what little of the surface has detail there does with half of it
                shown = np.where(laid & (ratio > 0), self.area, 0.0).sum(axis=1)
                part = np.where(shown < LITTLE * self.area.sum(), part / 2, part)
                part = np.clip(2.0 ** np.ceil(np.log2(np.maximum(part, 1e-3)) - 1e-6), LEAST_PART, 1.0)
            result[:, column] = np.where(needed & laid.any(axis=1), part, 0.0)
        return result

    # -- choices ----------------------------------------------------------------------------------------------

    def options(self, laid: NDArray[np.bool_], ways: Sequence[Treatment] | None = None) -> Options:
        """Return what choices of materials cost at each size that is worth while.

        Parameters
        ----------
        laid : ndarray of bool, shape (N, M)
            The materials on the sheet.
        ways : sequence of Way, optional
            How they lie there; as `way_of` says without.
        """
        ways = self.ways if ways is None else ways
        some: NDArray[np.bool_] = np.asarray(laid.any(axis=1), np.bool_)
        yields = self.sharpness(laid, ways)
        sharp_enough = yields >= LEAST_YIELD
        if not sharp_enough.any():
            # the largest sheet that is allowed cannot: what it can is a plan then
            sharp_enough = (yields > 0) & (yields >= yields.max(axis=1, keepdims=True))
        # once all is as sharp as its source, a larger sheet gives nothing
        first = np.where((yields >= 1).any(axis=1), (yields >= 1).argmax(axis=1), len(self.sizes))
        sharp_enough &= np.arange(len(self.sizes))[None, :] <= first[:, None]
        row, size = np.nonzero(np.asarray(sharp_enough & some[:, None]))
        none = np.flatnonzero(~some)
        parts = self.map_parts(laid)
        bytes_of = np.zeros((len(laid), len(self.sizes)))
        for k, (wide, high) in enumerate(self.sizes):
            for part in np.unique(parts[parts > 0]).tolist():
                one = texture_bytes(max(round(wide * part), 1), max(round(high * part), 1))
                bytes_of[:, k] += one * (parts == part).sum(axis=1)
        images = ((~laid).astype(np.float64) @ self.figures.reads.astype(np.float64)) > 0
        calls = self.calls(laid)
        area = (laid * self.area[None, :]).sum(axis=1)
        rows = np.concatenate([row, none])
        return Options(
            laid[rows],
            np.concatenate([size, np.full(len(none), -1)]).astype(np.int64),
            calls[rows],
            np.concatenate([bytes_of[row, size], np.zeros(len(none))]),
            images[rows],
            np.concatenate([yields[row, size], np.ones(len(none))]),
            area[rows],
            np.full(len(rows), -1, np.int64),
        )

    def map_bytes(self, laid: NDArray[np.bool_], size: int) -> float:
        """Return what the maps of a sheet of a size, by its number, take where these materials lie on it, (M,)."""
        wide, high = self.sizes[size]
        parts = self.map_parts(laid[None, :])[0]
        return float(sum(texture_bytes(max(round(wide * p), 1), max(round(high * p), 1)) for p in parts if p > 0))

    def calls(self, on: NDArray[np.bool_]) -> NDArray[np.int64]:
        """Return the draw calls, shape (N,), of choices of what lies on the sheet."""
        # things that show the same materials are drawn alike, and most materials stand for themselves alone
        shown, times = self._drawn
        calls: NDArray[np.int64] = ((on.astype(np.float32) @ shown.T) > 0).astype(np.int64) @ times
        leaders = self.figures.leaders
        groups = np.bincount(leaders, minlength=len(leaders))
        alone = groups[leaders] == 1
        often = (shown.astype(np.int64).T @ times) * alone
        calls += (~on).astype(np.int64) @ often
        for leader in np.flatnonzero(groups > 1).tolist():
            own = (leaders == leader)[None, :]
            calls += (((~on & own).astype(np.float32) @ shown.T) > 0).astype(np.int64) @ times
        return calls


def usual_fill(
    ways: Sequence[Treatment], measured: NDArray[np.float64], laid: NDArray[np.bool_]
) -> NDArray[np.float64]:
    """Return the part of a sheet that surely is filled, shape (N,).

    Regions of textures fill more than islands do: most are boxes, and few.

    Parameters
    ----------
    ways : sequence of Treatment
        How the materials lie there.
    measured : ndarray of float64, shape (4, M)
        What `GroupCosts.measure` says of them.
    laid : ndarray of bool, shape (N, M)
        The materials on the sheet.
    """
    on = laid.T.astype(np.float64)
    texels, boxes = measured[:2] @ on
    in_blocks = (measured[0] * np.array([way is Treatment.BLOCK for way in ways])) @ on
    share = np.where(texels > 0, in_blocks / np.maximum(texels, 1e-9), 0.0)
    boxed = np.where(boxes > 0, texels / np.maximum(boxes, 1e-9), 1.0)
    result: NDArray[np.float64] = (SURE + (SURE_BLOCKS - SURE) * share) * (RAGGED + (BOXY - RAGGED) * boxed)
    return result
