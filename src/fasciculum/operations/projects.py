"""Open and save: a document from and into a project file."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from fasciculum.io.formats.images import decode
from fasciculum.io.pixels import PixelStore
from fasciculum.model.document import Document
from fasciculum.model.finding import WARNING, Finding
from fasciculum.operations.deliver import encoded_map, write_whole
from fasciculum.operations.gather import gather
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


def open_project(path: Path, store: PixelStore, *, progress: Progress = SILENT) -> Document:
    """Read a project and gather its sources.

    Raises
    ------
    InputError
        When the project or one of its sources cannot be read.
    """
    reader = ProjectReader(path)
    scene, findings = gather(reader.source_paths(), store, progress=progress.part(0.0, 0.7))
    named = {source.path: entry.named for source, entry in zip(scene.sources, reader.entry.sources, strict=True)}
    changed = [
        Finding(
            "source_changed",
            WARNING,
            f"{source.named} has changed since the project was saved.",
            "Pack and bake the bundles that are stale.",
        )
        for source, entry in zip(scene.sources, reader.entry.sources, strict=True)
        if source.digest != entry.digest
    ]
    scene = replace(scene, sources=tuple(replace(s, named=named[s.path] or s.named) for s in scene.sources))

    def keep(data: bytes) -> str:
        pixels = decode(data, place=path.name)
        key = store.put(pixels)
        store.put_encoded(f"{key}.png", data)
        return key

    progress.update(0.8, "Reading layouts and maps")
    bundles = reader.bundles({item.key for item in scene.objects}, keep)
    lost = [
        Finding(
            "object_gone",
            WARNING,
            f"{key} of bundle {entry.name} is no longer in its source.",
            "Gather it again, or leave it.",
            object=key,
            bundle=entry.name,
        )
        for entry, bundle in zip(reader.entry.bundles, bundles, strict=True)
        for key in entry.objects
        if key not in bundle.objects
    ]
    return Document(
        reader.entry.name,
        scene,
        bundles,
        (*findings, *changed, *lost),
        reader.settings(),
        reader.entry.delivered,
        reader.delivered_to(),
    )
