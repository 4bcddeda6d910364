"""Adding models to a document, and the demo's set-up; run in the worker."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from fasciculum.errors import MissingFile
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.choices import Combine, Rule
from fasciculum.model.detail import Pairing
from fasciculum.model.document import Document
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.gather.bundling import bundle_objects
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.gather.high import gather_high
from fasciculum.operations.gather.pairing import pair_up
from fasciculum.operations.plan.take import take_plan
from fasciculum.progress import SILENT, Progress
from fasciculum.session.commands import add_bundle


def add_models(document: Document, paths: Sequence[str], folder: str, *, progress: Progress = SILENT) -> Document:
    """Return the document with more models; the first ones also name it. New objects are loose."""
    scene, findings = gather(
        paths, PixelStore(Path(folder)), onto=document.scene, lookup=document.lookup, progress=progress
    )
    scene = pair_up(scene, document.pairing)
    name = document.name
    if not document.scene.objects and name == "Untitled":
        name = Path(paths[0]).stem
    return replace(document, name=name, scene=scene, gathered=findings)


def add_high(
    document: Document,
    paths: Sequence[str],
    cages: Sequence[str],
    pairing: Pairing,
    pairs_file: str,
    folder: str,
    *,
    progress: Progress = SILENT,
) -> Document:
    """Return the document with high-poly models beside it, or cages, paired with its objects."""
    scene, pairing, findings = gather_high(
        document.scene,
        paths,
        cages,
        pairing,
        pairs_file,
        PixelStore(Path(folder)),
        lookup=document.lookup,
        progress=progress,
    )
    return replace(document, scene=scene, pairing=pairing, gathered=(*document.gathered, *findings))


def pair_again(document: Document, pairing: Pairing, *, progress: Progress = SILENT) -> Document:
    """Return the document with its high-poly objects paired as is said."""
    return replace(document, scene=pair_up(document.scene, pairing, progress=progress), pairing=pairing)


def without_high(document: Document) -> Document:
    """Return the document without its high-poly models."""
    return replace(document, scene=replace(document.scene, detail=None), pairing=Pairing())


def bundle_loose(document: Document, rule: Rule, sheet: SheetSettings) -> Document:
    """Return the document with its loose objects put into bundles by a rule."""
    loose = set(document.loose())
    scene = replace(document.scene, objects=tuple(item for item in document.scene.objects if item.key in loose))
    bundles, findings = bundle_objects(scene, rule, sheet, BakeSettings())
    for bundle in bundles:
        document = add_bundle(document, bundle.name, bundle.objects, sheet=bundle.sheet)
    return replace(document, gathered=(*document.gathered, *findings))


def demo_models() -> tuple[Path, Path]:
    """Return where the demo station's file, and that of its detailed parts, are in a checkout.

    Raises
    ------
    MissingFile
    """
    folder = Path(__file__).resolve().parents[3] / "demo"
    model, detailed = folder / "station.glb", folder / "station_high.glb"
    for file in (model, detailed):
        if not file.exists():
            raise MissingFile("the demo station is missing.", file=str(file), hint="Run it from a checkout.")
    return model, detailed


def demo_document(path: str, high: str, folder: str, *, progress: Progress = SILENT) -> Document:
    """Return the demo station with its detailed parts, bundled by the balanced plan, joined, nothing packed yet."""
    document = replace(add_models(Document(), [path], folder, progress=progress), name="Ropeway station")
    document = add_high(document, [high], [], Pairing(), "", folder, progress=progress)
    delivery = replace(document.delivery, combine=Combine.BUNDLE)
    bundles = take_plan(document.scene, delivery, document.terms, "balanced", progress=progress)
    return replace(document, delivery=delivery, bundles=bundles)
