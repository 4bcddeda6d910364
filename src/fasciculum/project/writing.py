"""Writing a document into a .fasc file: a zip of ``project.json``, arrays and maps."""

from __future__ import annotations

import io
import math
import os
import zipfile
from collections.abc import Callable
from dataclasses import asdict, replace
from functools import partial
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from fasciculum.model.bundle import Bundle
from fasciculum.model.document import Document
from fasciculum.model.given import Given
from fasciculum.model.layout import ISLAND_COLUMNS, Layout
from fasciculum.model.lighting import Lighting
from fasciculum.model.scene import Scene
from fasciculum.model.texturing import CheckResult, Texturing
from fasciculum.project import schema
from fasciculum.project.archive import DOCUMENT
from fasciculum.project.bakes import bake_entries
from fasciculum.project.settings import settings_entry


def _finite(value: float) -> float | None:
    return value if math.isfinite(value) else (1e9 if value == math.inf else None)


def project_bytes(document: Document, folder: Path, encoded_map: Callable[[str], bytes]) -> bytes:
    """Return a document as the bytes of a .fasc file.

    Parameters
    ----------
    document : Document
    folder : Path
        Where the file will lie; sources are referred to from there.
    encoded_map : callable
        Returns a baked map, by its key, as PNG.
    """
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_STORED) as archive:
        members: dict[str, bytes] = {}
        detail = document.scene.detail
        bundles = []
        for number, bundle in enumerate(document.bundles):
            told = _bundle_entry(bundle, folder, f"layouts/{number}.npz", members, encoded_map)
            bundles.append(msgspec.Raw(msgspec.json.encode(told)))
        entry = schema.ProjectEntry(
            schema=schema.VERSION,
            name=document.name,
            sources=_sources(document.scene, folder),
            high=_sources(detail.scene, folder) if detail is not None else [],
            cages=_sources(detail.cages, folder) if detail is not None and detail.cages is not None else [],
            pairing=settings_entry(document.pairing),
            lighting=_lighting_entry(document.scene.lighting, folder),
            layers=[settings_entry(layer.with_files(partial(_seen_from, folder))) for layer in document.scene.layers],
            bundles=bundles,
            shapes=dict(sorted(document.scene.shapes.items())),
            delivery=settings_entry(document.delivery),
            deliveries=[settings_entry(settings) for settings in document.deliveries],
            lookup=schema.LookupEntry(
                [os.path.relpath(path, folder.resolve()) for path in document.lookup.folders],
                [
                    (os.path.relpath(old, folder.resolve()), os.path.relpath(new, folder.resolve()))
                    for old, new in document.lookup.moved
                ],
            ),
            accepted=list(document.accepted),
            delivered=document.delivered,
            delivered_to=os.path.relpath(document.delivered_to, folder.resolve()) if document.delivered_to else "",
            bakes=bake_entries(document.bakes),
            terms=settings_entry(document.terms),
            treatments={name: str(way) for name, way in document.treatments},
            removed=list(document.removed),
            removed_high=list(document.removed_high),
            uv_edits=[msgspec.convert(asdict(edit), schema.UvEditEntry, strict=False) for edit in document.uv_edits],
        )
        text = msgspec.json.format(msgspec.json.encode(entry), indent=1)
        # first, so that it survives when the end of the file is lost
        archive.writestr(_entry_info(DOCUMENT, zipfile.ZIP_DEFLATED), text)
        for name, data in members.items():
            archive.writestr(_entry_info(name), data)
    return stream.getvalue()


def _sources(scene: Scene, folder: Path) -> list[schema.SourceEntry]:
    return [
        schema.SourceEntry(os.path.relpath(source.path, folder.resolve()), source.digest, source.named)
        for source in scene.sources
    ]


def _lighting_entry(lighting: Lighting, folder: Path) -> dict[str, Any]:
    """Return what is said of what shines, its picture as seen from the project's folder."""
    picture = lighting.sky.picture
    if picture:
        lighting = replace(lighting, sky=replace(lighting.sky, picture=_seen_from(folder, picture)))
    return settings_entry(lighting)


def _seen_from(folder: Path, file: str) -> str:
    """Return a file's path as seen from a folder."""
    return os.path.relpath(file, folder.resolve())


def _entry_info(name: str, method: int = zipfile.ZIP_STORED) -> zipfile.ZipInfo:
    """Return an archive member without a date, so that the same project gives the same bytes."""
    info = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    info.compress_type = method
    return info


def _bundle_entry(
    bundle: Bundle, folder: Path, arrays: str, members: dict[str, bytes], encoded_map: Callable[[str], bytes]
) -> schema.BundleEntry:
    layout = None
    if bundle.layout is not None:
        layout = _layout_entry(bundle.layout, arrays)
        members[arrays] = _layout_arrays(bundle.layout)
    versions = []
    for number, version in enumerate(bundle.versions):
        kept = f"{arrays.removesuffix('.npz')}_{number}.npz"
        versions.append(schema.VersionEntry(version.name, _layout_entry(version.layout, kept)))
        members[kept] = _layout_arrays(version.layout)
    texturing = None
    if bundle.texturing is not None:
        texturing = _texturing_entry(bundle.texturing, folder, arrays, members, encoded_map)
    return schema.BundleEntry(
        bundle.name,
        list(bundle.objects),
        bundle.alpha_mode,
        settings_entry(bundle.sheet),
        settings_entry(bundle.bake),
        dict(bundle.shares),
        layout,
        texturing,
        _check_entry(bundle.check) if bundle.check is not None else None,
        {key: str(rule) for key, rule in bundle.twin_rules},
        versions,
        {key: msgspec.convert(asdict(told), schema.ShapingEntry, strict=False) for key, told in bundle.shapings},
        bundle.identity,
        {name: str(way) for name, way in bundle.ways},
        None if bundle.given is None else _given_entry(bundle.given, folder),
    )


def _given_entry(given: Given, folder: Path) -> dict[str, Any]:
    """Return a given sheet, its files as seen from the project's folder."""
    maps = tuple(replace(one, file=_seen_from(folder, one.file)) if one.file else one for one in given.maps)
    file = _seen_from(folder, given.file) if given.file else ""
    return settings_entry(replace(given, maps=maps, file=file))


def _texturing_entry(
    texturing: Texturing, folder: Path, arrays: str, members: dict[str, bytes], encoded_map: Callable[[str], bytes]
) -> schema.TexturingEntry:
    maps = []
    for baked in texturing.maps:
        file = f"maps/{baked.pixels}.{'exr' if baked.format == 'exr' else 'png'}"
        if file not in members:
            members[file] = encoded_map(baked.pixels)
        maps.append(
            schema.MapEntry(
                baked.name,
                file,
                baked.width,
                baked.height,
                baked.bits,
                baked.color_space,
                baked.channels,
                baked.strength,
                baked.made_from,
                baked.tiles,
                baked.format,
                baked.frame,
                list(baked.surfaces),
                baked.tex_coord,
                _seen_from(folder, baked.source) if baked.source else "",
                baked.source_digest,
            )
        )
    light = None if texturing.light is None else schema.LightEntry(**asdict(texturing.light))
    laid = None
    if texturing.light_layout is not None:
        kept = f"{arrays.removesuffix('.npz')}_light.npz"
        laid = _layout_entry(texturing.light_layout, kept)
        members[kept] = _layout_arrays(texturing.light_layout)
    return schema.TexturingEntry(
        maps,
        texturing.metallic,
        texturing.roughness,
        texturing.alpha_cutoff,
        texturing.double_sided,
        texturing.unlit,
        texturing.extensions,
        constants=[
            schema.ConstantEntry(one.name, list(one.values), one.strength, one.made_from) for one in texturing.constants
        ],
        unwritten=list(texturing.unwritten),
        legend=texturing.legend,
        missed=dict(texturing.missed),
        light=light,
        light_layout=laid,
    )


def _check_entry(result: CheckResult) -> schema.CheckEntry:
    fidelity = [
        schema.FidelityEntry(
            entry.object, _finite(entry.yield_), {name: _finite(value) for name, value in entry.figures}
        )
        for entry in result.fidelity
    ]
    stretch = _finite(result.stretch_l2), _finite(result.stretch_share)
    return schema.CheckEntry(
        fidelity,
        result.clean_down_to,
        *stretch,
        result.made_from,
        dict(result.wasted),
        dict(result.wasted_objects),
        dict(result.unlike),
    )


def _layout_entry(layout: Layout, arrays: str) -> schema.LayoutEntry:
    return schema.LayoutEntry(
        [schema.SurfaceEntry(list(s.objects), len(s.corners), s.area, s.share) for s in layout.surfaces],
        arrays,
        layout.scale,
        layout.width,
        layout.height,
        layout.padding,
        layout.margin,
        layout.gap,
        layout.border_gap,
        layout.overlap,
        layout.fill,
        layout.made_from,
        layout.tiles,
        layout.rules,
        layout.gain if math.isfinite(layout.gain) else None,
        layout.slices,
    )


def _layout_arrays(layout: Layout) -> bytes:
    """Return a layout's arrays as .npz, without dates: NumPy's own writer puts the time into the archive."""
    surfaces = layout.surfaces
    arrays: dict[str, NDArray[Any]] = {
        "placements": layout.placements,
        **{
            column.entry: getattr(layout, column.name)
            for column in ISLAND_COLUMNS
            if column.name != "fields" or layout.on_given
        },
        "corners": np.concatenate([s.corners for s in surfaces]) if surfaces else np.zeros((0, 3, 2)),
        "island": np.concatenate([s.island for s in surfaces]) if surfaces else np.zeros(0, np.int32),
        "projected": np.concatenate([s.projected for s in surfaces]) if surfaces else np.zeros(0, bool),
    }
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w") as archive:
        for name, array in arrays.items():
            part = io.BytesIO()
            np.save(part, array, allow_pickle=False)
            archive.writestr(_entry_info(f"{name}.npy", zipfile.ZIP_DEFLATED), part.getvalue())
    return stream.getvalue()
