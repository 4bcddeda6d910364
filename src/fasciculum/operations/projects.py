"""Open and save: a document from and into a project file."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from pathlib import Path

from fasciculum.errors import MissingSource
from fasciculum.io.codecs import EXR_MAGIC, decode, decode_exr
from fasciculum.io.formats.table import WRITTEN_FORMATS
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.detail import Pairing
from fasciculum.model.digests import digest_of, digest_text
from fasciculum.model.document import Document
from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.lookup import HERE
from fasciculum.model.maps import KINDS
from fasciculum.model.scene import Scene
from fasciculum.operations.bake.bake import map_digest
from fasciculum.operations.check.check import check_digest
from fasciculum.operations.deliver.conventions import encoded_map
from fasciculum.operations.deliver.writing import write_whole
from fasciculum.operations.gather.gather import gather, with_names
from fasciculum.operations.gather.high import gather_high, with_high_names
from fasciculum.operations.gather.matching import carried_bundle, match_objects
from fasciculum.operations.gather.uv_sets import edited
from fasciculum.operations.lay_out.lay_out import paged
from fasciculum.progress import SILENT, Progress
from fasciculum.project.reading import MapReader, ProjectReader
from fasciculum.project.writing import project_bytes


def save_project(document: Document, path: Path, store: PixelStore, *, progress: Progress = SILENT) -> Path:
    """Write a document to a .fasc file, whole or not at all.

    Raises
    ------
    OutputError
    """
    progress.update(0.0, f"Saving {path.name}")
    write_whole(path, project_bytes(document, path.parent, lambda key: encoded_map(store, key)))
    progress.update(1.0, f"Saved {path.name}")
    return path


def open_project(
    path: Path, store: PixelStore, *, instead: Mapping[str, str] | None = None, progress: Progress = SILENT
) -> Document:
    """Read a project and gather its sources.

    Parameters
    ----------
    path : Path
    store : PixelStore
    instead : mapping, optional
        For sources that are no longer where they were, the file to read instead; empty leaves the source out.

    Raises
    ------
    MissingSource
        When a source is not there and nothing is named for it.
    InputError
        When the project or one of its sources cannot be read.
    """
    reader = ProjectReader(path, _keeping(store, path.name))
    instead = instead or {}
    stored = (reader.sources, reader.high, reader.cages)
    places = [[instead.get(place, place) for place in reader.places(some)] for some in stored]
    entries = dict(zip(places[0], reader.sources, strict=True))
    missing = [place for some in places for place in some if place and not Path(place).exists()]
    if missing:
        raise MissingSource(
            f"the project's source {Path(missing[0]).name} does not exist any more.",
            file=missing[0],
            item=path.name,
            hint="Put it back, or say where it is now.",
        )
    fields = reader.fields()
    lookup = fields.get("lookup", HERE)
    wanted = [place for place in entries if place]
    scene: Scene = Scene()
    findings: tuple[Finding, ...] = ()
    if wanted:
        scene, findings = gather(wanted, store, lookup=lookup, progress=progress.part(0.0, 0.7))
    notes: list[Finding] = []
    for source in scene.sources:
        entry = entries.get(source.path)
        if entry is not None and entry.digest != source.digest:
            notes.append(
                Finding(
                    "source_changed",
                    WARNING,
                    f"{Path(source.path).name} has changed since the project was saved.",
                    "Pack and bake the bundles that are stale.",
                )
            )
    for place in (old for old, new in instead.items() if not new):
        notes.append(
            Finding(
                "source_left_out",
                WARNING,
                f"{place} is not there; its objects were left out.",
                "Open the project again and say where the file is, or save the project without it.",
            )
        )
    scene = with_names(scene, {place: entry.named for place, entry in entries.items()})
    scene = scene.without(fields.get("removed", ()))
    for edit in fields.get("uv_edits", ()):
        scene = edited(scene, edit)
    high, cages = ([place for place in some if place] for some in places[1:])
    pairing = fields.get("pairing", Pairing())
    scene = replace(scene, **reader.of_scene())
    if high and scene.objects:
        scene, pairing, noticed = gather_high(
            scene,
            high,
            cages,
            pairing,
            "",
            store,
            without=fields.get("removed_high", ()),
            lookup=lookup,
            progress=progress.part(0.7, 0.8),
        )
        findings = (*findings, *noticed)
        named = [*zip(places[1], reader.high, strict=True), *zip(places[2], reader.cages, strict=True)]
        scene = with_high_names(scene, {place: entry.named for place, entry in named})

    progress.update(0.8, "Reading layouts and maps")
    read: tuple[Bundle, ...] = fields["bundles"]
    result = match_objects({key: "" for bundle in read for key in bundle.objects} | reader.shapes, scene)
    delivery, *deliveries = (
        _known_kinds(settings, notes)
        for settings in (fields.get("delivery", DeliverySettings()), *fields.get("deliveries", ()))
    )
    notes += [*reader.findings, *_missing_files(scene, read)]
    taken: set[str] = set()
    bundles = []
    for bundle in read:
        lost = [key for key in bundle.objects if key not in result]
        notes += [
            Finding(
                "object_gone",
                WARNING,
                f"{key} of bundle {bundle.name} is no longer in its source.",
                "Gather it again, or leave it.",
                object=key,
                bundle=bundle.name,
            )
            for key in lost
        ]
        # an object that a damaged project names twice stays with the first
        mine = {old: new for old, new in result.items() if new not in taken}
        carried = carried_bundle(bundle, mine, scene)
        taken |= set(carried.objects)
        bundles.append(_brought_up(scene, carried, reader.earlier_digests.get(bundle.name, "")))
    made = {"bundles": tuple(bundles), "delivery": delivery, "deliveries": tuple(deliveries), "pairing": pairing}
    return Document(scene=scene, gathered=(*findings, *notes), **{**fields, **made})


def _keeping(store: PixelStore, name: str) -> MapReader:
    """Return a function that stores an encoded map of so many channels and returns its key and shape."""

    def keep(data: bytes, channels: int) -> tuple[str, tuple[int, ...]]:
        floats = data.startswith(EXR_MAGIC)
        pixels = decode_exr(data, place=name) if floats else decode(data, place=name)
        # grey is decoded as three channels that are alike
        pixels = pixels[..., :channels] if channels == 1 else pixels
        key = store.put(pixels)
        store.put_encoded(f"{key}.{'exr' if floats else 'png'}", data)
        return key, pixels.shape

    return keep


def _missing_files(scene: Scene, bundles: tuple[Bundle, ...]) -> Iterator[Finding]:
    """Yield a finding for each file that is read when maps are baked and is not where it should be."""
    picture = scene.lighting.sky.picture
    needed = [("sky_missing", "The sky", picture, "light cannot be baked without it", "")] if picture else []
    needed += [
        ("layer_missing", f"The layer {layer.name}", image.file, "maps cannot be baked without it", "")
        for layer in scene.layers
        for image in layer.images
    ]
    needed += [
        ("given_missing", bundle.name, one.file, "its textures cannot be delivered without it", bundle.name)
        for bundle in bundles
        if bundle.given is not None
        for one in bundle.given.maps
        if one.file
    ]
    for code, what, file, without, bundle in needed:
        if not Path(file).is_file():
            words = f"{what} reads {Path(file).name}, which does not exist; {without}."
            yield Finding(code, WARNING, words, f"Put {Path(file).name} back, or choose another file.", bundle=bundle)


def _known_kinds(settings: DeliverySettings, notes: list[Finding]) -> DeliverySettings:
    """Return a delivery without kinds of models, and maps, that are not known."""
    written = {kind.name for kind in WRITTEN_FORMATS}
    models = tuple(kind for kind in settings.models if kind in written)
    if models == settings.models:
        return settings
    notes.append(
        Finding(
            "unknown_choice",
            WARNING,
            f"The delivery {settings.title} asks for kinds of models that are not known; they were left out.",
            f"There are: {', '.join(sorted(written))}.",
        )
    )
    return replace(settings, models=models or DeliverySettings().models)


def _brought_up(scene: Scene, bundle: Bundle, earlier: str) -> Bundle:
    """Return a bundle of a project before version 5 with a digest for each map, and the check's, if they still hold."""
    if bundle.layout is not None and bundle.layout.tiles > 1 and not bundle.layout.pages.any():
        bundle = replace(bundle, layout=paged(bundle.layout))
    layout, made = bundle.layout, bundle.texturing
    if not earlier or layout is None or made is None:
        return bundle
    check = bundle.check
    if check is not None and check.made_from == digest_of(earlier, layout.made_from):
        check = replace(check, made_from=check_digest(bundle))
    bake = bundle.bake
    angle = bake.edge_angle if bake.edges == "angle" else 0.0
    settings = (bake.maps, bake.samples, bake.bleed, bake.bits, bake.edges, angle, bundle.alpha_mode)
    surfaces = (scene.surfaces[key] for key in bundle.objects)
    if earlier == digest_of(layout.made_from, layout.placements, digest_text(settings), *surfaces):
        maps = tuple(replace(baked, made_from=map_digest(scene, bundle, KINDS[baked.name])) for baked in made.maps)
        made = replace(made, maps=maps)
    return replace(bundle, texturing=made, check=check)
