"""Reading the sources again when they, or what they refer to, changed or were located; run in the worker."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace
from pathlib import Path

from fasciculum.errors import InputError
from fasciculum.io.pixels import PixelStore
from fasciculum.io.places import read_file
from fasciculum.model.bundle import Bundle
from fasciculum.model.digests import digest_of
from fasciculum.model.document import Document
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.layers import LayerImage
from fasciculum.model.lookup import Lookup
from fasciculum.model.scene import Scene
from fasciculum.operations.gather.gather import gather, with_names
from fasciculum.operations.gather.high import gather_high, with_high_names
from fasciculum.operations.gather.matching import carried_bundle, match_objects
from fasciculum.operations.gather.uv_sets import edited
from fasciculum.progress import SILENT, Progress


def reload_sources(
    document: Document,
    folder: str,
    lookup: Lookup | None = None,
    *,
    without: Collection[str] = (),
    progress: Progress = SILENT,
) -> Document:
    """Return the document with its sources read again; objects found again keep their bundle, layout and share.

    Parameters
    ----------
    folder : str
        Of the pixel store.
    without : collection of str
        Paths of sources that leave the project.

    Raises
    ------
    InputError
        When a source cannot be read; the document stays as it is.
    """
    lookup = document.lookup if lookup is None else lookup
    before = document.scene
    paths = [source.path for source in before.sources if source.path not in without]
    scene = Scene()
    findings: tuple[Finding, ...] = ()
    if paths:
        scene, findings = gather(paths, PixelStore(Path(folder)), lookup=lookup, progress=progress)
    names = {source.path: source.named for source in before.sources}
    scene = with_names(scene, names).without(document.removed)
    for edit in document.uv_edits:
        scene = edited(scene, edit)
    sky = before.lighting.sky
    lighting = replace(before.lighting, sky=replace(sky, digest=_digest(sky.picture, sky.digest)))
    layers = tuple(layer.with_images(_anew) for layer in before.layers)
    scene = scene.lit_by(lighting).layered(layers)
    pairing, detail = document.pairing, before.detail
    if detail is not None and detail.scene.sources and scene.objects:
        blown = detail.cages.sources if detail.cages is not None else ()
        scene, pairing, noticed = gather_high(
            scene,
            [source.path for source in detail.scene.sources],
            [source.path for source in blown],
            pairing,
            "",
            PixelStore(Path(folder)),
            without=document.removed_high,
            lookup=lookup,
            progress=progress,
        )
        scene = with_high_names(scene, {source.path: source.named for source in (*detail.scene.sources, *blown)})
        findings = (*findings, *noticed)
    result = match_objects(before.shapes, scene)
    notes = []
    for old in before.objects:
        new = result.get(old.key)
        home = document.bundle_of(old.key)
        left = before.sources[before.nodes[old.node].source].path in without
        if new is None and home is not None and not left:
            notes.append(
                Finding(
                    "object_gone",
                    WARNING,
                    f"{old.key} of bundle {home.name} is no longer in its source.",
                    "Leave it, or put it back into the source and reload.",
                    bundle=home.name,
                )
            )
        elif new is not None and before.shapes[old.key] != scene.shapes[new]:
            notes.append(Finding("object_changed", INFO, f"{new} has another shape than before.", object=new))
    return replace(
        document,
        scene=scene,
        bundles=tuple(_given_anew(carried_bundle(bundle, result, scene)) for bundle in document.bundles),
        gathered=(*findings, *notes),
        lookup=lookup,
        pairing=pairing,
    )


def _digest(file: str, before: str) -> str:
    """Return a digest of what a file holds by now; one that cannot be read is what it was."""
    try:
        return digest_of(read_file(Path(file))) if file else before
    except InputError:
        return before


def _anew(image: LayerImage) -> LayerImage:
    return replace(image, digest=_digest(image.file, image.digest))


def _given_anew(bundle: Bundle) -> Bundle:
    """Return a bundle whose given sheet's textures are what their files hold by now."""
    if bundle.given is None:
        return bundle
    maps = tuple(replace(one, digest=_digest(one.file, one.digest)) for one in bundle.given.maps)
    return replace(bundle, given=replace(bundle.given, maps=maps))


def with_folder(lookup: Lookup, folder: str) -> Lookup:
    """Return the lookup with one more folder that may be read from."""
    return lookup if folder in lookup.folders else replace(lookup, folders=(*lookup.folders, folder))


def with_file(lookup: Lookup, missing: str, chosen: str) -> Lookup:
    """Return the lookup with a file that stands for a missing one, and its folder for the missing one's siblings."""
    moved = tuple(pair for pair in lookup.moved if pair[0] != missing)
    return with_folder(replace(lookup, moved=(*moved, (missing, chosen))), str(Path(chosen).parent))


def watched_files(document: Document) -> Sequence[str]:
    """Return the files that a document was read from, and those that were missing: they may change or turn up.

    Pictures of layers, of the sky and of given sheets are among them.
    """
    scene = document.scene
    files = dict.fromkeys(files_of(scene))
    files.update(dict.fromkeys(sorted(pictures_read(document))))
    return [file for file in files if file]


def pictures_read(document: Document) -> set[str]:
    """Return the pictures that layers, the sky and given sheets read: no material does, and yet they are in use."""
    files = {image.file for layer in document.scene.layers for image in layer.images}
    files |= {one.file for bundle in document.bundles if bundle.given for one in bundle.given.maps}
    return {*files, document.scene.lighting.sky.picture} - {""}


def files_of(whole: Scene) -> Sequence[str]:
    """Return the files of a scene's models, of its high-poly ones and of cages, with buffers and images beside them."""
    files: dict[str, None] = {}
    detail = whole.detail
    beside = () if detail is None else (detail.scene, detail.cages)
    for scene in (whole, *beside):
        for source in scene.sources if scene is not None else ():
            files[source.path] = None
            files.update(dict.fromkeys(source.beside))
        files.update(dict.fromkeys(image.path for image in (scene.images if scene is not None else ()) if image.path))
    return list(files)
