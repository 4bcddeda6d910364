"""Reading a .fasc file back: what is damaged is left out and told, as long as the document itself can be read."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import InputError, MalformedFile, MissingFile, UnsupportedInput
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.bundle import Bundle, unique_identity
from fasciculum.model.choices import FileFormat, TwinRule
from fasciculum.model.document import Document
from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.layout import ISLAND_COLUMNS, Layout, Surface
from fasciculum.model.maps import KINDS
from fasciculum.model.named_bakes import NamedBake
from fasciculum.model.texturing import BakedMap, CheckResult, Texturing
from fasciculum.model.unwrapping import Shaping
from fasciculum.project.archive import DOCUMENT, MOST_TEXT, Archive, read_arrays
from fasciculum.project.bakes import readable_bake
from fasciculum.project.codec import DAMAGE, Decoder, words_of
from fasciculum.project.members import ARRAY_FIELDS, NOT_STORED, OF_SCENE, SURFACE_ARRAYS
from fasciculum.project.upgrades import VERSION, upgraded

#: texels along an edge, and tiles, at most
LARGEST, MOST_TILES = 16384, 64
MapReader = Callable[[bytes, int], tuple[str, tuple[int, ...]]]


@dataclass(frozen=True)
class SourceEntry:
    """A source as the project knows it: where it is, a digest of it, and the name that it was given."""

    path: str
    digest: str
    named: str = ""


class ProjectReader:
    """An open .fasc file: first its sources, so that they can be gathered, then all else.

    What is damaged is left out and told in ``findings``, as long as the document itself can be read.

    Parameters
    ----------
    path : Path
    keep_map : callable
        Stores an encoded map of so many channels and returns its key and shape.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """

    def __init__(self, path: Path, keep_map: MapReader) -> None:
        self.path = path
        self.findings: list[Finding] = []
        #: for each bundle with maps the one digest that projects before version 5 have of them
        self.earlier_digests: dict[str, str] = {}
        self._keep_map = keep_map
        self._raw = self._opened()
        self._decoder = Decoder(
            self._tell,
            self._from_here,
            {Layout: self._layout, BakedMap: self._map},
            {Texturing: _known, Shaping: _fitting, BakeSettings: self._bake, NamedBake: _titled},
            (Layout, BakedMap, Texturing, CheckResult),
        )
        try:
            self.sources, self.high, self.cages = (
                self._decoder.decode(self._raw.get(name, []), tuple[SourceEntry, ...])
                for name in ("sources", "high", "cages")
            )
            self.name = self._decoder.decode(self._raw["name"], str)
            if not isinstance(self._raw["bundles"], list):
                raise ValueError("its bundles are not a list")
        except DAMAGE as error:
            raise self._malformed(f"{DOCUMENT} is invalid: {error}.") from error
        if not self._archive.whole:
            self._tell(f"{path.name} is damaged; what could be read of it was opened.", "", True, "damaged_project")

    def _malformed(self, words: str) -> MalformedFile:
        return MalformedFile(words, file=str(self.path), hint="Open an earlier copy of it.")

    def _opened(self) -> dict[str, Any]:
        """Return the project's JSON as this version writes it."""
        path = self.path
        try:
            if not path.exists():
                raise MissingFile("there is no such project.", file=str(path), hint="Check its path.")
            if not path.is_file():
                raise MalformedFile("this is not a project file.", file=str(path), hint="Open a .fasc file.")
            self._archive = Archive(path, DOCUMENT)
            text = self._archive.read(DOCUMENT, MOST_TEXT)
        except (OSError, KeyError, ValueError) as error:
            if isinstance(error, InputError):
                raise
            raise self._malformed("this is not a project file, or it is damaged.") from error
        try:
            project = msgspec.json.decode(text)
            if not isinstance(project, dict):
                raise ValueError("it is not an object")
            version = project.get("schema")
            if not isinstance(version, int):
                raise ValueError("it has no version")
        except (msgspec.MsgspecError, ValueError, RecursionError) as error:
            raise self._malformed(f"{DOCUMENT} is invalid: {error}.") from error
        if version > VERSION:
            raise UnsupportedInput(
                f"the project was saved by a newer version (schema {version}; this one reads {VERSION}).",
                file=str(path),
                hint="Open it with that version.",
            )
        try:
            return upgraded(project)
        except DAMAGE as error:
            raise self._malformed(f"{DOCUMENT} is invalid: {error}.") from error

    def _tell(self, words: str, where: str, damaged: bool, code: str = "") -> None:
        code = code or ("damaged_bundle" if damaged else "unknown_choice")
        words = f"In {where}: {words}" if where else words
        self.findings.append(
            Finding(code, WARNING, words, "Pack and bake again what is missing, and save.", bundle=where)
        )

    def _from_here(self, path: str) -> str:
        try:
            return str((self.path.parent / path).resolve())
        except (OSError, ValueError) as error:
            raise self._malformed(f"{path[:80]!r} is not a path.") from error

    def places(self, entries: tuple[SourceEntry, ...]) -> list[str]:
        """Return where sources are, from the project's folder."""
        return [self._from_here(entry.path) for entry in entries]

    @property
    def shapes(self) -> dict[str, str]:
        """The digest of each object's shape when the project was saved."""
        shapes = self._raw.get("shapes")
        return {str(key): str(value) for key, value in shapes.items()} if isinstance(shapes, dict) else {}

    def of_scene(self) -> dict[str, Any]:
        """Return what is stored of the scene beside its sources, by name."""
        results: dict[str, Any] = {}
        for name, kind in OF_SCENE.items():
            try:
                if name in self._raw:
                    results[name] = self._decoder.decode(self._raw[name], kind)
            except DAMAGE as error:
                self._tell(f"The {name} cannot be read and was left out ({words_of(error)}).", "", False)
        return results

    def fields(self) -> dict[str, Any]:
        """Return the fields of the document, bundles with all the objects that they held, by name."""
        for raw in self._raw["bundles"]:
            made = raw.get("texturing") if isinstance(raw, dict) else None
            if isinstance(made, dict) and isinstance(made.get("made_from"), str) and made["made_from"]:
                self.earlier_digests[str(raw.get("name"))] = made["made_from"]
        values: dict[str, Any] = self._decoder.values(self._raw, Document, "", without=NOT_STORED)
        bundles: list[Bundle] = []
        for bundle in values.get("bundles", ()):
            if any(bundle.name == other.name for other in bundles):
                words = f"There are two bundles {bundle.name}; the second was left out."
                self._tell(words, "", True)
                continue
            taken = {other.identity for other in bundles}
            if bundle.identity in taken:
                bundle = replace(bundle, identity=unique_identity(bundle.name, taken))
            bundles.append(_consistent(bundle))
        return values | {"bundles": tuple(bundles)}

    def _layout(self, raw: Any) -> Layout:
        arrays = read_arrays(
            self._archive.read(raw["arrays"]),
            {
                "placements": ("f", 2),
                **{name: (np.dtype(kind).kind, len(shape)) for name, (kind, shape) in SURFACE_ARRAYS.items()},
            },
            {column.entry: (np.dtype(column.dtype).kind, 1) for column in ISLAND_COLUMNS},
        )
        placements = arrays["placements"]
        columns: dict[str, Any] = {
            column.name: arrays[column.entry] for column in ISLAND_COLUMNS if column.entry in arrays
        }
        _judge(arrays, columns)
        surfaces = tuple(self._surfaces(raw["surfaces"], arrays))
        if sum(one.count for one in surfaces) != len(placements):
            raise ValueError("its arrays have the wrong size")
        if "places" in columns and len(placements):
            _, alike = np.unique(columns["places"], return_inverse=True)
            columns["places"] = alike.reshape(-1).astype(np.int32)
        values = self._decoder.values(raw, Layout, "", without=ARRAY_FIELDS)
        layout = Layout(surfaces=surfaces, placements=placements, **columns, **values)
        if not (0 < layout.width <= LARGEST and 0 < layout.height <= LARGEST and 0 < layout.tiles <= MOST_TILES):
            raise ValueError("its sheet has an impossible size")
        if len(layout.pages) and (layout.pages.min() < 0 or layout.pages.max() >= layout.tiles):
            raise ValueError("an island lies on a page that does not exist")
        return replace(layout, slices=max(0, min(layout.slices, layout.tiles)))

    def _surfaces(self, entries: Any, arrays: dict[str, NDArray[Any]]) -> Iterator[Surface]:
        first = 0
        for entry in entries:
            last = first + self._decoder.decode(entry["triangles"], int)
            if not first <= last <= len(arrays["island"]):
                raise ValueError("its arrays have the wrong size")
            own: dict[str, Any] = {name: arrays[name][first:last] for name in SURFACE_ARRAYS}
            yield Surface(**own, **self._decoder.values(entry, Surface, "", without=SURFACE_ARRAYS))
            first = last
        if first != len(arrays["island"]):
            raise ValueError("its arrays have the wrong size")

    def _map(self, raw: Any) -> BakedMap:
        baked = BakedMap(**self._decoder.values(raw, BakedMap, ""))
        if baked.name not in KINDS:
            raise ValueError(f"there is no map {baked.name[:60]}")
        FileFormat(baked.format)
        key, shape = self._keep_map(self._archive.read(baked.pixels), baked.channels)
        if shape != (baked.height, baked.width, baked.channels) or not 0 < baked.tiles <= MOST_TILES:
            raise ValueError(f"{baked.name} is of another size")
        if baked.tex_coord not in (0, 1):
            raise ValueError(f"{baked.name} is read through an impossible UV set")
        return replace(baked, pixels=key)

    def _bake(self, bake: BakeSettings) -> BakeSettings:
        return readable_bake(bake, lambda words: self._tell(words, "", False))


def _judge(arrays: dict[str, NDArray[Any]], columns: dict[str, NDArray[Any]]) -> None:
    """Raise `ValueError` when a layout's arrays do not go together."""
    placements, corners, island = arrays["placements"], arrays["corners"], arrays["island"]
    if placements.shape[1:] != (6,) or corners.shape[1:] != (3, 2):
        raise ValueError("its arrays have the wrong shape")
    if not np.isfinite(placements).all() or not np.isfinite(corners).all() or (island < 0).any():
        raise ValueError("its arrays hold impossible values")
    if any(len(array) != len(placements) or not np.isfinite(array).all() for array in columns.values()):
        raise ValueError("its arrays have the wrong size")
    if len({len(arrays[name]) for name in SURFACE_ARRAYS}) != 1:
        raise ValueError("its arrays have the wrong size")


def _known(made: Texturing) -> Texturing:
    """Return maps without what is said of maps that do not exist."""
    return replace(
        made,
        constants=tuple(
            one for one in made.constants if one.name in KINDS and len(one.values) in (KINDS[one.name].channels, 3)
        ),
        unwritten=tuple(name for name in made.unwritten if name in KINDS),
        legend={name: colors for name, colors in made.legend.items() if name in KINDS},
    )


def _fitting(told: Shaping) -> Shaping:
    """Return what was said of an object without what its triangles do not allow."""

    def within(triangles: tuple[int, ...]) -> bool:
        return all(0 <= index < told.count for index in triangles)

    return replace(
        told,
        uv_set=min(max(told.uv_set, -1), 64),
        seams=tuple(edge for edge in told.seams if 0 <= edge < 3 * told.count),
        joined=tuple(edge for edge in told.joined if 0 <= edge < 3 * told.count),
        projections=tuple(
            one
            for one in told.projections
            if len(one.axes) == 9
            and within(one.triangles)
            and all(map(math.isfinite, (*one.origin, *one.axes, one.size)))
        ),
        hand=tuple(
            one
            for one in told.hand
            if len(one.corners) == 6 * len(one.triangles)
            and within(one.triangles)
            and all(map(math.isfinite, one.corners))
        ),
    )


def _titled(named: NamedBake) -> NamedBake:
    """Return a named bake; `ValueError` when it has no title."""
    if not named.title.strip():
        raise ValueError("it has no name")
    return replace(named, title=named.title.strip())


def _consistent(bundle: Bundle) -> Bundle:
    """Return a bundle without what does not go together."""
    made = bundle.texturing if bundle.layout is not None else None
    return replace(
        bundle,
        objects=tuple(dict.fromkeys(bundle.objects)),
        shares=tuple(sorted(bundle.shares)),
        twin_rules=tuple(sorted(rule for rule in bundle.twin_rules if rule[1] is not TwinRule.TOGETHER)),
        shapings=tuple(sorted(bundle.shapings, key=lambda pair: pair[0])),
        texturing=made,
        check=bundle.check if made is not None else None,
    )
