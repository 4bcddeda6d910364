"""Light gathered at the texels of a sheet, pass after pass: each adds samples to all of it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.casting import casting_items
from fasciculum.baking.high import HighPolyProjector
from fasciculum.baking.light.lamps import lamp_rows
from fasciculum.baking.light.sky import SkyTables, sky_tables
from fasciculum.baking.light.surfaces import BOUNCED, PixelsOf, World, world_of
from fasciculum.baking.target import Target
from fasciculum.baking.tiling import Tiles
from fasciculum.baking.world import corners_in_world, diagonal_of, world_box
from fasciculum.kernels.light.gathering import ODD, SUMS, light_tiles, open_tiles
from fasciculum.kernels.light.texel_openings import CLOSED
from fasciculum.kernels.sampling.tiles import TILE, WIDE
from fasciculum.model.lamps import lamps_of
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.threads import in_pieces
from fasciculum.units import brightness

#: how far off its surface a ray of light begins, as a part of the diagonal of what casts
OFF = 2e-6
#: places of the high-poly that a texel is lit at, at most
MOST_PLACES = 4
#: part of a surface's texels that lie within other geometry from which it is taken for one that is turned inside out
INSIDE_OUT = 0.95
#: part of the texels, the darker ones, that noise is told of
USUAL = 0.99


@dataclass(frozen=True)
class LightTerms:
    """How light is gathered.

    Attributes
    ----------
    rays, bounces : int
        Paths from each texel, and surfaces that each comes to after the first.
    denoise : bool
        Whether noise is removed.
    emission : bool
        Whether what surfaces emit is part of how they look when lit.
    exposure : float, optional
        Stops that stored values are brighter by; None is found from the bundle.
    plain : bool
        Look along the cosine alone, as a measure for the other ways.
    """

    rays: int = 64
    bounces: int = 3
    denoise: bool = True
    emission: bool = True
    exposure: float | None = None
    plain: bool = False


@dataclass(frozen=True, eq=False)
class LightScene:
    """What shines in a scene and what its rays meet, as kernels read them."""

    world: World
    lamps: NDArray[np.float64]
    sky: SkyTables
    #: how far off its surface a ray begins, metres
    step: float

    @property
    def dark(self) -> bool:
        """Whether nothing shines at all."""
        return not len(self.lamps) and not len(self.world.emitters.chances) and int(self.sky.kind[0]) == 0


def world_in(whole: Scene, pixels: PixelsOf, *, sharp: int = BOUNCED, progress: Progress = SILENT) -> World:
    """Return all that light meets in a scene; ``sharp`` as for `fasciculum.baking.light.surfaces.world_of`."""
    items = casting_items(whole, [item.key for item in whole.objects], everything=True)
    return world_of(items, pixels, glow=whole.lighting.glow, sharp=sharp, progress=progress)


def shining_of(
    whole: Scene,
    pixels: PixelsOf,
    panorama: NDArray[np.float32] | None = None,
    progress: Progress = SILENT,
    *,
    sharp: int = BOUNCED,
    world: World | None = None,
) -> LightScene:
    """Return what shines in a scene, and all that its light meets.

    Parameters
    ----------
    whole : Scene
    pixels : callable
        Returns an image's stored values.
    panorama : ndarray of float32, shape (H, W, 3), optional
        The picture of its sky.
    sharp : int
        See `fasciculum.baking.light.surfaces.world_of`.
    world : World, optional
        What is met, where that is known.
    """
    if world is None:
        world = world_in(whole, pixels, sharp=sharp, progress=progress)
    lamps = lamp_rows(lamps_of(whole))
    others = bool(len(lamps) or len(world.emitters.chances))
    step = OFF * diagonal_of(world_box(whole, [item.key for item in whole.objects]))
    return LightScene(world, lamps, sky_tables(whole.lighting.sky, panorama, others=others), step)


class LightPasses:
    """Gathers light at the texels of a layout.

    Parameters
    ----------
    shining : Shining
    scene : Scene
        As it is laid out.
    layout : Layout
    target : Target
        Made of the same layout, brought to the map's size.
    width, height : int
        Of the map, texels.
    terms : LightTerms
    high : HighPolyProjector, optional
        On the same target.
    normals : ndarray of float32, shape (H, W, 3), optional
        How texels face by their normal maps, in the world; 0 where the surface itself says so.
    edges, angle
        How the mesh is shaded; see `fasciculum.baking.shading.edge_normals`.
    """

    def __init__(
        self,
        shining: LightScene,
        scene: Scene,
        layout: Layout,
        target: Target,
        width: int,
        height: int,
        terms: LightTerms,
        high: HighPolyProjector | None = None,
        *,
        normals: NDArray[np.float32] | None = None,
        edges: str = "source",
        angle: float = 40.0,
        progress: Progress = SILENT,
    ) -> None:
        self.shining, self.terms, self.target = shining, terms, target
        self.tiles = Tiles(target, width, height)
        self.corners = corners_in_world(scene, layout, edges, angle)
        self.openings = np.zeros((height, width), np.int32)
        self.sums = np.zeros((height, width, SUMS), np.float32)
        self.normals = np.zeros((1, 1, 3), np.float32) if normals is None else normals
        #: samples that each texel has by now
        self.done = 0
        self._own, self._starts, self._places = _places_of(high, self.tiles, progress)
        self._open(progress)
        if high is not None and high.missed.any():
            self.openings[high.missed] = CLOSED

    @property
    def _room(self) -> int:
        return 1 << max(self.terms.rays - 1, 0).bit_length()

    def _open(self, progress: Progress) -> None:
        """Find which parts of texels are open."""
        shining = self.shining

        def work(piece: NDArray[np.int64]) -> None:
            leading = (piece, self.tiles.across, self.tiles.ids(piece))
            place = (self.target.maps, self.corners, shining.world, shining.step)
            open_tiles(*leading, *place, self.openings)

        in_pieces(work, self.tiles.pieces(), words="Finding open surfaces", progress=progress)
        self._turn_out()

    def _turn_out(self) -> None:
        """Open surfaces again that lie within other geometry nearly everywhere: their fronts are turned inside."""
        if not (self.openings & CLOSED).any():
            return
        closed = np.zeros((int(self.target.surface.max(initial=-1)) + 1, 2), np.int64)
        pieces = self.tiles.pieces()
        shown = []
        for piece in pieces:
            ids = self.tiles.ids(piece)[:, 1:-1, 1:-1]
            surface = np.where(ids >= 0, self.target.surface[np.maximum(ids, 0)], -1)
            for number, tile in enumerate(piece.tolist()):
                y, x = tile // self.tiles.across * TILE, tile % self.tiles.across * TILE
                part = self.openings[y : y + TILE, x : x + TILE]
                own = surface[number, : part.shape[0], : part.shape[1]]
                shut = (part & CLOSED) > 0
                if shut.any():
                    np.add.at(closed[:, 0], own[(own >= 0) & shut], 1)
                    shown.append((part, own))
                np.add.at(closed[:, 1], own[own >= 0], 1)
        turned = closed[:, 0] > INSIDE_OUT * np.maximum(closed[:, 1], 1)
        for part, own in shown:
            part[(own >= 0) & turned[np.maximum(own, 0)]] &= ~CLOSED

    def run(self, last: int, progress: Progress = SILENT) -> None:
        """Bring every texel to so many samples.

        Raises
        ------
        Cancelled
        """
        first, shining, terms = self.done, self.shining, self.terms

        def work(piece: NDArray[np.int64]) -> None:
            leading = (piece, self.tiles.across, self.tiles.ids(piece))
            place = (self.target.maps, self.corners, self.openings, self._own, self._starts, self._places, self.normals)
            what = (shining.world, shining.lamps, shining.sky)
            how = (first, last, self._room, terms.bounces, shining.step, terms.plain)
            light_tiles(*leading, *place, *what, *how, self.sums)

        pieces = [piece[n : n + 1] for piece in self.tiles.pieces() for n in range(len(piece))]
        in_pieces(work, pieces, words=f"Tracing light, {last} of {terms.rays} rays", progress=progress)
        self.done = last

    @cached_property
    def lit(self) -> NDArray[np.bool_]:
        """Which texels have samples, (H, W)."""
        result: NDArray[np.bool_] = (self.openings & CLOSED) == 0
        return result & self.covered

    @cached_property
    def covered(self) -> NDArray[np.bool_]:
        """Which texels a triangle covers or lies next to, (H, W)."""
        return self.tiles.whole() >= 0

    def noise(self) -> float:
        """Return how noisy the light is: the standard deviation of its brightness, over its mean; 0 without any.

        As far as both halves of the samples tell, which is rather too much; the brightest hundredth is left out.
        """
        if self.done < 2:
            return 1.0
        lit = self.lit
        total = brightness(self.sums[lit, :3])
        odd = self.sums[lit, ODD]
        halves = self.done // 2, self.done - self.done // 2
        # what both halves of the samples say apart, halved, is the error of their mean
        away = np.abs(odd / halves[0] - (total - odd) / halves[1]) / 2
        light = total / self.done
        # the few texels beside a lamp would outweigh all others
        usual = light <= np.quantile(light, USUAL) if len(light) else np.zeros(0, np.bool_)
        mean = float(light[usual].mean()) if usual.any() else 0.0
        return float(np.sqrt((away[usual] ** 2).mean())) / mean if mean > 0 else 0.0


def steps_of(rays: int) -> Iterator[int]:
    """Yield how many samples texels have after each pass: a first look soon, then twice as many each time."""
    done = min(2, rays)
    while done < rays:
        yield done
        done *= 2
    yield rays


def _places_of(
    high: HighPolyProjector | None, tiles: Tiles, progress: Progress
) -> tuple[NDArray[np.int32], NDArray[np.int64], NDArray[np.float64]]:
    """Return the number of each texel that reads the high-poly, -1 of others, and where it is lit on that.

    Returns
    -------
    own : ndarray of int32, shape (H, W) or (1, 1)
    starts : ndarray of int64, shape (K + 1,)
    places : ndarray of float64, shape (P, 10)
    """
    if high is None or not high.pairs:
        return np.full((1, 1), -1, np.int32), np.zeros(1, np.int64), np.zeros((0, 10))
    own = np.full((tiles.height, tiles.width), -1, np.int32)
    counts: list[NDArray[np.int64]] = [np.zeros(1, np.int64)]
    places: list[NDArray[np.float64]] = [np.zeros((0, 10))]
    made = 0
    for piece in tiles.pieces(tiles.of(high.paired)):
        progress.check()
        ids = tiles.ids(piece)
        hits = high.hits(piece, tiles.across, ids)
        if hits is None:
            continue
        n, rest = np.divmod(hits.texels, WIDE * WIDE)
        y, x = np.divmod(rest, WIDE)
        row, column = piece[n] // tiles.across * TILE - 1 + y, piece[n] % tiles.across * TILE - 1 + x
        inner = (y > 0) & (x > 0) & (y < WIDE - 1) & (x < WIDE - 1) & (row < tiles.height) & (column < tiles.width)
        kept = np.flatnonzero(inner & (hits.found >= 0))
        if not len(kept):
            continue
        # the first few of each texel
        texel = hits.texels[kept]
        begins = np.concatenate([[True], texel[1:] != texel[:-1]])
        group = np.cumsum(begins) - 1
        order = np.arange(len(kept)) - np.flatnonzero(begins)[group]
        sizes = np.bincount(group)
        stride = np.maximum(sizes // MOST_PLACES, 1)[group]
        chosen = kept[(order % stride == 0) & (order // stride < MOST_PLACES)]
        first = kept[begins]
        own[row[first], column[first]] = made + np.arange(len(first))
        counts.append(np.bincount(group[(order % stride == 0) & (order // stride < MOST_PLACES)]))
        made += len(first)
        spots = np.zeros((len(chosen), 10))
        spots[:, :9] = high.places(hits)[chosen]
        places.append(spots)
    return own, np.cumsum(np.concatenate(counts)), np.ascontiguousarray(np.concatenate(places))


def brightest(values: NDArray[np.float32], share: float = 0.99) -> float:
    """Return the brightness below which a share of texels (N, 3) lies."""
    if not len(values):
        return 1.0
    return float(np.quantile(brightness(values), share))
