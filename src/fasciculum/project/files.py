"""Writing a document into a .fasc file and reading it back: a zip of ``project.json``, arrays and maps."""

from __future__ import annotations

import io
import math
import os
import struct
import zipfile
import zlib
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import InputError, MalformedFile, MissingFile, UnsupportedInput
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
    Version,
)
from fasciculum.model.document import DeliverySettings, Document, UvEdit
from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.lookup import Lookup
from fasciculum.model.unwrapping import HandFlat, Projection, Shaping, UnwrapSettings
from fasciculum.project import schema
from fasciculum.project.archive import MOST_TEXT, Archive, read_arrays
from fasciculum.project.upgrades import upgraded

DOCUMENT = "project.json"
#: arrays of a layout with a row for each island, their kinds and dimensions
EACH_ISLAND = {"places": ("i", 1), "pinned": ("b", 1), "moved": ("b", 1), "shares": ("f", 1), "squeezed": ("f", 1)}


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
        members: dict[str, bytes] = {}
        bundles = [
            msgspec.Raw(msgspec.json.encode(_bundle_entry(bundle, f"layouts/{number}.npz", members, encoded_map)))
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
            shapes=dict(sorted(document.scene.shapes.items())),
            delivery=_delivery_entry(document.delivery),
            deliveries=[_delivery_entry(settings) for settings in document.deliveries],
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
            uv_edits=[msgspec.convert(asdict(edit), schema.UvEditEntry, strict=False) for edit in document.uv_edits],
        )
        text = msgspec.json.format(msgspec.json.encode(entry), indent=1)
        # first, so that it survives when the end of the file is lost
        archive.writestr(_entry_info(DOCUMENT, zipfile.ZIP_DEFLATED), text)
        for name, data in members.items():
            archive.writestr(_entry_info(name), data)
    return stream.getvalue()


def _entry_info(name: str, method: int = zipfile.ZIP_STORED) -> zipfile.ZipInfo:
    """Return an archive member without a date, so that the same project gives the same bytes."""
    info = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    info.compress_type = method
    return info


def _delivery_entry(settings: DeliverySettings) -> schema.DeliveryEntry:
    return msgspec.convert(asdict(settings), schema.DeliveryEntry)


def _delivery(entry: schema.DeliveryEntry) -> DeliverySettings:
    values = msgspec.structs.asdict(entry)
    return DeliverySettings(**(values | {"models": tuple(entry.models), "maps": tuple(entry.maps)}))


def _bundle_entry(
    bundle: Bundle, arrays: str, members: dict[str, bytes], encoded_map: Callable[[str], bytes]
) -> schema.BundleEntry:
    layout = texturing = check = None
    if bundle.layout is not None:
        layout = _layout_entry(bundle.layout, arrays)
        members[arrays] = _layout_arrays(bundle.layout)
    versions = []
    for number, version in enumerate(bundle.versions):
        kept = f"{arrays.removesuffix('.npz')}_{number}.npz"
        versions.append(schema.VersionEntry(version.name, _layout_entry(version.layout, kept)))
        members[kept] = _layout_arrays(version.layout)
    if bundle.texturing is not None:
        maps = []
        for baked in bundle.texturing.maps:
            file = f"maps/{baked.pixels}.png"
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
                    baked.tiles,
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
        msgspec.convert(asdict(bundle.sheet), schema.SheetEntry),
        msgspec.convert(asdict(bundle.bake), schema.BakeEntry),
        dict(bundle.shares),
        layout,
        texturing,
        check,
        msgspec.convert(dict(bundle.twin_rules), dict[str, schema.TwinRule]),
        versions,
        {key: msgspec.convert(asdict(told), schema.ShapingEntry, strict=False) for key, told in bundle.shapings},
    )


def _shaping(entry: schema.ShapingEntry) -> Shaping:
    """Return what was said of an object; a damaged hand-made island is left out."""
    projections = tuple(
        Projection(one.kind, one.origin, tuple(one.axes), one.size, one.caps, tuple(one.triangles))
        for one in entry.projections
        if all(math.isfinite(value) for value in (*one.origin, *one.axes, one.size))
        and all(index < entry.count for index in one.triangles)
    )
    hand = tuple(
        HandFlat(tuple(one.triangles), tuple(one.corners))
        for one in entry.hand
        if len(one.corners) == 6 * len(one.triangles)
        and all(index < entry.count for index in one.triangles)
        and all(math.isfinite(value) for value in one.corners)
    )
    seams, joined = (tuple(edge for edge in edges if edge < 3 * entry.count) for edges in (entry.seams, entry.joined))
    return Shaping(entry.policy, entry.uv_set, seams, joined, projections, hand, entry.count)


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
    )


def _layout_arrays(layout: Layout) -> bytes:
    """Return a layout's arrays as .npz, without dates: NumPy's own writer puts the time into the archive."""
    surfaces = layout.surfaces
    arrays: dict[str, NDArray[Any]] = {
        "placements": layout.placements,
        "places": layout.places,
        "pinned": layout.pinned,
        "moved": layout.moved,
        "shares": layout.shares,
        "squeezed": layout.squeezed,
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

    What is damaged is left out and told in ``findings``, as long as the document itself can be read.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self.findings: list[Finding] = []
        try:
            if not path.exists():
                raise MissingFile("there is no such project.", file=str(path), hint="Check its path.")
            if not path.is_file():
                raise MalformedFile("this is no project file.", file=str(path), hint="Open a .fasc file.")
            self._archive = Archive(path, DOCUMENT)
            text = self._archive.read(DOCUMENT, MOST_TEXT)
        except (OSError, KeyError, ValueError) as error:
            if isinstance(error, InputError):
                raise
            raise MalformedFile(
                "this is no project file, or it is damaged.",
                file=str(path),
                hint="Open an earlier copy of it.",
            ) from error
        try:
            project = msgspec.json.decode(text)
            if not isinstance(project, dict):
                raise msgspec.ValidationError("it is no object")
            version = project.get("schema", 0)
            if isinstance(version, int) and version > schema.VERSION:
                raise UnsupportedInput(
                    f"the project was saved by a newer version (schema {version}; this one reads {schema.VERSION}).",
                    file=str(path),
                    hint="Open it with that version.",
                )
            self.entry = msgspec.json.decode(msgspec.json.encode(upgraded(project)), type=schema.ProjectEntry)
        except (msgspec.MsgspecError, ValueError, RecursionError) as error:
            if isinstance(error, InputError):
                raise
            raise MalformedFile(
                f"{DOCUMENT} is not right: {error}.", file=str(path), hint="Open an earlier copy of it."
            ) from error
        if not self._archive.whole:
            self._tell("damaged_project", f"{path.name} is damaged; what could be read of it was opened.", "")

    def _tell(self, code: str, message: str, bundle: str) -> None:
        self.findings.append(
            Finding(code, WARNING, message, "Pack and bake again what is missing, and save.", bundle=bundle)
        )

    def _from_here(self, path: str) -> str:
        try:
            return str((self.path.parent / path).resolve())
        except (OSError, ValueError) as error:
            raise MalformedFile(
                f"{path[:80]!r} is no path.", file=str(self.path), hint="Open an earlier copy of it."
            ) from error

    def source_paths(self) -> list[str]:
        """Return where the sources are, from the project's folder."""
        return [self._from_here(source.path) for source in self.entry.sources]

    def delivered_to(self) -> str:
        """Return the folder of the last delivery, empty when there was none."""
        entry = self.entry.delivered_to
        return self._from_here(entry) if entry else ""

    def settings(self) -> tuple[DeliverySettings, tuple[DeliverySettings, ...]]:
        """Return the chosen delivery, and those that the project keeps beside it."""
        return _delivery(self.entry.delivery), tuple(_delivery(entry) for entry in self.entry.deliveries)

    def uv_edits(self) -> tuple[UvEdit, ...]:
        """Return what was changed of the sources' UV sets."""
        return tuple(
            UvEdit(edit.kind, tuple(edit.objects), edit.source, edit.target, edit.name) for edit in self.entry.uv_edits
        )

    def lookup(self) -> Lookup:
        """Return where missing files were found."""
        entry = self.entry.lookup
        return Lookup(
            tuple(self._from_here(path) for path in entry.folders),
            tuple((self._from_here(old), self._from_here(new)) for old, new in entry.moved),
        )

    def bundles(self, keep_map: Callable[[bytes], tuple[str, tuple[int, ...]]]) -> tuple[Bundle, ...]:
        """Return the bundles with all the objects that they held.

        Parameters
        ----------
        keep_map : callable
            Stores an encoded map and returns its key and shape.
        """
        found: list[Bundle] = []
        for number, raw in enumerate(self.entry.bundles):
            try:
                entry = msgspec.json.decode(raw, type=schema.BundleEntry)
            except (msgspec.MsgspecError, ValueError) as error:
                self._tell("damaged_bundle", f"Bundle {number + 1} of the project cannot be read ({error}).", "")
                continue
            if any(bundle.name == entry.name for bundle in found):
                self._tell("damaged_bundle", f"There are two bundles {entry.name}; the second was left out.", "")
                continue
            found.append(self._bundle(entry, keep_map))
        return tuple(found)

    def _bundle(self, entry: schema.BundleEntry, keep_map: Callable[[bytes], tuple[str, tuple[int, ...]]]) -> Bundle:
        unwrap = UnwrapSettings(**msgspec.structs.asdict(entry.sheet.unwrap))
        sheet = SheetSettings(**(msgspec.structs.asdict(entry.sheet) | {"unwrap": unwrap}))
        bake = BakeSettings(**(msgspec.structs.asdict(entry.bake) | {"maps": tuple(entry.bake.maps)}))
        layout = texturing = None
        try:
            layout = self._layout(entry.layout) if entry.layout else None
            texturing = self._texturing(entry.texturing, keep_map) if entry.texturing and layout else None
        except (KeyError, ValueError, OSError, zipfile.BadZipFile, struct.error, zlib.error, InputError) as error:
            what = "layout" if layout is None else "maps"
            words = error.message if isinstance(error, InputError) else str(error)
            self._tell("damaged_bundle", f"The {what} of {entry.name} cannot be read ({words}).", entry.name)
        versions = []
        for part in entry.versions:
            try:
                versions.append(Version(part.name, self._layout(part.layout)))
            except (KeyError, ValueError, OSError, zipfile.BadZipFile, struct.error, zlib.error, InputError):
                words = f"The layout version {part.name} of {entry.name} cannot be read."
                self._tell("damaged_bundle", words, entry.name)
        check = _check(entry.check) if entry.check and texturing else None
        shares = tuple(sorted(entry.shares.items()))
        objects = tuple(dict.fromkeys(entry.objects))
        return Bundle(
            entry.name,
            objects,
            entry.alpha_mode,
            sheet,
            bake,
            shares,
            layout,
            texturing,
            check,
            tuple(sorted(entry.twin_rules.items())),
            tuple(versions),
            tuple((key, _shaping(told)) for key, told in sorted(entry.shapings.items())),
        )

    def _layout(self, entry: schema.LayoutEntry) -> Layout:
        arrays = read_arrays(
            self._archive.read(entry.arrays),
            {"placements": ("f", 2), "corners": ("f", 3), "island": ("i", 1), "projected": ("b", 1)},
            EACH_ISLAND,
        )
        placements, corners = arrays["placements"], arrays["corners"]
        island, projected = arrays["island"], arrays["projected"]
        if placements.shape[1:] != (6,) or corners.shape[1:] != (3, 2):
            raise ValueError("its arrays have the wrong shape")
        if not np.isfinite(placements).all() or not np.isfinite(corners).all() or (island < 0).any():
            raise ValueError("its arrays hold what cannot be")
        surfaces, first, islands = [], 0, 0
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
            islands += int(island[first:last].max()) + 1 if 0 <= first < last <= len(island) else 0
            first = last
        more = {name: arrays[name] for name in EACH_ISLAND if name in arrays}
        if any(len(array) != len(placements) or not np.isfinite(array).all() for array in more.values()):
            raise ValueError("its arrays have the wrong size")
        if "places" in more and len(placements):
            _, alike = np.unique(more["places"], return_inverse=True)
            more["places"] = alike.reshape(-1).astype(np.int32)
        if first != len(corners) or len(island) != first or len(projected) != first or islands != len(placements):
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
            tiles=entry.tiles,
            rules=entry.rules,
            gain=math.nan if entry.gain is None else entry.gain,
            **more,
        )

    def _texturing(
        self, entry: schema.TexturingEntry, keep_map: Callable[[bytes], tuple[str, tuple[int, ...]]]
    ) -> Texturing:
        maps: list[BakedMap] = []
        for part in entry.maps:
            key, shape = keep_map(self._archive.read(part.file))
            if shape != (part.height, part.width, part.channels):
                raise ValueError(f"{part.name} is of another size")
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
                    part.tiles,
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
