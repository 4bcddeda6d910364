"""Named bakes into files: a bundle's maps by settings of their own, written beside each other and kept nowhere else."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from fasciculum.errors import UsageError
from fasciculum.io.names import file_name
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.document import Document
from fasciculum.model.named_bakes import NamedBake
from fasciculum.operations.bake.bake import bake, stale_maps
from fasciculum.operations.deliver.compressing import encoded_files
from fasciculum.operations.deliver.conventions import texture_files
from fasciculum.operations.deliver.writing import write_all
from fasciculum.operations.lay_out.lay_out import layout_digest
from fasciculum.progress import SILENT, Progress


def bake_files(
    document: Document,
    bundle: Bundle,
    named: NamedBake,
    folder: Path,
    store: PixelStore,
    *,
    progress: Progress = SILENT,
) -> list[str]:
    """Bake a bundle by a named bake, and write its maps into a folder of the bake's title; all of them or none.

    Maps that the bundle has already, made from the same, are not baked again.

    Returns
    -------
    list of str
        The files, relative to ``folder``.

    Raises
    ------
    UsageError
        When there is no layout that its maps can be baked on.
    OutputError
    """
    bundle = replace(bundle, bake=named.settings)
    layout = bundle.layout
    if layout is not None and layout.made_from != layout_digest(document.scene, bundle):
        raise UsageError(
            f"the bundle's layout does not suit the bake {named.title}: it is stale, or its copies share places.",
            item=bundle.name,
            hint=f"Take {named.title} for the bundle and pack it, then run the bake.",
        )
    stale = stale_maps(document.scene, bundle)
    if stale or bundle.texturing is None:
        texturing = bake(document.scene, bundle, store, only=stale, progress=progress.part(0.0, 0.8))
        bundle = replace(bundle, texturing=texturing)
    every = texture_files(document, [bundle])[bundle.name]
    pairs = [(bundle, texture) for texture in every]
    files = encoded_files(pairs, document.delivery, store, progress.part(0.8, 0.95))
    inside = file_name(named.title)
    write_all(folder / inside, dict(sorted(files.items())), progress=progress.part(0.95, 1.0))
    return [f"{inside}/{texture.file}" for texture in every]
