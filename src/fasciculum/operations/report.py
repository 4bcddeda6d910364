"""The report: what `make`, `run` and `check` say, as docs/design/cli.md describes it."""

from __future__ import annotations

import math
from dataclasses import asdict, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.occlusion import radii_of, rays_of
from fasciculum.checks.textures import CheckedTexture, textures_of
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Combine, Treatment
from fasciculum.model.detail import Pair, Span
from fasciculum.model.document import Document
from fasciculum.model.finding import Finding
from fasciculum.model.layout import Layout
from fasciculum.model.map_overrides import ChannelFile
from fasciculum.model.maps import AO, BENT_NORMAL, CURVATURE, HEIGHT, KINDS, THICKNESS, Judged
from fasciculum.model.scene import Object, Scene
from fasciculum.model.texturing import BakedMap, CompressedMap, LightFigures
from fasciculum.operations.block_memory import compressed_memory
from fasciculum.operations.check.budgets import judged_document
from fasciculum.operations.check.check import density_spread, object_densities, stretch_of
from fasciculum.operations.deliver.lights import light_gain, stored_light
from fasciculum.operations.lay_out.onto import onto_rows, sameness, split_rows
from fasciculum.operations.ledger import Cost, cost_of, drawn_things, ledger_of, written_sizes
from fasciculum.operations.plan.sizing import low_yield, surface_yields
from fasciculum.operations.plan.views import seen_in
from fasciculum.threads import in_pieces
from fasciculum.treatments.apart import apart_materials
from fasciculum.treatments.flats import flat_values
from fasciculum.treatments.resolved import ResolvedBundle
from fasciculum.treatments.resolving import resolve_bundle
from fasciculum.uv.corners import corners_of, signed_uv_areas
from fasciculum.uv.density import figures_of, spans
from fasciculum.uv.islands import find_islands
from fasciculum.uv.overlaps import covered_areas, overlapping_objects, self_overlap
from fasciculum.uv.sets import sets_of

VERSION = 1


def number(value: float, digits: int = 4) -> float | None:
    """Return a rounded number, None for what has none."""
    return round(value, digits) if math.isfinite(value) else None


def finding_entry(finding: Finding) -> dict[str, str]:
    """Return a finding as JSON, without its empty parts."""
    return {key: value for key, value in asdict(finding).items() if value}


def _cost_entry(cost: Cost) -> dict[str, int]:
    return asdict(cost)


def _compressed_bytes(size: int) -> dict[str, int]:
    """Return the memory of compressed textures, nothing where none are."""
    return {"texture_bytes_compressed": size} if size else {}


def _slices_entry(document: Document) -> dict[str, int]:
    """Return how many slices all texture arrays of a delivery have together; each array counts as one texture."""
    scene, count = document.scene, 0
    for bundle in document.bundles:
        work = resolve_bundle(scene, bundle) if bundle.objects else None
        if work is not None and work.slices:
            count += work.slices * len(written_sizes(scene, bundle))
    return {"slices": count}


def _without_arrays(document: Document) -> dict[str, int]:
    """Return the draw calls of an engine that reads no texture arrays, where there are any."""
    scene, more = document.scene, 0
    sliced = [bundle for bundle in document.bundles if bundle.objects and resolve_bundle(scene, bundle).slices]
    for bundle in sliced:
        whole = drawn_things(scene, bundle, document.delivery, one_by_one=True)
        more += sum(thing.calls for thing in whole)
        more -= sum(thing.calls for thing in drawn_things(scene, bundle, document.delivery))
    return {"draw_calls_without_arrays": ledger_of(document).after.draw_calls + more} if sliced else {}


def _without_instancing(document: Document) -> dict[str, int]:
    """Return the draw calls for viewers that draw each copy by itself, nothing where no copies are instanced."""
    if document.delivery.combine != Combine.INSTANCES:
        return {}
    plain = replace(document, delivery=replace(document.delivery, combine=Combine.NONE))
    return {"draw_calls_without_instancing": ledger_of(plain).after.draw_calls}


def _view_entry(document: Document) -> dict[str, float]:
    """Return what is drawn in a typical view, and its textures: the mean over eye-level places and six directions."""
    seen = seen_in(document, [bundle for bundle in document.bundles if bundle.objects], document.delivery)
    return {
        "draw_calls": round(seen.calls, 1),
        "triangles": round(seen.triangles),
        "texture_bytes": round(seen.texture_bytes),
    }


def _sheet_entry(bundle: Bundle) -> dict[str, Any]:
    layout = bundle.layout
    assert layout is not None
    return _layout_entry(layout) | {
        "tiles": layout.tiles,
        "twins": layout.doubles,
        "clean_down_to_px": bundle.check.clean_down_to if bundle.check else None,
    }


def _layout_entry(layout: Layout) -> dict[str, Any]:
    """Return the figures of a sheet, be it of textures or of light."""
    return {
        "width": layout.width,
        "height": layout.height,
        "padding": layout.padding,
        "islands": layout.distinct,
        "fill": number(layout.fill),
        "overlap_area": number(layout.overlap),
        "min_gap_px": layout.gap,
        "margin_px": layout.border_gap,
    }


def _bundle_entry(
    scene: Scene, bundle: Bundle, files: dict[tuple[str, str], str], apart: dict[int, int]
) -> dict[str, Any]:
    """Return a bundle's entry; ``apart`` gives for each material that is kept apart the one it is delivered as."""
    entry: dict[str, Any] = {
        "name": bundle.name,
        "objects": list(bundle.objects),
        "alpha_mode": bundle.alpha_mode,
    }
    on = resolve_bundle(scene, bundle)
    entry["materials"] = _materials_entry(scene, bundle, on, files, apart)
    if on.bare:
        entry["maps"] = []
    if bundle.layout is not None and bundle.layout.scale > 0 and not on.bare:
        named = {patch.key for patch in on.patches}
        laid = bundle.layout.without(named)
        spread = density_spread(on.scene, laid)
        l2, share = (
            (bundle.check.stretch_l2, bundle.check.stretch_share) if bundle.check else stretch_of(on.scene, laid)
        )
        entry["sheet"] = _sheet_entry(bundle) | _patches_entry(scene, bundle, bundle.layout, on)
        entry["density"] = {
            "unit": "px/m",
            "p05": number(spread.p05, 1),
            "median": number(spread.median, 1),
            "p95": number(spread.p95, 1),
        }
        entry["object_density"] = {key: number(value, 1) for key, value in object_densities(on.scene, laid).items()}
        entry["stretch"] = {"l2": number(l2), "area_share_over_2": number(share)}
        yields = surface_yields(scene, bundle, bundle.layout)
        if len(yields[0]):
            entry["yield"] = {"p10": number(low_yield(*yields)), "median": number(low_yield(*yields, 0.5))}
    if bundle.texturing is not None:
        made = bundle.texturing
        whole = [baked for baked in made.maps if baked.name not in made.unwritten]
        entry["maps"] = [
            {
                "name": baked.name,
                "file": files.get((bundle.name, baked.name), ""),
                "width": baked.width // baked.tiles,
                "height": baked.height,
                "bits": baked.bits,
                "color_space": baked.color_space,
            }
            | _metres_entry(scene, bundle, baked.name)
            | _stored_entry(bundle, baked, files)
            | _compressed_entry(bundle, baked.name)
            for baked in whole
        ]
        entry["maps"] += [_packed_entry(bundle, packed, files) for packed in bundle.bake.packed]
        if made.constants:
            entry["constants"] = {
                one.name: [number(value * one.strength, 5) for value in one.values] for one in made.constants
            }
        if made.legend:
            entry["legend"] = {
                name: {key: list(color) for key, color in colors.items()} for name, colors in made.legend.items()
            }
        if made.light is not None:
            entry["light"] = _light_entry(bundle, made.light, made.light_layout)
    if bundle.check is not None:
        entry["fidelity"] = [
            {
                "object": found.object,
                "yield": number(found.yield_, 3),
            }
            | {
                kind.figure: number(found.figure(kind.name), 2 if kind.judged is Judged.ANGLE else 1)
                for kind in KINDS.values()
                if kind.judged is not Judged.NOT
            }
            for found in bundle.check.fidelity
        ]
    return entry


def _patches_entry(scene: Scene, bundle: Bundle, layout: Layout, on: ResolvedBundle) -> dict[str, Any]:
    """Return where lanes, swatches, slices and shared blocks lie, texels."""
    lanes = [patch for patch in on.patches if patch.way is Treatment.LANE]
    swatches = [patch for patch in on.patches if patch.way is Treatment.SWATCH]
    entry: dict[str, Any] = {}
    if lanes:
        entry["lanes"] = [
            {"box": list(patch.box or ()), "material": scene.material_name(patch.material)} for patch in lanes
        ]
    if swatches:
        entry["swatches"] = [
            {"box": list(patch.box or ()), "values": _values_entry(scene, patch.material)} for patch in swatches
        ]
    sliced = [patch for patch in on.patches if patch.way is Treatment.SLICE]
    if sliced:
        entry["slices"] = [
            {"slice": number, "material": scene.material_name(patch.material)} for number, patch in enumerate(sliced)
        ]
    blocks = _blocks_entry(scene, bundle, layout, on)
    if blocks:
        entry["blocks"] = blocks
    return entry


def _blocks_entry(scene: Scene, bundle: Bundle, layout: Layout, on: ResolvedBundle) -> list[dict[str, Any]]:
    """Return for each block that surfaces share its material, its box on the sheet, texels, and what reads it."""
    shared = [number for number, patch in enumerate(on.patches) if patch.way is Treatment.BLOCK]
    objects: dict[int, list[str]] = {number: [] for number in shared}
    for key in bundle.objects if shared else ():
        for number in {number for reader in on.readers_of(scene, key) for number in reader.every}:
            if number in objects:
                objects[number].append(key)
    results = []
    for number in shared:
        patch = on.patches[number]
        corners = layout.sheet_corners(layout.surface_of(patch.key)).reshape(-1, 2)
        box = [*np.floor(corners.min(axis=0) + 1e-6), *np.ceil(corners.max(axis=0) - 1e-6)]
        results.append(
            {
                "material": scene.material_name(patch.material),
                "box": [int(value) for value in box],
                "objects": objects[number],
            }
        )
    return results


def _values_entry(scene: Scene, material: int) -> dict[str, Any]:
    values = flat_values(scene, scene.materials[material]) or ()
    names = ("base_color", 4), ("occlusion", 1), ("roughness", 1), ("metallic", 1), ("emissive", 3)
    result, first = {}, 0
    for name, count in names:
        part = [number(value, 6) for value in values[first : first + count]]
        result[name] = part if count > 1 else (part[0] if part else None)
        first += count
    return result


def _materials_entry(
    scene: Scene, bundle: Bundle, on: ResolvedBundle, files: dict[tuple[str, str], str], apart: dict[int, int]
) -> list[dict[str, Any]]:
    """Return for each material of a bundle how it is treated, on which objects, and in which files it is.

    One that is kept apart says as which material it is delivered: several that differ in their colour alone are one.
    """
    sheet = [file for (name, _), file in files.items() if name == bundle.name]
    results = []
    for index in sorted({one for key in bundle.objects for one in scene.materials_of(scene.object(key))}):
        name = scene.material_name(index)
        own = [key for key in bundle.objects if index in scene.materials_of(scene.object(key))]
        way = on.way_of(index)
        kept = way is Treatment.APART
        entry = {"name": name, "way": str(way), "objects": own, "files": [] if kept else sheet}
        results.append(entry | ({"delivered_as": scene.material_name(apart[index])} if index in apart and kept else {}))
    return results


def _metres_entry(scene: Scene, bundle: Bundle, name: str) -> dict[str, float]:
    """Return the radius within which rays were followed, for maps that they were cast for."""
    if name == HEIGHT.name:
        pairs = [] if scene.detail is None else scene.detail.pairs
        told = bundle.bake.reach_out, bundle.bake.reach_in
        results = [pair.greatest(told) for pair in pairs if pair.low in bundle.objects]
        return {"metres": round(max(results, default=0.0), 6)}
    place = {AO.name: 0, BENT_NORMAL.name: 0, THICKNESS.name: 1, CURVATURE.name: 2}.get(name)
    if place is None:
        return {}
    return {"metres": round(radii_of(scene, bundle.objects, rays_of(bundle.bake))[place], 6)}


def _compressed_entry(bundle: Bundle, name: str) -> dict[str, Any]:
    """Return how a map came through compression, nothing where it was not compressed.

    A map whose channels lie in several files has an entry for each under ``compressed``; figures are of the first tile,
    but bytes of all.
    """
    compressed = bundle.check.compressed if bundle.check is not None else ()
    shown = [one for one in compressed if one.name == name]
    if not shown:
        parts = [one for one in compressed if name in KINDS and one.name in KINDS[name].parts]
        return {"compressed": {one.name: _figures_entry([one]) for one in parts}} if parts else {}
    return _figures_entry(shown)


def _figures_entry(shown: list[CompressedMap]) -> dict[str, Any]:
    first = shown[0]
    entry: dict[str, Any] = {
        "block": first.block,
        "bytes": sum(one.bytes for one in shown),
        "file_bytes": sum(one.file_bytes for one in shown),
        "levels": first.levels,
        "clean_down_to_px": max(one.clean_down_to for one in shown),
        "quality_db": {f"mip{level}": number(db, 2) for level, db in enumerate(first.db)},
    }
    if first.angle or first.worst:
        entry |= {"mean_degrees": number(first.angle, 3), "p99_degrees": number(first.worst, 3)}
    if first.kept < 1:
        entry["cutoff_kept"] = number(first.kept, 5)
    return entry


def _stored_entry(bundle: Bundle, baked: BakedMap, files: dict[tuple[str, str], str]) -> dict[str, Any]:
    """Return how a map of light is stored, nothing for others."""
    stored = stored_light(bundle, baked)
    if stored is None:
        return {"tex_coord": baked.tex_coord} if baked.tex_coord else {}
    file = files.get((bundle.name, baked.name), "")
    return {
        "exr": f"{file.rpartition('.')[0]}.exr" if file else "",
        "bits": stored.bits,
        "color_space": stored.color_space,
        "factor": number(stored.factor, 9),
        "tex_coord": baked.tex_coord,
    }


def _light_entry(bundle: Bundle, figures: LightFigures, layout: Layout | None) -> dict[str, Any]:
    """Return how a bundle's light was gathered and is stored."""
    gain = light_gain(bundle)
    entry: dict[str, Any] = {
        "factor": 1.0 / gain,
        "exposure": number(figures.stops(bundle.bake.exposure), 6),
        "rays": figures.rays,
        "bounces": bundle.bake.bounces,
        "noise": number(figures.noise, 5),
        "denoised_by": figures.denoiser,
    }
    if layout is not None:
        entry["sheet"] = _layout_entry(layout)
    return entry


def _packed_entry(bundle: Bundle, packed: ChannelFile, files: dict[tuple[str, str], str]) -> dict[str, Any]:
    made, layout = bundle.texturing, bundle.layout
    assert made is not None and layout is not None
    parts = [made.map(name) for name in packed.maps]
    return {
        "name": packed.name,
        "file": files.get((bundle.name, packed.name), ""),
        "width": layout.width,
        "height": layout.height,
        "bits": 16 if any(part is not None and part.bits > 8 for part in parts) else 8,
        "color_space": packed.color_space,
        "channels": [cell.text for cell in packed.cells],
    } | _compressed_entry(bundle, packed.name)


def _pairing_entry(document: Document) -> dict[str, Any]:
    """Return what is read into which object, where there are high-poly models."""
    detail = document.scene.detail
    if detail is None:
        return {}
    missed = {key: share for bundle in document.bundles for key, share in _missed_of(bundle)}
    return {
        "pairing": [
            {
                "low": pair.low,
                "high": list(pair.high),
                "by": str(pair.by),
                "missed": number(missed.get(pair.low, pair.missed), 5),
                "reach": [number(value, 6) for value in _reach_of(document, pair)],
            }
            for pair in detail.pairs
        ]
    }


def _onto_entry(document: Document) -> dict[str, Any]:
    """Return what lies on which trim of given sheets, and how much of all surface each trim shows."""
    given = [bundle for bundle in document.bundles if bundle.given is not None and not bundle.given.is_palette]
    if not given:
        return {}
    rows = [row for bundle in given for row in onto_rows(document.scene, bundle)]
    return {
        "onto": [asdict(row) | {"stretch": number(row.stretch), "density": number(row.density, 2)} for row in rows],
        "sameness": {
            bundle.name: {name: number(part) for name, part in sameness(document.scene, bundle).items()}
            for bundle in given
        },
        "split": [asdict(row) for bundle in given for row in split_rows(document.scene, bundle)],
    }


def _missed_of(bundle: Bundle) -> tuple[tuple[str, float], ...]:
    return () if bundle.texturing is None else bundle.texturing.missed


def _reach_of(document: Document, pair: Pair) -> Span:
    bundle = document.bundle_of(pair.low)
    return pair.reach() if bundle is None else pair.reach((bundle.bake.reach_out, bundle.bake.reach_in))


def report_of(
    document: Document,
    findings: list[Finding],
    *,
    seconds: dict[str, float],
    files: list[str],
    map_files: dict[tuple[str, str], str],
) -> dict[str, Any]:
    """Return the report of a document."""
    ledger, scene = ledger_of(document), document.scene
    compressed = compressed_memory(document)
    kept = {index for bundle in document.bundles if bundle.objects for index in resolve_bundle(scene, bundle).apart}
    apart = {index: leader for index, (leader, _) in apart_materials(scene, kept).items()}
    return {
        "version": VERSION,
        "name": document.name,
        "sources": [source.named for source in document.scene.sources],
        "bundles": [_bundle_entry(scene, bundle, map_files, apart) for bundle in document.bundles],
        **_pairing_entry(document),
        **_onto_entry(document),
        "ledger": {
            "before": _cost_entry(ledger.before) | _compressed_bytes(compressed[0]),
            "after": _cost_entry(ledger.after)
            | _compressed_bytes(compressed[1])
            | _slices_entry(document)
            | _without_arrays(document)
            | _without_instancing(document)
            | {"typical_view": _view_entry(document)},
        },
        "budget": [one.entry for one in judged_document(document)],
        "findings": [finding_entry(finding) for finding in findings],
        "seconds": {name: round(value, 3) for name, value in seconds.items()},
        "files": files,
    }


def _uv_sets(scene: Scene, item: Object) -> list[dict[str, Any]]:
    """Describe each UV set of an object: span, self-overlap, density is that of the leading texture."""
    corners = corners_of(scene, item)
    primitives = scene.primitives_of(item)
    results = []
    for set_number in range(max((len(primitive.uv_sets) for primitive in primitives), default=0)):
        if not all(primitive.has_uv(set_number) for primitive in primitives):
            continue
        chosen = type(corners)(
            corners.world,
            _joined([primitive.uv_sets[set_number][primitive.triangles] for primitive in primitives]),
            corners.material,
            corners.primitive,
            corners.local,
        )
        islands = find_islands(chosen.world, chosen.source)
        reach = spans(chosen, islands)
        overlap = self_overlap(chosen.source, islands, threshold=1e-3)
        once, twice = covered_areas(chosen.source)
        flat = abs(signed_uv_areas(chosen.source)).sum()
        results.append(
            {
                "set": set_number,
                "islands": len(overlap),
                "span_u": number(float(reach[:, 0].max())),
                "span_v": number(float(reach[:, 1].max())),
                "uv_area": number(float(flat)),
                "islands_on_themselves": int((overlap > 1e-4).sum()),
                "overlap_share": number(twice / once if once > 0 else 0.0, 6),
            }
        )
    return results


def _joined(parts: list[Any]) -> NDArray[np.float64]:
    return np.concatenate(parts).astype(np.float64)


def _texture_entry(scene: Scene, entry: CheckedTexture) -> dict[str, Any]:
    image = scene.images[entry.image]
    return {
        "name": image.name,
        "width": image.width,
        "height": image.height,
        "bits": image.bits,
        "channels": image.channels,
        "color_space": entry.space,
        "missing": image.missing,
        "embedded": image.embedded,
        "materials": [scene.materials[index].name for index in entry.materials],
        "objects": entry.objects,
        "looks_wrong": [words for _, words in entry.faults],
    }


def inspection_of(scene: Scene, findings: tuple[Finding, ...]) -> dict[str, Any]:
    """Return what is in gathered files."""
    every = tuple(item.key for item in scene.objects)
    cost = cost_of(scene, every)
    objects = []
    described: dict[tuple[int, tuple[int, ...]], list[dict[str, Any]]] = {}
    sets = max((sets_of(scene, item) for item in scene.objects), default=0)
    met = [overlapping_objects(scene, scene.objects, number) for number in range(sets)]
    measured = figures_of(scene, scene.objects)
    first = {(scene.nodes[item.node].mesh, item.primitives): item for item in reversed(scene.objects)}

    def describe(alike: tuple[int, tuple[int, ...]]) -> None:
        described[alike] = _uv_sets(scene, first[alike])

    in_pieces(describe, list(first))
    for item in scene.objects:
        alike = (scene.nodes[item.node].mesh, item.primitives)
        figures = measured[item.key]
        used = scene.materials_of(item)
        objects.append(
            {
                "name": item.key,
                "triangles": figures.triangles,
                "area_m2": number(figures.area),
                "materials": [scene.materials[index].name if index >= 0 else "default" for index in used],
                "alpha_mode": item.alpha_mode,
                "uv_sets": [one | {"overlaps": list(met[one["set"]].get(item.key, ()))} for one in described[alike]],
                "draw_calls": len(used),
                "source_density_px_m": number(figures.source_density, 1),
                "span": [number(value, 3) for value in figures.span],
            }
        )
    return {
        "version": VERSION,
        "sources": [source.named for source in scene.sources],
        "objects": objects,
        "materials": [
            {
                "name": material.name,
                "alpha_mode": material.alpha_mode,
                "double_sided": material.double_sided,
                "textures": {role: scene.images[slot.image].name for role, slot in material.slots().items()},
            }
            for material in scene.materials
        ],
        "textures": [_texture_entry(scene, entry) for entry in sorted(textures_of(scene), key=lambda one: one.rank)],
        "triangles": sum(entry["triangles"] for entry in objects),
        "draw_calls": cost.draw_calls,
        "texture_bytes": cost.texture_bytes,
        "findings": [finding_entry(finding) for finding in findings],
    }
