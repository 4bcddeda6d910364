"""Writing a document into a .fasc file and reading it back: a zip of ``project.json``, arrays and maps."""

from __future__ import annotations

import io
import math
import os
import zipfile
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from fasciculum.errors import MalformedFile, MissingFile, UnsupportedInput
from fasciculum.model.bundle import (
    BakedMap,
    BakeSettings,
    Bundle,
    CheckResult,
    Fidelity,
    Layout,
    SheetSettings,
    Surface,
    Texturing,
)
from fasciculum.model.document import DeliverySettings, Document
from fasciculum.project import schema

DOCUMENT = "project.json"


def _finite(value: float) -> float | None:
    return value if math.isfinite(value) else (1e9 if value == math.inf else None)


def _number(value: float | None) -> float:
    return math.nan if value is None else math.inf if value >= 1e9 else value


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
        bundles = [
            _bundle_entry(bundle, f"layouts/{number}.npz", archive, encoded_map)
            for number, bundle in enumerate(document.bundles)
        ]
        entry = schema.ProjectEntry(
            schema=schema.VERSION,
            name=document.name,
            sources=[
                schema.SourceEntry(os.path.relpath(source.path, folder.resolve()), source.digest, source.named)
                for source in document.scene.sources
            ],
            bundles=bundles,
            delivery=schema.DeliveryEntry(**asdict(document.delivery)),
            delivered=document.delivered,
            delivered_to=os.path.relpath(document.delivered_to, folder.resolve()) if document.delivered_to else "",
        )
        text = msgspec.json.format(msgspec.json.encode(entry), indent=1)
        archive.writestr(_entry_info(DOCUMENT, zipfile.ZIP_DEFLATED), text)
    return stream.getvalue()


def _entry_info(name: str, method: int = zipfile.ZIP_STORED) -> zipfile.ZipInfo:
    """Return an archive member without a date, so that the same project gives the same bytes."""
    info = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    info.compress_type = method
    return info


def _bundle_entry(
    bundle: Bundle, arrays: str, archive: zipfile.ZipFile, encoded_map: Callable[[str], bytes]
) -> schema.BundleEntry:
    layout = texturing = check = None
    if bundle.layout is not None:
        layout = _layout_entry(bundle.layout, arrays)
        archive.writestr(_entry_info(arrays), _layout_arrays(bundle.layout))
    if bundle.texturing is not None:
        maps = []
        for baked in bundle.texturing.maps:
            file = f"maps/{baked.pixels}.png"
            if file not in archive.namelist():
                archive.writestr(_entry_info(file), encoded_map(baked.pixels))
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
                )
            )
        made = bundle.texturing
        texturing = schema.TexturingEntry(
            maps,
            made.metallic,
            made.roughness,
            made.alpha_cutoff,
            made.double_sided,
            made.unlit,
            made.made_from,
            made.extensions,
        )
    if bundle.check is not None:
        found = bundle.check
        check = schema.CheckEntry(
            [
                schema.FidelityEntry(
                    f.object, *(_finite(v) for v in (f.yield_, f.base_color, f.orm, f.emissive, f.normal_p95))
                )
                for f in found.fidelity
            ],
            found.clean_down_to,
            _finite(found.stretch_l2),
            _finite(found.stretch_share),
            found.made_from,
        )
    return schema.BundleEntry(
        bundle.name,
        list(bundle.objects),
        bundle.alpha_mode,
        schema.SheetEntry(**asdict(bundle.sheet)),
        schema.BakeEntry(list(bundle.bake.maps), bundle.bake.samples, bundle.bake.bleed, bundle.bake.bits),  # type: ignore[arg-type]
        dict(bundle.shares),
        layout,
        texturing,
        check,
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
    )


def _layout_arrays(layout: Layout) -> bytes:
    """Return a layout's arrays as .npz, without dates: NumPy's own writer puts the time into the archive."""
    surfaces = layout.surfaces
    arrays = {
        "placements": layout.placements,
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


class ProjectReader:
    """An open .fasc file: first its sources, so that they can be gathered, then its bundles.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            self._archive = zipfile.ZipFile(path)
            text = self._archive.read(DOCUMENT)
        except FileNotFoundError as error:
            raise MissingFile("there is no such project.", file=str(path), hint="Check its path.") from error
        except (OSError, zipfile.BadZipFile, KeyError) as error:
            raise MalformedFile(
                "this is no project file, or it is damaged.",
                file=str(path),
                hint="Open an earlier copy of it.",
            ) from error
        try:
            version = msgspec.json.decode(text).get("schema", 0)
            if isinstance(version, int) and version > schema.VERSION:
                raise UnsupportedInput(
                    f"the project was saved by a newer version (schema {version}; this one reads {schema.VERSION}).",
                    file=str(path),
                    hint="Open it with that version.",
                )
            self.entry = msgspec.json.decode(text, type=schema.ProjectEntry)
        except (msgspec.DecodeError, AttributeError) as error:
            raise MalformedFile(
                f"{DOCUMENT} is not right: {error}.", file=str(path), hint="Open an earlier copy of it."
            ) from error

    def source_paths(self) -> list[str]:
        """Return where the sources are, from the project's folder."""
        return [str((self.path.parent / source.path).resolve()) for source in self.entry.sources]

    def delivered_to(self) -> str:
        """Return the folder of the last delivery, empty when there was none."""
        entry = self.entry.delivered_to
        return str((self.path.parent / entry).resolve()) if entry else ""

    def settings(self) -> DeliverySettings:
        """Return the delivery's settings."""
        entry = self.entry.delivery
        return DeliverySettings(entry.name, entry.external_textures, entry.keep_source_uvs)

    def bundles(self, known: set[str], keep_map: Callable[[bytes], str]) -> tuple[Bundle, ...]:
        """Return the bundles; objects that were not gathered are left out, and with them what was made of them.

        Parameters
        ----------
        known : set of str
            Keys of the gathered objects.
        keep_map : callable
            Stores an encoded map and returns its key.
        """
        return tuple(self._bundle(entry, known, keep_map) for entry in self.entry.bundles)

    def _bundle(self, entry: schema.BundleEntry, known: set[str], keep_map: Callable[[bytes], str]) -> Bundle:
        objects = tuple(key for key in entry.objects if key in known)
        whole = len(objects) == len(entry.objects)
        sheet = SheetSettings(**msgspec.structs.asdict(entry.sheet))
        bake = BakeSettings(tuple(entry.bake.maps), entry.bake.samples, entry.bake.bleed, entry.bake.bits)
        try:
            layout = self._layout(entry.layout) if entry.layout and whole else None
            texturing = self._texturing(entry.texturing, keep_map) if entry.texturing and layout else None
        except (KeyError, ValueError, OSError, zipfile.BadZipFile) as error:
            raise MalformedFile(
                f"what was made of bundle {entry.name} cannot be read ({error}).",
                file=str(self.path),
                hint="Open an earlier copy of it.",
            ) from error
        check = _check(entry.check) if entry.check and texturing else None
        shares = tuple(sorted(entry.shares.items()))
        return Bundle(entry.name, objects, entry.alpha_mode, sheet, bake, shares, layout, texturing, check)

    def _layout(self, entry: schema.LayoutEntry) -> Layout:
        with np.load(io.BytesIO(self._archive.read(entry.arrays)), allow_pickle=False) as arrays:
            placements, corners = arrays["placements"], arrays["corners"]
            island, projected = arrays["island"], arrays["projected"]
        surfaces, first = [], 0
        for part in entry.surfaces:
            last = first + part.triangles
            surfaces.append(
                Surface(
                    tuple(part.objects),
                    corners[first:last],
                    island[first:last],
                    projected[first:last],
                    part.area,
                    part.share,
                )
            )
            first = last
        if first != len(corners) or len(island) != first:
            raise ValueError("its arrays have the wrong size")
        return Layout(
            tuple(surfaces),
            placements,
            entry.scale,
            entry.width,
            entry.height,
            entry.padding,
            entry.margin,
            entry.gap,
            entry.border_gap,
            entry.overlap,
            entry.fill,
            entry.made_from,
        )

    def _texturing(self, entry: schema.TexturingEntry, keep_map: Callable[[bytes], str]) -> Texturing:
        maps: list[BakedMap] = []
        for part in entry.maps:
            key = keep_map(self._archive.read(part.file))
            maps.append(
                BakedMap(
                    part.name,
                    key,
                    part.width,
                    part.height,
                    part.bits,
                    part.color_space,
                    part.channels,
                    part.strength,
                )
            )
        return Texturing(
            tuple(maps),
            entry.metallic,
            entry.roughness,
            entry.alpha_cutoff,
            entry.double_sided,
            entry.unlit,
            entry.made_from,
            entry.extensions,
        )


def _check(entry: schema.CheckEntry) -> CheckResult:
    def fidelity(part: schema.FidelityEntry) -> Fidelity:
        values: list[Any] = [
            _number(v) for v in (part.yield_, part.base_color, part.orm, part.emissive, part.normal_p95)
        ]
        return Fidelity(part.object, *values)

    return CheckResult(
        tuple(fidelity(part) for part in entry.fidelity),
        entry.clean_down_to,
        _number(entry.stretch_l2),
        _number(entry.stretch_share),
        entry.made_from,
    )
