"""Adding models to a document, and the demo's set-up; run in the worker."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace
from pathlib import Path

from fasciculum.errors import MissingFile, UsageError
from fasciculum.io.given_files import read_sheet
from fasciculum.io.layer_files import read_layers
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.choices import Combine, Rule
from fasciculum.model.detail import Pairing
from fasciculum.model.document import Document
from fasciculum.model.lamps import model_lamps
from fasciculum.model.lighting import Lamp, LampKind, Lighting, Sky, SkyKind, sun_direction
from fasciculum.model.scene import Scene
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.gather.bundling import bundle_objects
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.gather.high import gather_high
from fasciculum.operations.gather.matching import carried_bundle
from fasciculum.operations.gather.pairing import pair_up
from fasciculum.operations.gather.palettes import made_palette
from fasciculum.operations.plan.take import take_plan
from fasciculum.progress import SILENT, Progress
from fasciculum.session.commands import add_bundle, set_given, set_layers, set_lighting
from fasciculum.session.reloading import reload_sources
from fasciculum.station import STATION


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


def without_objects(document: Document, keys: Collection[str]) -> Document:
    """Return the document without some objects; the sources stay, and the rest keeps its layout."""
    scene = document.scene.without(keys)
    stays = {item.key: item.key for item in scene.objects}
    return replace(
        document,
        scene=scene,
        bundles=tuple(carried_bundle(bundle, stays, scene) for bundle in document.bundles),
        gathered=tuple(finding for finding in document.gathered if finding.object not in keys),
        removed=tuple(sorted({*document.removed, *keys})),
    )


def use_as_high(document: Document, keys: Collection[str], folder: str, *, progress: Progress = SILENT) -> Document:
    """Return the document with some objects as high-poly ones, read into those that are left.

    Raises
    ------
    UsageError
        When no object would be left that they could be read into.
    """
    scene = document.scene
    if not set(scene.keys) - set(keys):
        raise UsageError("no object would be left to read them into.", hint="Leave the low-poly objects as they are.")

    def place(scene: Scene, key: str) -> tuple[str, int, tuple[int, ...]]:
        item = scene.object(key)
        node = scene.nodes[item.node]
        return scene.sources[node.source].path, node.number, item.primitives

    moved = {place(scene, key) for key in keys}
    files = list(dict.fromkeys(path for path, _, _ in sorted(moved)))
    # a file of which nothing else is used is a source no longer
    whole = [
        path for path in files if all(place(scene, key) in moved for key in scene.keys if place(scene, key)[0] == path)
    ]
    document = without_objects(document, keys)
    if whole:
        # what is gathered again one day is not left out for having been there once
        left = tuple(key for key in document.removed if key not in keys or place(scene, key)[0] not in whole)
        document = replace(document, removed=left)
        document = reload_sources(document, folder, without=whole, progress=progress.part(0.0, 0.4))
    high = add_high(document, files, [], document.pairing, "", folder, progress=progress.part(0.4, 1.0))
    detail = high.scene.detail
    assert detail is not None
    surplus = [
        key
        for key in detail.scene.keys
        if place(detail.scene, key)[0] in files and place(detail.scene, key) not in moved
    ]
    if surplus:
        removed = (*high.removed_high, *surplus)
        detail = replace(detail, scene=detail.scene.without(surplus))
        high = replace(high, scene=replace(high.scene, detail=detail), removed_high=removed)
        high = pair_again(high, high.pairing)
    return high


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
    """Return where the demo station's file, and that of its detailed parts, are.

    Raises
    ------
    MissingFile
    """
    model, detailed = STATION / "station.glb", STATION / "station_high.glb"
    for file in (model, detailed):
        if not file.exists():
            raise MissingFile("the demo station is missing.", file=str(file), hint="Install Fasciculum again.")
    return model, detailed


#: the demo's objects that are laid onto its sheet of wood, and onto a palette of their own colours
WOODEN = ("Crate", "Crate small", "Crate flat", "Hut shutter left", "Hut shutter right")
DESK = ("Control desk",)


def with_demo_sheets(document: Document) -> Document:
    """Return the demo with what is given: crates and shutters on a sheet of wood, the control desk on a palette.

    Moss and dirt lie on its steps and lamp posts.
    """
    wooden, desk = ([key for key in keys if document.scene.has(key)] for keys in (WOODEN, DESK))
    document = add_bundle(document, "Wood", wooden)
    document = set_given(document, ["Wood"], read_sheet(STATION / "wood.json"))
    if desk:
        document = add_bundle(document, "Desk", desk)
        document = set_given(document, ["Desk"], made_palette(document.scene, desk))
    return set_layers(document, read_layers(STATION / "layers.json"))


def demo_lighting(scene: Scene) -> Lighting:
    """Return the demo's dusk: a low sun, a sky that darkens upwards, the lamps, and a light in the cabin."""
    sun = replace(
        next(lamp for lamp in model_lamps(scene) if lamp.kind is LampKind.SUN),
        strength=420.0,
        color=(1.0, 0.52, 0.22),
        direction=sun_direction(238.0, 8.0),
        size=0.6,
    )
    sky = Sky(SkyKind.GRADIENT, color=(7.0, 12.0, 28.0), horizon=(50.0, 30.0, 22.0), ground=(5.0, 5.0, 6.0))
    cabin = Lamp("Cabin light", LampKind.POINT, (1.0, 0.78, 0.45), 90.0, place=(2.6, 2.55, -2.95), size=0.06)
    return Lighting(sky, (cabin,), (sun,))


def demo_document(path: str, high: str, folder: str, *, progress: Progress = SILENT) -> Document:
    """Return the demo station with its detailed parts, bundled by the balanced plan, joined, nothing packed yet."""
    document = replace(add_models(Document(), [path], folder, progress=progress), name="Ropeway station")
    document = add_high(document, [high], [], Pairing(), "", folder, progress=progress)
    document = set_lighting(document, demo_lighting(document.scene))
    delivery = replace(document.delivery, combine=Combine.BUNDLE)
    bundles = take_plan(document.scene, delivery, document.terms, "balanced", progress=progress)
    return with_demo_sheets(replace(document, delivery=delivery, bundles=bundles))
