"""Bake: a bundle's maps, into the pixel store."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from numpy.typing import NDArray

from fasciculum.baking.bakers import Conditions, Made, MapBaker, MapPlan
from fasciculum.baking.identifiers import identify, legend_of
from fasciculum.baking.light.gathering import Gathered
from fasciculum.baking.light.passes import LightScene
from fasciculum.baking.occlusion import rays_of
from fasciculum.baking.required_maps import RequiredMaps, needs_of
from fasciculum.baking.target import Target, build_target
from fasciculum.errors import UsageError
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Casts, ColorSpace, Edges, FileFormat, VertexColors
from fasciculum.model.digests import digest_of, digest_text
from fasciculum.model.layout import Layout
from fasciculum.model.maps import KINDS, NORMAL, MapKind, Origin, Values
from fasciculum.model.scene import OPAQUE, Scene
from fasciculum.model.texturing import BakedMap, LightFigures, MapConstant, Texturing
from fasciculum.operations.bake.blocks import keep_normals
from fasciculum.operations.bake.given import given_digest, given_needs, take_given
from fasciculum.operations.bake.layers import layer_picture
from fasciculum.operations.bake.light import (
    light_digest,
    light_layout_digest,
    light_layout_of,
    light_terms,
    shining_in,
)
from fasciculum.progress import SILENT, Progress
from fasciculum.treatments.resolving import resolve_bundle


def _frame(scene: Scene, bundle: Bundle, layout: Layout, kind: MapKind, needs: RequiredMaps) -> str:
    """Return a digest of all that one map is made from but the surfaces themselves."""
    bake, wish = bundle.bake, bundle.bake.wish(kind.name)
    apart = bake.on_light_sheet(kind.name)
    width, height = wish.size_on(bake.light_width, bake.light_height) if apart else _size(bundle, layout, kind)
    # a lightmap's layout follows from the surfaces, and from what the hand has done to it
    laid = light_layout_digest(scene, bundle) if apart else layout.made_from
    parts = [kind.name, laid, bundle.alpha_mode, f"{width} {height} {wish.bits} {wish.bleed}"]
    parts.append(f"{wish.format == FileFormat.EXR} {bake.clear and kind.channels == 4}")
    if kind.origin is Origin.CARRIED:
        parts.append(f"{wish.samples} {bake.vertex_colors}")
        parts.append(f"{needs.strength if kind.scaled else 0} {needs.cutoff if kind.channels == 4 else 0}")
    if kind.source is Values.RAYS:
        parts.append(digest_text(rays_of(bake)))
        parts += [digest_text(bake.smooth)] if bake.smooth else []
        # rays leave along the shading normals, which the setting of edges decides
        if bake.edges is not Edges.SOURCE:
            parts += [bake.edges, str(bake.edge_angle if bake.edges is Edges.ANGLE else 0.0)]
    if kind.source is Values.LIGHT:
        parts.append(digest_text((bake.light_rays, bake.bounces, bake.denoise, wish.samples, bake.vertex_colors)))
        parts += [digest_text((bake.light_emission, needs.cutoff, bake.light_shares)), bake.edges, str(bake.edge_angle)]
    if kind.reads_high and scene.partners:
        parts.append(digest_text((bake.reach_out, bake.reach_in, bake.reads)))
    if kind.vectors:
        parts += [bake.edges, str(bake.edge_angle if bake.edges == "angle" else 0.0)]
    return digest_of(*parts, *([] if apart else [layout.placements]))


def _surfaces(scene: Scene, bundle: Bundle, kind: MapKind, whole: Scene) -> tuple[str, ...]:
    """Return digests of what a map is made from, one for each of the bundle's objects.

    What further inputs a map has (other objects that cast, high-poly sources, lights, layers) is added here by its
    origin. ``whole`` is the scene as it was gathered.
    """
    own = _own_surfaces(scene, bundle, kind, whole)
    if kind.reads_high and whole.partners:
        return tuple(digest_of(one, whole.partners.get(key, "")) for key, one in zip(bundle.objects, own, strict=True))
    return own


def _own_surfaces(scene: Scene, bundle: Bundle, kind: MapKind, whole: Scene) -> tuple[str, ...]:
    """Return digests of what a map is made from of the objects themselves, and of what casts."""
    if kind.origin is Origin.CARRIED or kind.identity is not None:
        return tuple(scene.surfaces[key] for key in bundle.objects)
    if kind.source is Values.LIGHT:
        everything = light_digest(whole)
        return tuple(digest_of(whole.occluder_digests.get(key, key), everything) for key in bundle.objects)
    if kind.source is Values.HEIGHT:
        return tuple("" for _ in bundle.objects)
    if kind.source is Values.RAYS:
        casts = bundle.bake.ao_of
        present = (
            whole.occluder_digests
            if casts is Casts.SCENE
            else {key: whole.occluder_digests.get(key, "") for key in bundle.objects}
        )
        beside = (
            [] if whole.detail is None else [*whole.partners.values(), *whole.detail.scene.occluder_digests.values()]
        )
        everything = "" if casts is Casts.SELF else digest_of(*present.values(), *beside)
        return tuple(digest_of(whole.occluder_digests.get(key, key), everything) for key in bundle.objects)
    # shape is in the layout; where it stands in the world is not
    return tuple(digest_of(scene.nodes[scene.object(key).node].world) for key in bundle.objects)


def map_digest(scene: Scene, bundle: Bundle, kind: MapKind, needs: RequiredMaps | None = None) -> str:
    """Return a digest of all that one map of a bundle is made from, empty when there is no layout."""
    layout = bundle.layout
    if layout is None:
        return ""
    if bundle.given is not None:
        return given_digest(bundle.given, kind.name)
    needs = needs or wanted_maps(scene, bundle)
    if bundle.bake.on_light_sheet(kind.name):
        return digest_of(_frame(scene, bundle, layout, kind, needs), *_surfaces(scene, bundle, kind, scene))
    work = resolve_bundle(scene, bundle)
    return digest_of(_frame(scene, work.bundle, layout, kind, needs), *_surfaces(work.scene, work.bundle, kind, scene))


def wanted_maps(scene: Scene, bundle: Bundle) -> RequiredMaps:
    """Return which maps a bundle is to have, and the constants beside them."""
    if bundle.given is not None:
        return given_needs(scene, [scene.object(key) for key in bundle.objects], bundle.given)
    work = resolve_bundle(scene, bundle)
    items = tuple(work.scene.object(key) for key in work.bundle.objects)
    return needs_of(work.scene, items, bundle.bake)


def stale_maps(scene: Scene, bundle: Bundle) -> tuple[str, ...]:
    """Return the maps that a bundle should have and that are missing, or made from something else by now."""
    present = (bundle.texturing or Texturing()).made
    needs = wanted_maps(scene, bundle)
    return tuple(name for name in needs.maps if present.get(name) != map_digest(scene, bundle, KINDS[name], needs))


def _size(bundle: Bundle, layout: Layout, kind: MapKind) -> tuple[int, int]:
    """Return a map's size, all tiles of the sheet together, texels."""
    width, height = bundle.bake.wish(kind.name).size_on(layout.width, layout.height)
    return width * layout.tiles, height


def bake(
    scene: Scene,
    bundle: Bundle,
    store: PixelStore,
    *,
    only: Sequence[str] = (),
    whole: bool = False,
    progress: Progress = SILENT,
) -> Texturing:
    """Bake the maps of a bundle that has been laid out.

    Parameters
    ----------
    only : sequence of str
        Bake just these maps, and keep the others as they are.
    whole : bool
        Bake all of each map, even where only some objects' surfaces have changed since it was made.

    Raises
    ------
    UsageError
        When there is no layout, islands overlap on it, or a map is named that the bundle is not to have.
    """
    whole_scene, given, own = scene, bundle, bundle.objects
    work = resolve_bundle(scene, bundle)
    scene, bundle = work.scene, work.bundle
    layout = _demanded(bundle)
    if bundle.given is not None:
        return take_given(scene, bundle, store, progress)
    work.demand_fit()
    needs = wanted_maps(scene, bundle)
    for name in only:
        if name not in needs.maps:
            raise UsageError(
                f"the bundle has no map {name}.", item=bundle.name, hint=f"It has: {', '.join(needs.maps)}."
            )
    progress.update(0.0, f"Preparing {bundle.name}")
    before = bundle.texturing or Texturing()
    kinds = [KINDS[name] for name in needs.maps if not only or name in only]
    shining = None
    if any(kind.source is Values.LIGHT for kind in kinds):
        shining = shining_in(whole_scene, store, progress=progress.part(0.0, 0.03))
    # what comes before the maps takes a while where there is light: surfaces are read and a lightmap is laid out
    begun = 0.02 if shining is None else 0.06
    sheets = _sheets(whole_scene, scene, given, bundle, kinds, shining, progress.part(begun / 2, begun))
    made: dict[str, BakedMap | MapConstant] = {}
    figures, legend, missed, light_layout = before.light, dict(before.legend), dict(before.missed), before.light_layout
    for number, sheet in enumerate(sheets):
        low, high = (begun + (1 - begun) * at / len(sheets) for at in (number, number + 1))
        part = progress.part(low, high)
        old = {kind.name: None if whole else before.map(kind.name) for kind in sheet.kinds}
        plans = [_plan(whole_scene, sheet, kind, needs, old[kind.name], store) for kind in sheet.kinds]
        blanks: list = []

        def blank(shape: tuple[int, ...], dtype: object, blanks: list = blanks) -> object:
            blanks.append(store.blank(shape, dtype))  # type: ignore[arg-type]
            return blanks[-1]

        baking = MapBaker(
            sheet.scene,
            sheet.layout,
            sheet.target,
            _conditions(bundle, needs),
            lambda image: store.get(image.pixels),
            blank,  # type: ignore[arg-type]
            whole=whole_scene,
            objects=own,
            shining=shining,
            picture=layer_picture,
        )
        if any(kind.source is Values.LIGHT for kind in sheet.kinds):
            baking.show = _shower(sheet, plans, before, store, progress)
        try:
            result = baking.bake(plans, part.part(0.0, 0.95))
            if NORMAL.name in result and result[NORMAL.name].constant is None:
                keep_normals(scene, work, layout, result[NORMAL.name].pixels, lambda image: store.get(image.pixels))
            for count, plan in enumerate(plans):
                part.part(0.95, 1.0).update(count / len(plans), "Keeping the maps")
                made[plan.kind.name] = _kept(whole_scene, sheet, plan, result[plan.kind.name], needs, store)
        finally:
            for array in blanks:
                store.discard(array)
        missed |= baking.missed
        legend |= _legends(sheet)
        light_layout = sheet.layout if sheet.tex_coord else light_layout
        if baking.gathered is not None:
            figures = _figures(baking.gathered)
    present: dict[str, BakedMap | MapConstant] = {one.name: one for one in before.maps}
    present |= {one.name: one for one in before.constants} | made
    results = [present[name] for name in needs.maps if name in present]
    return Texturing(
        maps=tuple(one for one in results if isinstance(one, BakedMap)),
        metallic=needs.metallic,
        roughness=needs.roughness,
        alpha_cutoff=needs.cutoff or 0.5,
        double_sided=needs.double_sided,
        unlit=needs.unlit,
        extensions=needs.extensions,
        constants=tuple(one for one in results if isinstance(one, MapConstant)),
        unwritten=needs.unwritten,
        legend=legend,
        missed=tuple(sorted(missed.items())),
        light=figures if any(KINDS[name].source is Values.LIGHT for name in needs.maps) else None,
        light_layout=light_layout if any(bundle.bake.on_light_sheet(name) for name in needs.maps) else None,
    )


def _demanded(bundle: Bundle) -> Layout:
    """Return the layout that a bundle is baked on.

    Raises
    ------
    UsageError
        When it cannot be baked on.
    """
    layout, name = bundle.layout, bundle.name
    if layout is None or layout.scale <= 0:
        raise UsageError("there is no layout to bake into.", item=name, hint="Pack the bundle first.")
    if layout.border_gap < 0:
        raise UsageError("the layout has not been verified yet.", item=name, hint="Wait for it, or pack again.")
    if layout.overlap > 0:
        raise UsageError(
            "islands overlap, and would be baked over each other.", item=name, hint="Pack the bundle again."
        )
    return layout


@dataclass(frozen=True, eq=False)
class _Sheet:
    """One of the sheets that a bundle's maps lie on: its own, or that of its light."""

    scene: Scene
    bundle: Bundle
    layout: Layout
    target: Target
    kinds: list[MapKind]
    tex_coord: int = 0


def _sheets(
    whole: Scene,
    scene: Scene,
    given: Bundle,
    bundle: Bundle,
    kinds: list[MapKind],
    shining: LightScene | None,
    progress: Progress,
) -> list[_Sheet]:
    """Return the sheets that maps lie on; ``given`` is the bundle as it is, ``bundle`` as it is laid out."""
    layout, edges = bundle.layout, (bundle.bake.edges, bundle.bake.edge_angle)
    assert layout is not None
    lit = [kind for kind in kinds if bundle.bake.on_light_sheet(kind.name)]
    rest = [kind for kind in kinds if kind not in lit]
    results = []
    if lit:
        light = light_layout_of(whole, given, shining, progress=progress)
        if light.scale <= 0:
            raise UsageError(
                "the lightmap has no room for all islands.",
                item=given.name,
                hint="Give it more texels, or less padding.",
            )
        # light comes first: whoever waits for it sees it grow
        if light.overlap > 0:
            raise UsageError(
                "islands overlap on the lightmap.",
                item=given.name,
                hint="Move them apart in the sheet, or pack the lightmap afresh.",
            )
        results.append(_Sheet(whole, given, light, build_target(whole, light, *edges), lit, 1))
    if rest or not lit:
        results.append(_Sheet(scene, bundle, layout, build_target(scene, layout, *edges), rest))
    return results


def _figures(gathered: Gathered) -> LightFigures:
    """Return how light came out."""
    return LightFigures(gathered.rays, gathered.noise, gathered.bright, gathered.denoiser)


def _shower(
    sheet: _Sheet, plans: list[MapPlan], before: Texturing, store: PixelStore, progress: Progress
) -> Callable[[dict[str, NDArray[Any]], Gathered], None]:
    """Return what shows light as it is so far, as maps of the bundle."""
    known = {plan.kind.name: plan for plan in plans}

    def show(found: dict[str, NDArray[Any]], gathered: Gathered) -> None:
        maps = {baked.name: baked for baked in before.maps}
        for name, pixels in found.items():
            plan = known[name]
            told = (plan.wish.bits, ColorSpace.LINEAR, plan.channels)
            maps[name] = BakedMap(
                name,
                store.put(pixels),
                pixels.shape[1],
                pixels.shape[0],
                *told,
                format=FileFormat.EXR,
                tex_coord=sheet.tex_coord,
            )
        figures = _figures(gathered)
        layout = sheet.layout if sheet.tex_coord else None
        progress.show(replace(before, maps=tuple(maps.values()), light=figures, light_layout=layout))

    return show


def _conditions(bundle: Bundle, needs: RequiredMaps) -> Conditions:
    """Return what is the same for all maps of a bundle."""
    bake = bundle.bake
    return Conditions(
        cutoff=needs.cutoff,
        emission=1.0 / needs.strength,
        opaque=bundle.alpha_mode == OPAQUE,
        tinted=bake.vertex_colors is VertexColors.TINT,
        clear=bake.clear,
        edges=bake.edges,
        angle=bake.edge_angle,
        rays=rays_of(bake),
        smooth=bake.smooth,
        reach=(bake.reach_out, bake.reach_in),
        reads=bake.reads,
        light=light_terms(bake),
    )


def _plan(
    whole: Scene, sheet: _Sheet, kind: MapKind, needs: RequiredMaps, before: BakedMap | None, store: PixelStore
) -> MapPlan:
    """Return what is to be baked of a map: all of it, or what surfaces show that are not what they were."""
    scene, bundle, layout = sheet.scene, sheet.bundle, sheet.layout
    width, height = _size(bundle, layout, kind)
    opaque = bundle.alpha_mode == OPAQUE and kind.source in (Values.MATERIALS, Values.LIGHT)
    # what is opaque needs no fourth channel
    channels = min(kind.channels, 3) if opaque else kind.channels
    plan = MapPlan(kind, width, height, bundle.bake.wish(kind.name), channels)
    if before is None or before.frame != _frame(whole, bundle, layout, kind, needs) or not store.has(before.pixels):
        return plan
    now = _surfaces(scene, bundle, kind, whole)
    if len(before.surfaces) != len(now):
        return plan
    other = {key for key, was, is_ in zip(bundle.objects, before.surfaces, now, strict=True) if was != is_}
    changed = frozenset(number for number, one in enumerate(layout.surfaces) if one.objects[0] in other)
    pixels = store.get(before.pixels)
    fits = pixels.shape == (height, width, channels) and pixels.dtype == plan.dtype
    parts = kind.identity is None and kind.source is not Values.LIGHT
    return replace(plan, before=pixels, changed=changed) if changed and fits and parts else plan


def _kept(
    whole: Scene, sheet: _Sheet, plan: MapPlan, made: Made, needs: RequiredMaps, store: PixelStore
) -> BakedMap | MapConstant:
    """Keep a finished map, or the constant that stands for it."""
    kind, bundle = plan.kind, sheet.bundle
    strength = needs.strength if kind.scaled else 1.0
    surfaces = _surfaces(sheet.scene, bundle, kind, whole)
    frame = _frame(whole, bundle, sheet.layout, kind, needs)
    lit = kind.source is Values.LIGHT
    if lit:
        # what whole numbers are brought to 0 to 1 by
        strength = max(float(made.pixels[..., :3].max(initial=0.0)), 1e-6)
    digest = digest_of(frame, *surfaces)
    if made.constant is not None and kind.name not in needs.named and kind.name not in needs.unwritten:
        values = made.constant
        if kind.may_be_constant(values):
            return MapConstant(kind.name, values, strength, digest)
    return BakedMap(
        kind.name,
        store.put(made.pixels),
        plan.width,
        plan.height,
        plan.wish.bits,
        ColorSpace.LINEAR if plan.wish.format == FileFormat.EXR or lit else kind.color_space,
        plan.channels,
        strength,
        sheet.layout.tiles,
        digest,
        FileFormat.EXR if lit else plan.wish.format,
        frame,
        surfaces,
        sheet.tex_coord,
    )


def _legends(sheet: _Sheet) -> dict[str, dict[str, tuple[int, int, int]]]:
    """Return the legends of a sheet's maps of identifiers."""
    return {
        kind.name: legend_of(identify(sheet.scene, sheet.layout, sheet.target, kind.identity)[1])
        for kind in sheet.kinds
        if kind.identity is not None
    }
