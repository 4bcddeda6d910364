"""From a bundle's layout to its maps: who gives the values of each kind, maps of one size together.

A kind of `fasciculum.model.maps.KINDS` names where its values come from; whoever gives them has an entry here.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from copy import copy
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.bleeding import bleed
from fasciculum.baking.geometry import GeometrySource
from fasciculum.baking.high import HighPolyProjector, greatest_reach, paired_of
from fasciculum.baking.high_sources import HeightSource, HighColors, HighMaterials, HighRays
from fasciculum.baking.identifiers import identify, palette
from fasciculum.baking.layered import LayeredSource, PictureOf
from fasciculum.baking.light.gathering import LOOK, Gathered, LightSource, finished, gather_light
from fasciculum.baking.light.passes import LightPasses, LightScene, LightTerms, shining_of
from fasciculum.baking.light.relief import bumpy_materials, relief_normals
from fasciculum.baking.light.seams import Seams
from fasciculum.baking.materials import MaterialSource
from fasciculum.baking.missed import fill_missed
from fasciculum.baking.occlusion import Rays, RaySource
from fasciculum.baking.pyramids import ROLES, PixelsOf
from fasciculum.baking.smoothing import EdgeStoppingGuide, smooth
from fasciculum.baking.target import Target
from fasciculum.baking.tiling import NO_AMOUNTS, LabelMap, Source, Tiles, ValueMap, Writer, write_maps
from fasciculum.kernels.rays.occlusion import BENT, FREE, OPEN, THICK
from fasciculum.kernels.sampling.encoding import one_value
from fasciculum.kernels.sampling.tiles import TILE
from fasciculum.model.choices import ColorSpace, FileFormat, Reads
from fasciculum.model.detail import Span
from fasciculum.model.layout import Layout
from fasciculum.model.map_overrides import MapOverride
from fasciculum.model.maps import BASE_COLOR, OPACITY, MapKind, Values
from fasciculum.model.scene import Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.units import srgb_to_linear

#: what stands before a source where some objects read high-poly ones
HIGH_POLY_ADAPTERS: dict[str, Callable[[Any, HighPolyProjector], Source]] = {
    Values.MATERIALS: HighMaterials,
    Values.GEOMETRY: HighColors,
    Values.RAYS: HighRays,
}
#: texels of a map of light that is shown while it is refined, at most
MOST_SHOWN = 2048 * 2048
#: part of the edge that light is first looked at on, and the least edge of that
GLANCE, LEAST_GLANCE = 4, 48
BlankOf = Callable[[tuple[int, ...], np.dtype], NDArray[Any]]


@dataclass(frozen=True)
class MapPlan:
    """One map that is to be baked.

    Attributes
    ----------
    kind : MapKind
    width, height : int
        Of all tiles of the sheet together, texels.
    wish : MapOverride
        Filled in; see `fasciculum.model.bake_settings.BakeSettings.wish`.
    channels : int
        How many are stored.
    before : ndarray, optional
        The map as it was, when only what ``changed`` surfaces show is to be baked anew.
    changed : frozenset of int
        Numbers of surfaces.
    """

    kind: MapKind
    width: int
    height: int
    wish: MapOverride
    channels: int
    before: NDArray[Any] | None = None
    changed: frozenset[int] = frozenset()

    @property
    def dtype(self) -> np.dtype:
        """The type of its stored values: floats in linear light for EXR, else whole numbers."""
        if self.wish.format == FileFormat.EXR or self.kind.source is Values.LIGHT:
            return np.dtype(np.float32)
        return np.dtype(np.uint8 if self.wish.bits == 8 else np.uint16)

    @property
    def together(self) -> tuple[object, ...]:
        """What maps have in common that are baked in one pass."""
        samples = self.wish.samples if self.kind.source in (Values.MATERIALS, Values.LIGHT) else 1
        lit = self.kind.source is Values.LIGHT
        return self.width, self.height, samples, self.changed, self.before is None, lit


@dataclass(frozen=True)
class Conditions:
    """What is the same for all maps of a bundle.

    Attributes
    ----------
    cutoff : float, optional
        What cut-offs of masked materials are brought to.
    emission : float
        What emitted light is multiplied with, so that it fits 0 to 1.
    opaque : bool
        Whether the bundle has no opacity.
    tinted : bool
        Whether vertex colours tint the base colour.
    clear : bool
        Whether opacity is none beside the islands.
    edges, angle
        How the mesh is shaded; see `fasciculum.baking.shading.edge_normals`.
    rays : Rays
    smooth : float
        How far noise is evened out, texels.
    reach : Span
        How far the high-poly is looked for, 0 for what is found.
    reads : Reads
        Which high-poly objects are read.
    light : LightTerms
    """

    cutoff: float | None = None
    emission: float = 1.0
    opaque: bool = True
    tinted: bool = True
    clear: bool = False
    edges: str = "source"
    angle: float = 40.0
    rays: Rays = Rays()  # noqa: RUF009 - frozen
    smooth: float = 0.0
    reach: Span = (0.0, 0.0)
    reads: Reads = Reads.PARTNERS
    light: LightTerms = LightTerms()  # noqa: RUF009 - frozen


@dataclass(frozen=True, eq=False)
class Made:
    """A baked map: its stored values, shape (H, W, C), and its one value, linear, where it is the same all over."""

    pixels: NDArray[Any]
    constant: tuple[float, ...] | None


def _on(materials: Source, target: Target) -> Source:
    """Return a source of materials at the texels of another size of its sheet."""
    assert isinstance(materials, MaterialSource)
    result = copy(materials)
    result.target = target
    return result


class MapBaker:
    """Bakes maps of one layout."""

    def __init__(
        self,
        scene: Scene,
        layout: Layout,
        target: Target,
        conditions: Conditions,
        pixels: PixelsOf,
        blank: BlankOf = np.empty,
        *,
        whole: Scene | None = None,
        objects: Sequence[str] = (),
        shining: LightScene | None = None,
        picture: PictureOf | None = None,
    ) -> None:
        #: all that was gathered, and what of it the bundle has: for what stands in the way of rays
        self.whole, self.objects = whole or scene, objects
        self.scene, self.layout, self.target, self.conditions = scene, layout, target, conditions
        self._pixels, self._blank = pixels, blank
        self._high: HighPolyProjector | None = None
        self._shining, self._picture = shining, picture
        #: what light was gathered last, where any was, and what hears of what there is of it so far
        self.gathered: Gathered | None = None
        self.show: Callable[[dict[str, NDArray[Any]], Gathered], None] | None = None
        #: for each object that is read from high-poly ones the part of its texels that met nothing
        self.missed: dict[str, float] = {}

    def bake(self, plans: Sequence[MapPlan], progress: Progress = SILENT) -> dict[str, Made]:
        """Bake maps, and return them by name, bleed included.

        Raises
        ------
        Cancelled
        """
        lots: dict[object, list[MapPlan]] = {}
        for plan in plans:
            lots.setdefault(plan.together, []).append(plan)
        sizes = [lot[0].width * lot[0].height * lot[0].wish.samples * len(lot) for lot in lots.values()]
        results: dict[str, Made] = {}
        at = 0.0
        for lot, size in zip(lots.values(), sizes, strict=True):
            share = size / max(sum(sizes), 1)
            results |= self._bake_lot(lot, progress.part(at, at + share))
            at += share
        return {plan.kind.name: results[plan.kind.name] for plan in plans}

    def _bake_lot(self, lot: list[MapPlan], progress: Progress) -> dict[str, Made]:
        """Bake maps of one size and one sampling together."""
        first = lot[0]
        names = ", ".join(plan.kind.short.lower() for plan in lot)
        progress.update(0.0, f"Preparing {names}")
        target = self.target.resized(first.width / self.layout.across, first.height / self.layout.height)
        tiles = Tiles(target, first.width, first.height)
        high = self._reader(lot, progress)
        high = None if high is None else high.on(target, first.width, first.height)
        ahead = 0.8 if first.kind.source is Values.LIGHT else 0.1
        sources = self._sources(lot, target, high, progress.part(0.0, ahead))
        guide = self._guide(first, sources)
        pixels = {plan.kind.name: self._array(plan) for plan in lot}
        writers = [self._writer(plan, pixels[plan.kind.name], sources, target) for plan in lot]
        covered = np.zeros((first.height, first.width), np.bool_)
        only = None
        if first.before is not None:
            only = tiles.of(np.isin(target.surface, sorted(first.changed)))
            others = np.setdiff1d(tiles.filled(), only)
            write_maps(tiles, {}, [], covered, only=others, progress=progress.part(0.1, 0.2))
        write_maps(
            tiles,
            sources,
            writers,
            covered,
            only=only,
            words=f"Baking {names}",
            progress=progress.part(ahead, 0.85),
        )
        if guide is not None:
            for plan in lot:
                if plan.kind.source is Values.RAYS:
                    array = pixels[plan.kind.name]
                    smooth(array, guide, self.conditions.smooth, vectors=plan.kind.vectors, progress=progress)
        if high is not None:
            self.missed = dict(high.shares()) | self.missed
            fill_missed(high, tiles, [pixels[plan.kind.name] for plan in lot if plan.kind.reads_high])
            for plan in lot if not self.conditions.opaque else ():
                if plan.kind in (BASE_COLOR, OPACITY):
                    # where nothing is met there is nothing
                    pixels[plan.kind.name][..., -1][high.missed] = 0
        # judged once what met nothing is filled: until then it holds something else
        constants = {
            plan.kind.name: self._constant(plan, pixels[plan.kind.name], covered, tiles, sources) for plan in lot
        }
        limits = [(pixels[plan.kind.name], plan.wish.bleed) for plan in lot]
        bleed(covered, limits, progress=progress.part(0.85, 1.0))
        if self.conditions.clear:
            for array in pixels.values():
                if array.shape[2] == 4:
                    array[..., 3][~covered] = 0
        return {name: Made(array, constants[name]) for name, array in pixels.items()}

    def _constant(
        self,
        plan: MapPlan,
        pixels: NDArray[Any],
        covered: NDArray[np.bool_],
        tiles: Tiles,
        sources: dict[str, Source],
    ) -> tuple[float, ...] | None:
        """Return the one value of a map that is the same all over, linear and as exact as its source gives it."""
        kind, result = plan.kind, np.empty(plan.channels)
        step = {1: 1.0, 2: 257.0}.get(pixels.dtype.itemsize, 1 / 255)
        if not covered.any() or not one_value(pixels, covered, step, result):
            return None
        source = sources.get(kind.source)
        if not isinstance(source, MaterialSource):
            top = 1.0 if pixels.dtype.kind == "f" else float(np.iinfo(pixels.dtype).max)
            values = result * step / top
            if kind.color_space is ColorSpace.SRGB and pixels.dtype.kind == "u":
                values[:3] = srgb_to_linear(values[:3])
            return tuple(values.tolist())
        y, x = divmod(int(covered.argmax()), covered.shape[1])
        tile = np.array([y // TILE * tiles.across + x // TILE])
        triangle = tiles.ids(tile)[0, y % TILE + 1, x % TILE + 1]
        values = source.at(np.array([triangle], np.int64), np.array([[x + 0.5, y + 0.5]]), 1)[0]
        values = values[list(kind.values[: plan.channels])].astype(np.float64)
        if kind.vectors:
            values = values * 0.5 + 0.5
        return tuple((values * (self.conditions.emission if kind.scaled else 1.0)).tolist())

    def _array(self, plan: MapPlan) -> NDArray[Any]:
        shape = plan.height, plan.width, plan.channels
        result = self._blank(shape, plan.dtype)
        if plan.before is not None:
            result[:] = plan.before
        elif plan.wish.bleed is not None or not len(self.target.corners):
            ground = np.array(plan.kind.ground[: plan.channels])
            whole = plan.dtype.kind == "u"
            result[:] = np.round(ground * np.iinfo(plan.dtype).max) if whole else ground
        return result

    def _guide(self, plan: MapPlan, sources: dict[str, Source]) -> EdgeStoppingGuide | None:
        """Return what noise is evened out along, None when it is not."""
        source = sources.get(Values.RAYS)
        cast = source.source if isinstance(source, HighRays) else source
        if self.conditions.smooth <= 0 or not isinstance(cast, RaySource):
            return None
        guide = EdgeStoppingGuide(plan.width, plan.height, cast.target)
        cast.follow(guide)
        return guide

    def _reader(self, lot: list[MapPlan], progress: Progress) -> HighPolyProjector | None:
        """Return what reads the high-poly, None when nothing of these maps does."""
        if not any(plan.kind.reads_high for plan in lot):
            return None
        if self._high is None:
            pairs = [paired_of(self.scene, surface.objects)[1] for surface in self.layout.surfaces]
            if any(pair is not None for pair in pairs):
                conditions = self.conditions
                self._high = HighPolyProjector(
                    self.scene,
                    self.layout,
                    self.target,
                    conditions.reach,
                    conditions.reads,
                    self._pixels,
                    roles=frozenset(ROLES),
                    tinted=conditions.tinted,
                    cutoff=conditions.cutoff,
                    edges=conditions.edges,
                    angle=conditions.angle,
                    progress=progress,
                )
        return self._high

    def _sources(
        self, lot: list[MapPlan], target: Target, high: HighPolyProjector | None, progress: Progress
    ) -> dict[str, Source]:
        results: dict[str, Source] = {}
        carried = [plan for plan in lot if plan.kind.source is Values.MATERIALS]
        if carried:
            results[Values.MATERIALS] = self._materials(carried, target, progress)
        if any(plan.kind.source is Values.GEOMETRY for plan in lot):
            results[Values.GEOMETRY] = GeometrySource(
                self.scene, self.layout, target, self.conditions.edges, self.conditions.angle
            )
        cast = [plan.kind for plan in lot if plan.kind.source is Values.RAYS]
        if cast:
            results[Values.RAYS] = self._rays({value for kind in cast for value in kind.values}, target, progress)
        if lot[0].kind.source is Values.LIGHT:
            results[Values.LIGHT] = self._light(lot, target, high, progress)
        if any(plan.kind.source is Values.HEIGHT for plan in lot):
            reach = 1.0 if self._high is None else greatest_reach(self._high, self.conditions.reach)
            results[Values.HEIGHT] = HeightSource(high, reach)
        if high is not None:
            for name, beside in HIGH_POLY_ADAPTERS.items():
                if name in results:
                    results[name] = beside(results[name], high)
        if carried:
            results[Values.MATERIALS] = self._layered(results[Values.MATERIALS], target, progress)
        return results

    def _rays(self, wanted: set[int], target: Target, progress: Progress) -> RaySource:
        """Return what casts rays for values."""
        return RaySource(
            self.whole,
            self.scene,
            self.layout,
            target,
            self.objects or [key for surface in self.layout.surfaces for key in surface.objects],
            self.conditions.rays,
            (bool(wanted & {OPEN, FREE}), THICK in wanted, BENT in wanted),
            self._pixels,
            bent=FREE in wanted,
            progress=progress,
            edges=self.conditions.edges,
            angle=self.conditions.angle,
        )

    def _layered(self, materials: Source, target: Target, progress: Progress) -> Source:
        """Return materials with the layers over them that lie on any object of the sheet."""
        if self._picture is None or not any(self.scene.stack(one.objects[0]) for one in self.layout.surfaces):
            return materials
        return LayeredSource(
            materials,
            self.scene,
            self.layout,
            target,
            self._picture,
            lambda: self._rays({OPEN, BENT}, target, progress),
            edges=self.conditions.edges,
            angle=self.conditions.angle,
        )

    def _materials(self, plans: list[MapPlan], target: Target, progress: Progress) -> MaterialSource:
        """Return what materials give to maps, each with the samples of the first."""
        return MaterialSource(
            self.scene,
            target if self.conditions.tinted else target.plain(),
            self._pixels,
            roles=frozenset(role for plan in plans for role in plan.kind.reads),
            cutoff=self.conditions.cutoff,
            samples=plans[0].wish.samples,
            check=progress.check,
        )

    def _light(
        self, lot: list[MapPlan], target: Target, high: HighPolyProjector | None, progress: Progress
    ) -> LightSource:
        """Gather light at the texels of maps."""
        first, conditions = lot[0], self.conditions
        shining = self._shining or shining_of(self.whole, self._pixels, progress=progress)
        terms = conditions.light

        def passes_on(
            sheet: Target,
            width: int,
            height: int,
            reader: HighPolyProjector | None,
            relief: Source | None,
            progress: Progress,
        ) -> LightPasses:
            """Return passes at texels that face as the surface does, or as the normal maps of materials say."""
            normals = None
            if relief is not None:
                normals = relief_normals(
                    self.scene, self.layout, relief, sheet, Tiles(sheet, width, height), progress.unseen()
                )
            return LightPasses(
                shining,
                self.scene,
                self.layout,
                sheet,
                width,
                height,
                terms,
                reader,
                normals=normals,
                edges=conditions.edges,
                angle=conditions.angle,
                progress=progress,
            )

        wanted = {value for plan in lot for value in plan.kind.values}
        materials: Source | None = None
        if LOOK in wanted:
            materials = self._materials(lot, target, progress)
            if high is not None:
                materials = HighMaterials(materials, high)

        def show(gathered: Gathered, seen: LightPasses, given: Source | None) -> None:
            assert self.show is not None
            shape = seen.openings.shape
            results = {plan.kind.name: np.zeros((*shape, plan.channels), np.float32) for plan in lot}
            source = LightSource(gathered, given, emission=conditions.light.emission)
            writers = [self._writer(plan, results[plan.kind.name], {Values.LIGHT: source}, seen.target) for plan in lot]
            write_maps(seen.tiles, {Values.LIGHT: source}, writers, np.zeros(shape, np.bool_))
            bleed(seen.covered, [(pixels, None) for pixels in results.values()])
            self.show(results, gathered)

        shows = self.show is not None and first.width * first.height <= MOST_SHOWN
        width, height = first.width // GLANCE, first.height // GLANCE
        if shows and min(width, height) >= LEAST_GLANCE:
            # a first look, small and soon
            small = target.resized(1 / GLANCE, 1 / GLANCE)
            reader = None if high is None else high.on(small, width, height)
            given = materials
            if isinstance(materials, HighMaterials) and reader is not None:
                given = HighMaterials(_on(materials.source, small), reader)
            elif materials is not None:
                given = _on(materials, small)
            glance = passes_on(small, width, height, reader, given, SILENT)
            glance.run(min(2, terms.rays), progress.part(0.0, 0.03))
            show(finished(glance, wanted, glance.noise(), seams=None, denoise=False), glance, given)
        seen = materials
        if materials is not None:
            materials = self._layered(materials, target, progress)

        def gather(wanted: set[int], relief: Source | None, first_part: float, last_part: float) -> Gathered:
            progress_of = progress.part(first_part, last_part)
            passes = passes_on(target, first.width, first.height, high, relief, progress_of.part(0.0, 0.05))
            return gather_light(
                passes,
                wanted,
                seams=lambda: Seams(passes),
                show=(lambda gathered: show(gathered, passes, seen)) if shows else None,
                progress=progress_of.part(0.05, 1.0),
            )

        if materials is None or wanted == {LOOK} or not bumpy_materials(self.scene, target).any():
            self.gathered = gather(wanted, materials, 0.03, 1.0)
            return LightSource(self.gathered, materials, emission=conditions.light.emission)
        # light as such leaves normal maps to the engine, how things look when lit does not
        look = gather({LOOK}, materials, 0.03, 0.5)
        self.gathered = gather(wanted - {LOOK}, None, 0.5, 1.0)
        return LightSource(self.gathered, materials, look=look, emission=conditions.light.emission)

    def _writer(self, plan: MapPlan, pixels: NDArray[Any], sources: dict[str, Source], target: Target) -> Writer:
        if plan.kind.identity is not None:
            labels, names = identify(self.scene, self.layout, target, plan.kind.identity)
            colors = palette(len(names))
            if pixels.dtype.kind == "f":
                return LabelMap(pixels, labels, colors / 255)
            return LabelMap(pixels, labels, colors * (257 if pixels.dtype == np.uint16 else 1))
        amounts = sources[plan.kind.source].detail()
        return ValueMap(
            plan.kind,
            pixels,
            plan.kind.source,
            amounts if amounts.any() else NO_AMOUNTS,
            self.conditions.emission if plan.kind.scaled and pixels.dtype.kind != "f" else 1.0,
        )
