"""Reading a .fasc file back: what is damaged is left out and told, as long as the document itself can be read."""

from __future__ import annotations

import math
import struct
import zipfile
import zlib
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TypeVar

import msgspec
import numpy as np

from fasciculum.errors import InputError, MalformedFile, MissingFile, UnsupportedInput
from fasciculum.model.bundle import Bundle, unique_identity
from fasciculum.model.choices import (
    AlphaMode,
    Choice,
    ColorSpace,
    FileFormat,
    ObjectPolicy,
    Treatment,
    TwinRule,
)
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.detail import Pairing
from fasciculum.model.document import UvEdit
from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.given import Given
from fasciculum.model.layers import Layer
from fasciculum.model.layout import ISLAND_COLUMNS, Layout, Surface, Version
from fasciculum.model.lighting import Lighting
from fasciculum.model.lookup import Lookup
from fasciculum.model.maps import KINDS
from fasciculum.model.named_bakes import NamedBake
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.terms import Terms
from fasciculum.model.texturing import BakedMap, CheckResult, Fidelity, LightFigures, MapConstant, Texturing
from fasciculum.model.unwrapping import HandFlat, Projection, Shaping
from fasciculum.project import schema
from fasciculum.project.archive import DOCUMENT, MOST_TEXT, Archive, read_arrays
from fasciculum.project.bakes import read_bake, read_bakes
from fasciculum.project.settings import read_settings
from fasciculum.project.upgrades import upgraded

Word = TypeVar("Word", bound=Choice)
#: what reading a damaged part may raise
DAMAGE = (KeyError, ValueError, OSError, zipfile.BadZipFile, struct.error, zlib.error, InputError)


def _number(value: float | None) -> float:
    return math.nan if value is None else math.inf if value >= 1e9 else value


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
        #: for each bundle with maps the one digest that projects before version 5 have of them
        self.earlier_digests: dict[str, str] = {}
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

    def high_paths(self) -> tuple[list[str], list[str]]:
        """Return where the high-poly models and the cages are, from the project's folder."""
        high, cages = (
            [self._from_here(source.path) for source in some] for some in (self.entry.high, self.entry.cages)
        )
        return high, cages

    def pairing(self) -> Pairing:
        """Return what is said of which high-poly objects are read into which."""
        return read_settings(Pairing, self.entry.pairing, lambda words: self._tell("unknown_choice", words, ""))

    def lighting(self) -> Lighting:
        """Return what is said of what shines, the sky's picture where it is from the project's folder."""
        result = read_settings(Lighting, self.entry.lighting, lambda words: self._tell("unknown_choice", words, ""))
        if result.sky.picture:
            place = self._from_here(result.sky.picture)
            result = replace(result, sky=replace(result.sky, picture=place))
            if not Path(place).is_file():
                words = f"The sky's picture {Path(place).name} is not there; light cannot be baked until it is."
                self._tell("sky_missing", words, "")
        return result

    def layers(self) -> tuple[Layer, ...]:
        """Return what is laid over materials, its pictures where they are from the project's folder."""
        results = []
        for number, raw in enumerate(self.entry.layers):
            try:
                layer = msgspec.convert(raw, Layer).with_files(self._from_here)
            except msgspec.ValidationError as error:
                self._tell("unknown_choice", f"Layer {number + 1} was left out, since it is not right: {error}.", "")
                continue
            results.append(layer)
            for image in layer.images:
                if not Path(image.file).is_file():
                    words = f"{layer.name} reads {Path(image.file).name}, which is not there; nothing can be baked."
                    self._tell("layer_missing", words, "")
        return tuple(results)

    def delivered_to(self) -> str:
        """Return the folder of the last delivery, empty when there was none."""
        entry = self.entry.delivered_to
        return self._from_here(entry) if entry else ""

    def _told_settings(self, bundle: str = "") -> Callable[[str], None]:
        where = f"In {bundle}: " if bundle else "In the delivery: "
        return lambda words: self._tell("unknown_choice", where + words, bundle)

    def _choice(self, kind: type[Word], given: str, default: Word, bundle: str) -> Word:
        """Return a word as the choice that it is, or the default, which is told."""
        try:
            return kind(given)
        except ValueError:
            self._told_settings(bundle)(f"{given!r:.60} is not known; {default.value!r} was taken instead.")
            return default

    def deliveries(self) -> list[DeliverySettings]:
        """Return the chosen delivery, and behind it those that the project keeps."""
        tell = self._told_settings()
        return [read_settings(DeliverySettings, raw, tell) for raw in (self.entry.delivery, *self.entry.deliveries)]

    def terms(self) -> Terms:
        """Return what plans are to keep."""
        return read_settings(Terms, self.entry.terms, lambda words: self._tell("unknown_choice", words, ""))

    def treatments(self) -> tuple[tuple[str, Treatment], ...]:
        """Return the treatments of materials that were chosen by hand."""
        told = self.entry.treatments.items()
        return tuple(sorted((name, self._choice(Treatment, word, Treatment.BAKE, "")) for name, word in told))

    def bakes(self) -> tuple[NamedBake, ...]:
        """Return the named bakes."""
        return read_bakes(self.entry.bakes, lambda words: self._tell("unknown_choice", f"In a named bake: {words}", ""))

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

    def bundles(self, keep_map: Callable[[bytes, int], tuple[str, tuple[int, ...]]]) -> tuple[Bundle, ...]:
        """Return the bundles with all the objects that they held.

        Parameters
        ----------
        keep_map : callable
            Stores an encoded map and returns its key and shape.
        """
        results: list[Bundle] = []
        for number, raw in enumerate(self.entry.bundles):
            try:
                entry = msgspec.json.decode(raw, type=schema.BundleEntry)
            except (msgspec.MsgspecError, ValueError) as error:
                self._tell("damaged_bundle", f"Bundle {number + 1} of the project cannot be read ({error}).", "")
                continue
            if any(bundle.name == entry.name for bundle in results):
                self._tell("damaged_bundle", f"There are two bundles {entry.name}; the second was left out.", "")
                continue
            bundle = self._bundle(entry, keep_map)
            taken = {other.identity for other in results}
            if bundle.identity in taken:
                bundle = replace(bundle, identity=unique_identity(bundle.name, taken))
            results.append(bundle)
        return tuple(results)

    def _bundle(
        self, entry: schema.BundleEntry, keep_map: Callable[[bytes, int], tuple[str, tuple[int, ...]]]
    ) -> Bundle:
        tell = self._told_settings(entry.name)
        sheet = read_settings(SheetSettings, entry.sheet, tell)
        bake = read_bake(entry.bake, tell)
        layout = texturing = None
        try:
            layout = self._layout(entry.layout) if entry.layout else None
            texturing = self._texturing(entry.texturing, keep_map) if entry.texturing and layout else None
        except DAMAGE as error:
            what = "layout" if layout is None else "maps"
            words = error.message if isinstance(error, InputError) else str(error)
            self._tell("damaged_bundle", f"The {what} of {entry.name} cannot be read ({words}).", entry.name)
        if entry.texturing is not None and texturing is not None:
            self.earlier_digests[entry.name] = entry.texturing.made_from
        rules = {
            key: self._choice(TwinRule, rule, TwinRule.TOGETHER, entry.name) for key, rule in entry.twin_rules.items()
        }
        return Bundle(
            entry.name,
            tuple(dict.fromkeys(entry.objects)),
            self._choice(AlphaMode, entry.alpha_mode, AlphaMode.OPAQUE, entry.name),
            sheet,
            bake,
            tuple(sorted(entry.shares.items())),
            layout,
            texturing,
            _check(entry.check) if entry.check and texturing else None,
            tuple(sorted((key, rule) for key, rule in rules.items() if rule is not TwinRule.TOGETHER)),
            self._versions(entry),
            tuple((key, self._shaping(told, entry.name)) for key, told in sorted(entry.shapings.items())),
            entry.identity,
            tuple(
                (name, self._choice(Treatment, way, Treatment.BAKE, entry.name))
                for name, way in sorted(entry.ways.items())
            ),
            self._given(entry),
        )

    def _given(self, entry: schema.BundleEntry) -> Given | None:
        """Return a bundle's given sheet, its files where they are from the project's folder."""
        if entry.given is None:
            return None
        try:
            given = msgspec.convert(entry.given, Given)
        except msgspec.ValidationError as error:
            self._tell("damaged_bundle", f"The given sheet of {entry.name} cannot be read ({error}).", entry.name)
            return None
        maps = tuple(replace(one, file=self._from_here(one.file)) if one.file else one for one in given.maps)
        for one in maps:
            if one.file and not Path(one.file).is_file():
                words = f"{entry.name} is laid onto {Path(one.file).name}, which does not exist."
                self._tell("given_missing", words, entry.name)
        return replace(given, maps=maps, file=self._from_here(given.file) if given.file else "")

    def _versions(self, entry: schema.BundleEntry) -> tuple[Version, ...]:
        results = []
        for part in entry.versions:
            try:
                results.append(Version(part.name, self._layout(part.layout)))
            except DAMAGE:
                words = f"The layout version {part.name} of {entry.name} cannot be read."
                self._tell("damaged_bundle", words, entry.name)
        return tuple(results)

    def _shaping(self, entry: schema.ShapingEntry, bundle: str) -> Shaping:
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
        seams, joined = (
            tuple(edge for edge in edges if edge < 3 * entry.count) for edges in (entry.seams, entry.joined)
        )
        policy = self._choice(ObjectPolicy, entry.policy, ObjectPolicy.BUNDLE, bundle)
        return Shaping(policy, entry.uv_set, seams, joined, projections, hand, entry.count)

    def _layout(self, entry: schema.LayoutEntry) -> Layout:
        arrays = read_arrays(
            self._archive.read(entry.arrays),
            {"placements": ("f", 2), "corners": ("f", 3), "island": ("i", 1), "projected": ("b", 1)},
            {column.entry: (np.dtype(column.dtype).kind, 1) for column in ISLAND_COLUMNS},
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
        more = {column.name: arrays[column.entry] for column in ISLAND_COLUMNS if column.entry in arrays}
        if any(len(array) != len(placements) or not np.isfinite(array).all() for array in more.values()):
            raise ValueError("its arrays have the wrong size")
        if "places" in more and len(placements):
            _, alike = np.unique(more["places"], return_inverse=True)
            more["places"] = alike.reshape(-1).astype(np.int32)
        pages = more.get("pages", np.zeros(0, np.int32))
        if len(pages) and (pages.min() < 0 or pages.max() >= entry.tiles):
            raise ValueError("an island lies on a page that is not there")
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
            slices=max(0, min(entry.slices, entry.tiles)),
            **more,
        )

    def _texturing(
        self, entry: schema.TexturingEntry, keep_map: Callable[[bytes, int], tuple[str, tuple[int, ...]]]
    ) -> Texturing:
        maps: list[BakedMap] = []
        for part in entry.maps:
            if part.name not in KINDS:
                raise ValueError(f"there is no map {part.name[:60]}")
            key, shape = keep_map(self._archive.read(part.file), part.channels)
            if shape != (part.height, part.width, part.channels):
                raise ValueError(f"{part.name} is of another size")
            maps.append(
                BakedMap(
                    part.name,
                    key,
                    part.width,
                    part.height,
                    part.bits,
                    ColorSpace(part.color_space),
                    part.channels,
                    part.strength,
                    part.tiles,
                    part.made_from,
                    FileFormat(part.format),
                    part.frame,
                    tuple(part.surfaces),
                    part.tex_coord,
                    self._from_here(part.source) if part.source else "",
                    part.source_digest,
                )
            )
        return Texturing(
            tuple(maps),
            entry.metallic,
            entry.roughness,
            entry.alpha_cutoff,
            entry.double_sided,
            entry.unlit,
            entry.extensions,
            tuple(
                MapConstant(one.name, tuple(one.values), one.strength, one.made_from)
                for one in entry.constants
                if one.name in KINDS and len(one.values) in (KINDS[one.name].channels, 3)
            ),
            tuple(name for name in entry.unwritten if name in KINDS),
            {name: dict(colors) for name, colors in entry.legend.items() if name in KINDS},
            tuple(sorted(entry.missed.items())),
            None if entry.light is None else LightFigures(**msgspec.to_builtins(entry.light)),
            None if entry.light_layout is None else self._layout(entry.light_layout),
        )


def _check(entry: schema.CheckEntry) -> CheckResult:
    def fidelity(part: schema.FidelityEntry) -> Fidelity:
        figures = tuple((name, _number(value)) for name, value in part.figures.items() if name in KINDS)
        return Fidelity(part.object, _number(part.yield_), figures)

    return CheckResult(
        tuple(fidelity(part) for part in entry.fidelity),
        entry.clean_down_to,
        _number(entry.stretch_l2),
        _number(entry.stretch_share),
        entry.made_from,
        tuple(sorted(entry.wasted.items())),
        tuple(sorted(entry.wasted_objects.items())),
        tuple(entry.unlike.items()),
    )
