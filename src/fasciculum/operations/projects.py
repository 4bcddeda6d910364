"""Open and save: a document from and into a project file."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from fasciculum.errors import MissingSource
from fasciculum.io.formats.images import decode
from fasciculum.io.pixels import PixelStore
from fasciculum.model.document import Document
from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.scene import Scene
from fasciculum.operations.deliver.conventions import encoded_map
from fasciculum.operations.deliver.writing import write_whole
from fasciculum.operations.gather.gather import gather, with_names
from fasciculum.operations.gather.matching import carried_bundle, match_objects
from fasciculum.operations.gather.uv_sets import edited
from fasciculum.progress import SILENT, Progress
from fasciculum.project.files import ProjectReader, project_bytes


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
    reader = ProjectReader(path)
    instead = instead or {}
    entries = {
        instead.get(place, place): entry
        for place, entry in zip(reader.source_paths(), reader.entry.sources, strict=True)
    }
    missing = [place for place in entries if place and not Path(place).exists()]
    if missing:
        raise MissingSource(
            f"the project's source {Path(missing[0]).name} is not there any more.",
            file=missing[0],
            item=path.name,
            hint="Put it back, or say where it is now.",
        )
    lookup = reader.lookup()
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
        notes.append(Finding("source_left_out", WARNING, f"{place} is not there; its objects were left out.", ""))
    scene = with_names(scene, {place: entry.named for place, entry in entries.items()})
    edits = reader.uv_edits()
    for edit in edits:
        scene = edited(scene, edit)

    def keep(data: bytes) -> tuple[str, tuple[int, ...]]:
        pixels = decode(data, place=path.name)
        key = store.put(pixels)
        store.put_encoded(f"{key}.png", data)
        return key, pixels.shape

    progress.update(0.8, "Reading layouts and maps")
    read = reader.bundles(keep)
    notes += reader.findings
    shapes = {key: "" for bundle in read for key in bundle.objects} | reader.entry.shapes
    found = match_objects(shapes, scene)
    delivery, deliveries = reader.settings()
    taken: set[str] = set()
    bundles = []
    for bundle in read:
        lost = [key for key in bundle.objects if key not in found]
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
        mine = {old: new for old, new in found.items() if new not in taken}
        carried = carried_bundle(bundle, mine, scene)
        taken |= set(carried.objects)
        bundles.append(carried)
    return Document(
        name=reader.entry.name,
        scene=scene,
        bundles=tuple(bundles),
        gathered=(*findings, *notes),
        delivery=delivery,
        deliveries=deliveries,
        lookup=lookup,
        accepted=tuple(reader.entry.accepted),
        delivered=reader.entry.delivered,
        delivered_to=reader.delivered_to(),
        uv_edits=edits,
    )
