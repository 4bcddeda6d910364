"""Check: a bundle's result against its source, and the figures of its sheet."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.compare import compare
from fasciculum.baking.high import paired_of
from fasciculum.baking.target import build_target
from fasciculum.checks.mixing import clean_down_to
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import ColorSpace
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.digests import digest_of, digest_text
from fasciculum.model.layout import Layout
from fasciculum.model.maps import KINDS, Judged, Values
from fasciculum.model.scene import OPAQUE, Scene
from fasciculum.model.texturing import CheckResult, CompressedMap, Fidelity, Texturing
from fasciculum.operations.check.compressed import compress_bundle, decoded_keys
from fasciculum.operations.check.layers import Over
from fasciculum.operations.check.owners import owners_of
from fasciculum.operations.check.readers import plain_name, with_readers
from fasciculum.operations.check.surroundings import unlike_copies
from fasciculum.operations.check.waste import MOST_LEVELS, Window, waste_of, windows_of
from fasciculum.operations.lay_out.arrange import conflicts
from fasciculum.operations.lay_out.lay_out import claimed
from fasciculum.progress import SILENT, Progress
from fasciculum.treatments.resolving import resolve_bundle
from fasciculum.uv.corners import corners_of, signed_uv_areas, surface_areas
from fasciculum.uv.density import Spread, density, source_texel_areas, spread, triangle_densities
from fasciculum.uv.stretch import angle_stretch, measure_stretch

PLAIN_DELIVERY = DeliverySettings()
#: yield from which a sheet counts as being as fine as its source
AS_FINE = 0.9


def check_digest(bundle: Bundle, delivery: DeliverySettings = PLAIN_DELIVERY) -> str:
    """Return a digest of what a check looks at, which is the compressed result where there is one."""
    layout, made = bundle.layout, bundle.texturing
    parts = [made.content if made else "", *((layout.made_from, layout.placements) if layout else ("",))]
    if delivery.is_engine_ready:
        wishes = [bundle.bake.wish(baked.name) for baked in made.maps] if made is not None else []
        told = (delivery.compress, delivery.container, delivery.quality, delivery.has_levels, delivery.zstd)
        parts.append(digest_text((*told, delivery.packing, delivery.bits, delivery.power_of_two, delivery.green)))
        parts.append(" ".join(wish.compression for wish in wishes))
    return digest_of(*parts)


def texel_areas(layout: Layout, surface: int) -> NDArray[np.float64]:
    """Return the area of each triangle of a surface on the sheet, square texels."""
    return np.abs(signed_uv_areas(layout.sheet_corners(surface)))


class _Measured:
    """What is measured of objects' surfaces; copies of one mesh at one size are measured once."""

    def __init__(self, scene: Scene) -> None:
        self.scene = scene
        self._known: dict[tuple[int, tuple[int, ...], str], tuple[NDArray[np.float64], NDArray[np.float64]]] = {}

    def of(self, key: str) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return the areas of an object's triangles, square metres, and those that they cover in their source."""
        item = self.scene.object(key)
        alike = self.scene.instance_key(item)
        if alike not in self._known:
            corners = corners_of(self.scene, item)
            self._known[alike] = surface_areas(corners.world), source_texel_areas(self.scene, item, corners)
        return self._known[alike]


def density_spread(scene: Scene, layout: Layout) -> Spread:
    """Return the density over all objects of a layout, px/m, weighted by their surface."""
    values, weights, measured = [], [], _Measured(scene)
    for index, surface in enumerate(layout.surfaces):
        flat = texel_areas(layout, index)
        # copies weigh as many times as there are of them
        copies: dict[int, tuple[NDArray[np.float64], int]] = {}
        for key in surface.objects:
            areas, _ = measured.of(key)
            copies[id(areas)] = (areas, copies.get(id(areas), (areas, 0))[1] + 1)
        for areas, count in copies.values():
            values.append(triangle_densities(flat, areas))
            weights.append(areas * count)
    return spread(np.concatenate(values), np.concatenate(weights)) if values else Spread(*[math.nan] * 3)


def object_density(scene: Scene, layout: Layout, key: str) -> float:
    """Return the density of one object of a layout, px/m."""
    return density(texel_areas(layout, layout.surface_of(key)), _Measured(scene).of(key)[0])


def object_densities(scene: Scene, layout: Layout) -> dict[str, float]:
    """Return the density of each object of a layout, px/m."""
    result, measured = {}, _Measured(scene)
    for index, surface in enumerate(layout.surfaces):
        flat = texel_areas(layout, index)
        for key in surface.objects:
            result[key] = density(flat, measured.of(key)[0])
    return result


def worlds_of(scene: Scene, keys: Sequence[str]) -> list[tuple[NDArray[np.float64], int]]:
    """Return the triangles of objects in world space, (T, 3, 3) in metres, and how many of the objects have them so.

    Objects that share a place on a sheet may stand in nodes of other scales: each shape is there once.
    """
    known: dict[object, list[str]] = {}
    for key in keys:
        known.setdefault(scene.instance_key(scene.object(key)), []).append(key)
    return [(corners_of(scene, scene.object(own[0])).world, len(own)) for own in known.values()]


def measure_layout(
    scene: Scene, layout: Layout, *, progress: Progress = SILENT
) -> tuple[NDArray[np.float64], NDArray[np.float64], dict[str, float]]:
    """Return the density of every triangle, px/m, its weight in square metres, and each object's yield."""
    values, weights = [np.zeros(0)], [np.zeros(0)]
    for index, surface in enumerate(layout.surfaces):
        progress.update(index / len(layout.surfaces), "Measuring densities")
        flat = texel_areas(layout, index)
        for world, count in worlds_of(scene, surface.objects):
            areas = surface_areas(world)
            values.append(triangle_densities(flat, areas))
            weights.append(areas * count)
    return np.concatenate(values), np.concatenate(weights), object_yields(scene, layout)


def measure_islands(
    scene: Scene, layout: Layout, *, progress: Progress = SILENT
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.int8]]:
    """Measure each island of a layout.

    Returns
    -------
    density : ndarray of float64, shape (I,)
        px/m.
    stretch : ndarray of float64, shape (I,)
        Area-weighted mean of the angle stretch: 1 is none.
    conflict : ndarray of int8, shape (P,)
        For each place: 2 when it overlaps another, 1 when it comes nearer than the padding, else 0.
    """
    density, stretch = np.zeros(len(layout.placements)), np.ones(len(layout.placements))
    starts = layout.starts
    for index, surface in enumerate(layout.surfaces):
        progress.update(index / len(layout.surfaces), "Measuring islands")
        count, own = starts[index + 1] - starts[index], slice(starts[index], starts[index + 1])
        flat = np.bincount(surface.island, texel_areas(layout, index), count)
        on_it = layout.sheet_corners(index)
        whole, bent = np.zeros(count), np.zeros(count)
        for number, (world, _) in enumerate(worlds_of(scene, surface.objects)):
            areas = surface_areas(world)
            if not number:
                density[own] = np.sqrt(flat / np.maximum(np.bincount(surface.island, areas, count), 1e-300))
            angle = np.nan_to_num(angle_stretch(world, on_it), nan=1.0, posinf=1e6)
            whole += np.bincount(surface.island, areas, count)
            bent += np.bincount(surface.island, areas * angle, count)
        stretch[own] = bent / np.maximum(whole, 1e-300)
    return density, stretch, conflicts(layout)


def object_yields(scene: Scene, layout: Layout) -> dict[str, float]:
    """Return the yield of each object of a layout; NaN where it reads no texture."""
    result, measured = {}, _Measured(scene)
    for index, surface in enumerate(layout.surfaces):
        flat = texel_areas(layout, index)
        for key in surface.objects:
            _, source = measured.of(key)
            reads = source > 0
            wanted = float(source[reads].sum())
            result[key] = math.sqrt(float(flat[reads].sum()) / wanted) if wanted > 0 else math.nan
    return result


def stretch_of(scene: Scene, layout: Layout) -> tuple[float, float]:
    """Return a layout's L2 stretch and the share of area stretched by more than two, over all its surfaces."""
    weights, l2, shares = [], [], []
    for index, surface in enumerate(layout.surfaces):
        flat = layout.sheet_corners(index)
        for world, count in worlds_of(scene, surface.objects):
            result = measure_stretch(world, flat)
            if math.isfinite(result.l2):
                weights.append(float(surface_areas(world).sum()) * count)
                l2.append(result.l2**2)
                shares.append(result.share_over_2)
    total = sum(weights)
    if total <= 0:
        return math.nan, math.nan
    return (
        math.sqrt(sum(w * value for w, value in zip(weights, l2, strict=True)) / total),
        sum(w * value for w, value in zip(weights, shares, strict=True)) / total,
    )


def check_bundle(
    scene: Scene,
    bundle: Bundle,
    store: PixelStore,
    delivery: DeliverySettings = PLAIN_DELIVERY,
    *,
    points: int = 200_000,
    progress: Progress = SILENT,
) -> CheckResult | None:
    """Measure a baked bundle: fidelity on the surface, mixing, stretch. None without a layout and maps.

    Where the delivery compresses textures, what is compared with the source is the decoded result.
    """
    layout, texturing = bundle.layout, bundle.texturing
    if layout is None or texturing is None or layout.scale <= 0:
        return None
    progress.update(0.0, f"Checking {bundle.name}")
    if bundle.given is not None:
        # nothing of the source is on it that it could be compared with
        return CheckResult((), 1, *stretch_of(scene, layout), made_from=check_digest(bundle, delivery))
    whole, on = scene, resolve_bundle(scene, bundle)
    on.demand_fit()
    named = frozenset(patch.key for patch in on.patches)
    laid = layout
    scene, layout = with_readers(whole, on, laid, bundle.objects)
    target = build_target(scene, layout, bundle.bake.edges, bundle.bake.edge_angle)
    # what is read from high-poly objects is not to look like its own materials
    paired = [paired_of(scene, surface.objects)[1] is not None for surface in layout.surfaces]
    over = Over(scene, layout, target, bundle)
    paired = [one or index in over.cast for index, one in enumerate(paired)]
    target = replace(target, area=np.where(np.array(paired, np.bool_)[target.surface], 0.0, target.area))
    # light has no source to be compared with, and may lie on a sheet of its own
    present = tuple(one for one in texturing.maps if KINDS[one.name].source is not Values.LIGHT and not one.tex_coord)
    texturing = replace(texturing, maps=present)
    maps = {baked.name: store.get(baked.pixels) for baked in texturing.maps}
    compressed: tuple[CompressedMap, ...] = ()
    decoded: tuple[tuple[str, tuple[str, ...]], ...] = ()
    plain_maps = maps
    if delivery.is_engine_ready:
        compressed = compress_bundle(whole, bundle, delivery, store, progress=progress.part(0.0, 0.4))
        decoded = decoded_keys(texturing.maps, compressed, delivery, store)
        maps = maps | {name: store.get(keys[0]) for name, keys in decoded}
        progress = progress.part(0.4, 1.0)
    strength = next((baked.strength for baked in texturing.maps if KINDS[baked.name].scaled), 1.0)
    yields = object_yields(scene, layout)
    as_fine = frozenset(index for index, surface in enumerate(layout.surfaces) if yields[surface.objects[0]] >= AS_FINE)
    matches = compare(
        scene,
        target,
        maps,
        lambda image: store.get(image.pixels),
        strength=strength,
        transparent=bundle.alpha_mode != OPAQUE
        and len(
            {
                whole.material_of(p).alpha_cutoff
                for key in bundle.objects
                for p in whole.primitives_of(whole.object(key))
            }
        )
        == 1,
        as_fine=as_fine,
        size=(laid.across, laid.height),
        wraps=bool(laid.lanes[laid.pages < laid.own_tiles].any()),
        slices=(laid.tiles, laid.slices) if laid.slices else None,
        over=over.on,
        points=points,
        progress=progress.part(0.0, 0.7),
    )
    fidelity = _by_object(
        [
            Fidelity(plain_name(surface.objects[0]), yields[surface.objects[0]], tuple(matches[index].items()))
            for index, surface in enumerate(layout.surfaces)
            if index in matches and surface.objects[0] not in named
        ]
    )
    progress.update(0.75, "Finding bleeding")
    read = _clean_down_to(laid, bundle)
    # of blocks, those of maps as large as the sheet count; smaller maps have their own figure
    blocks = [one.blocks_down_to for one in compressed if one.width == laid.width and one.height == laid.height]
    clean = max([read, *blocks])
    compressed = tuple(
        replace(one, clean_down_to=max(one.blocks_down_to, min(read, 2 * max(one.width, one.height))))
        for one in compressed
    )
    progress.update(0.95, "Measuring stretch")
    l2, share = stretch_of(on.scene, laid)
    progress.update(0.97, "Looking for waste")
    wasted, by_object = _waste(laid, texturing, plain_maps)
    unlike = unlike_copies(whole, bundle, laid, lambda image: store.get(image.pixels))
    digest = check_digest(bundle, delivery)
    return CheckResult(fidelity, clean, l2, share, digest, wasted, by_object, unlike, compressed, decoded)


def _waste(
    layout: Layout, texturing: Texturing, maps: dict[str, NDArray[Any]]
) -> tuple[tuple[tuple[str, int], ...], tuple[tuple[str, float], ...]]:
    """Return by map and by object how many mip levels smaller it could be without anybody telling."""
    starts = layout.starts
    surface = np.repeat(np.arange(len(layout.surfaces), dtype=np.int32), np.diff(starts))
    parts = [surface[layout.islands_of(index)] for index in range(len(layout.surfaces))]
    labels = np.concatenate(parts).astype(np.int32)
    wasted: dict[str, int] = {}
    least: dict[str, float] = {}
    owners: dict[tuple[int, int], tuple[NDArray[np.int32], list[Window]]] = {}
    for baked in texturing.maps:
        kind = KINDS[baked.name]
        if kind.identity is not None:
            continue
        size = baked.width, baked.height
        if size not in owners:
            owner = claimed(layout, labels, *size)
            owners[size] = owner, windows_of(owner)
        owner, windows = owners[size]
        srgb = baked.color_space == ColorSpace.SRGB
        result = waste_of(maps[baked.name], owner, srgb=srgb, windows=windows)
        wasted[baked.name] = result.levels
        for number, levels in enumerate(result.islands.tolist()):
            for key in layout.surfaces[number].objects if levels >= 0 else ():
                least[key] = float(min(least.get(key, MOST_LEVELS), levels))
    return tuple(sorted(wasted.items())), tuple(sorted(least.items()))


def _by_object(parts: list[Fidelity]) -> tuple[Fidelity, ...]:
    """Return one result for each object: the worst of its islands' and of what reads patches."""
    results: dict[str, Fidelity] = {}
    for part in parts:
        before = results.get(part.object)
        if before is None:
            results[part.object] = part
            continue
        figures = dict(before.figures)
        for name, value in part.figures:
            worse = max if KINDS[name].judged is Judged.ANGLE else min
            figures[name] = worse(figures.get(name, value), value)
        known = [value for value in (before.yield_, part.yield_) if math.isfinite(value)]
        results[part.object] = Fidelity(part.object, min(known, default=math.nan), tuple(figures.items()))
    return tuple(results.values())


def _clean_down_to(layout: Layout, bundle: Bundle) -> int:
    if layout.slices and not layout.own_tiles:
        # a slice goes on in itself
        return 1
    layout = layout.before_slices()
    owned, covered = owners_of(layout, bundle.bake.bleed)
    return clean_down_to(owned, covered, wraps=bool(layout.lanes.any()))
