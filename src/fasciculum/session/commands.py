"""What changes a document: plain functions from document to document. Each is one step of the history."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import replace
from operator import itemgetter
from typing import Any

import numpy as np

from fasciculum.checks.check import Scope
from fasciculum.checks.registry import checks_of
from fasciculum.errors import UsageError
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.bundle import Bundle, unique_identity
from fasciculum.model.choices import AlphaMode, Combine, Treatment, TwinRule
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.document import Document, UvEdit
from fasciculum.model.given import Given
from fasciculum.model.layers import Layer
from fasciculum.model.layout import Layout, Version
from fasciculum.model.lighting import Lighting
from fasciculum.model.named_bakes import NamedBake
from fasciculum.model.scene import BLEND, MASK, OPAQUE, Scene
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.terms import PLAN_PADDING
from fasciculum.model.texturing import CheckResult, Texturing
from fasciculum.model.unwrapping import PLAIN, Shaping
from fasciculum.operations.bake.light import changed_by_hand
from fasciculum.operations.check.measures import scene_findings
from fasciculum.operations.gather.uv_sets import edited
from fasciculum.operations.lay_out.lay_out import layout_digest

#: checks that look at UV sets
ABOUT_UVS = ("lacking_uvs", "wrong_uv_sets")

#: objects from which a scene counts as a level; cells along its longer side, and the least size of one, metres
LEVEL, CELLS, LEAST_CELL = 200, 8, 8


def _mode_of(scene: Scene, keys: Sequence[str]) -> AlphaMode:
    """Return the one alpha mode that can stand for all of the objects."""
    modes = {scene.object(key).alpha_mode for key in keys}
    return BLEND if BLEND in modes else MASK if MASK in modes else OPAQUE


def _with(document: Document, bundle: Bundle) -> Document:
    return replace(
        document, bundles=tuple(bundle if other.name == bundle.name else other for other in document.bundles)
    )


def unused_name(document: Document, wanted: str = "Bundle") -> str:
    """Return a bundle name that is not taken, regardless of case."""
    taken = {bundle.name.lower() for bundle in document.bundles}
    name, number = wanted, 2
    while name.lower() in taken:
        name, number = f"{wanted} {number}", number + 1
    return name


def add_bundle(
    document: Document, name: str = "", objects: Sequence[str] = (), *, sheet: SheetSettings | None = None
) -> Document:
    """Add a bundle, and move the objects into it; what comes from one bundle keeps its settings."""
    name = unused_name(document, name or "Bundle")
    identity = unique_identity(name, [bundle.identity for bundle in document.bundles])
    homes = {document.bundle_of(key) for key in objects}
    (home,) = homes if len(homes) == 1 else (None,)
    bake = home.bake if home is not None and sheet is None else BakeSettings()
    sheet = sheet or (home.sheet if home is not None else SheetSettings())
    bundle = Bundle(name, (), OPAQUE, sheet, bake, identity=identity)
    added = replace(document, bundles=(*document.bundles, bundle))
    return move_objects(added, objects, name) if objects else added


def rename_bundle(document: Document, name: str, new: str) -> Document:
    """Give a bundle another name.

    Raises
    ------
    UsageError
        When the name is empty or taken.
    """
    new = new.strip()
    if not new:
        raise UsageError("a bundle needs a name.", item=name, hint="Type one.")
    if new.lower() != name.lower() and any(other.name.lower() == new.lower() for other in document.bundles):
        raise UsageError(f"there is a bundle called {new} already.", item=name, hint="Choose another name.")
    return replace(
        document,
        bundles=tuple(replace(other, name=new) if other.name == name else other for other in document.bundles),
    )


def remove_bundle(document: Document, name: str) -> Document:
    """Take a bundle away; its objects become loose."""
    return replace(document, bundles=tuple(other for other in document.bundles if other.name != name))


def move_objects(document: Document, keys: Sequence[str], name: str) -> Document:
    """Move objects into a bundle, or make them loose when the name is empty."""
    moving = set(keys)
    # what was said of them goes with them: how they are laid flat, how dense, which twins, and their materials
    shaped = {key: value for bundle in document.bundles for key, value in bundle.shapings if key in moving}
    rule = next((bundle.sheet.density for bundle in document.bundles if bundle.name == name), None)
    # a share on even density is another thing than one on the source's
    alike = [bundle for bundle in document.bundles if bundle.sheet.density is rule]
    shares = {key: value for bundle in alike for key, value in bundle.shares if key in moving}
    rules = {key: value for bundle in document.bundles for key, value in bundle.twin_rules if key in moving}
    ways = _ways_of(document, moving)
    bundles = []
    for bundle in document.bundles:
        objects = tuple(key for key in bundle.objects if key not in moving)
        if bundle.name == name:
            objects += tuple(item.key for item in document.scene.objects if item.key in moving)
            told = dict(bundle.shapings) | shaped
            bundle = replace(
                bundle,
                shapings=tuple(sorted(told.items(), key=itemgetter(0))) if shaped else bundle.shapings,
                shares=tuple(sorted((dict(bundle.shares) | shares).items())),
                twin_rules=tuple(sorted((dict(bundle.twin_rules) | rules).items())),
                ways=_with_ways(document.scene, bundle, ways),
            )
        elif name and any(key in moving for key, _ in bundle.shapings):
            bundle = replace(bundle, shapings=tuple(rule for rule in bundle.shapings if rule[0] not in moving))
        if objects != bundle.objects:
            bundle = replace(bundle, objects=objects, alpha_mode=_mode_of(document.scene, objects))
        bundles.append(bundle)
    return replace(document, bundles=tuple(bundles))


def _ways_of(document: Document, keys: Collection[str]) -> dict[str, Treatment]:
    """Return how the materials of objects are treated in the bundles where they are; those that are baked left out."""
    names, result = document.scene.material_names, dict[str, Treatment]()
    for bundle in document.bundles:
        for key in bundle.objects if bundle.ways else ():
            if key in keys:
                own = (names[index] for index in _materials(document.scene, key))
                result |= {name: bundle.way(name) for name in own if bundle.way(name) is not Treatment.BAKE}
    return result


def _with_ways(scene: Scene, bundle: Bundle, ways: dict[str, Treatment]) -> tuple[tuple[str, Treatment], ...]:
    """Return a bundle's treatments with those of materials that it had none of."""
    if bundle.given is not None or not ways:
        return bundle.ways
    had = {scene.material_names[index] for key in bundle.objects for index in _materials(scene, key)}
    new = {name: way for name, way in ways.items() if name not in had}
    return tuple(sorted((new | dict(bundle.ways)).items()))


def set_sheet(document: Document, names: Sequence[str], **values: Any) -> Document:
    """Change sheet settings of bundles."""
    for name in names:
        bundle = document.bundle(name)
        document = _with(document, replace(bundle, sheet=replace(bundle.sheet, **values)))
    return document


def set_bake(document: Document, names: Sequence[str], **values: Any) -> Document:
    """Change bake settings of bundles."""
    for name in names:
        bundle = document.bundle(name)
        bake: BakeSettings = replace(bundle.bake, **values)
        document = _with(document, replace(bundle, bake=bake))
    return document


def keep_bake(document: Document, title: str, settings: BakeSettings, identity: str = "") -> Document:
    """Keep how maps are baked under a title, for one bundle or as a preset, in place of what has the title there.

    Raises
    ------
    UsageError
        When the title is empty.
    """
    title = title.strip()
    if not title or title.lower() == "all":
        raise UsageError("a named bake needs a title of its own.", hint="Type one, such as Final 16 bit.")
    kept = tuple(one for one in document.bakes if (one.title.lower(), one.bundle) != (title.lower(), identity))
    return replace(document, bakes=(*kept, NamedBake(title, settings, identity)))


def drop_bake(document: Document, named: NamedBake) -> Document:
    """Take a named bake away."""
    return replace(document, bakes=tuple(one for one in document.bakes if one != named))


def take_bake(document: Document, names: Sequence[str], named: NamedBake) -> Document:
    """Bake bundles as a named bake says."""
    for name in names:
        document = _with(document, replace(document.bundle(name), bake=named.settings))
    return document


#: what bundles of plans are shown with while they are weighed
PLAN_SHEET, PLAN_BAKE = SheetSettings(padding=PLAN_PADDING), BakeSettings()


def put_plan(document: Document, bundles: tuple[Bundle, ...]) -> Document:
    """Bundle everything as a plan says, in place of the present bundles; treatments chosen by hand stay."""
    names = document.scene.material_names

    def treated(bundle: Bundle) -> Bundle:
        used = {names[index] for key in bundle.objects for index in _materials(document.scene, key)}
        for material, way in document.treatments:
            if material in used and bundle.way(material) is not way:
                bundle = bundle.treating((material,), way)
        return bundle

    return replace(document, bundles=tuple(map(treated, bundles)))


def _materials(scene: Scene, key: str) -> list[int]:
    """Return the numbers of an object's materials, those that have one."""
    return [index for index in scene.materials_of(scene.object(key)) if index >= 0]


def set_layers(document: Document, layers: tuple[Layer, ...]) -> Document:
    """Set what is laid over the materials of objects, the lowest first."""
    return replace(document, scene=document.scene.layered(layers))


def set_lighting(document: Document, lighting: Lighting) -> Document:
    """Change what shines."""
    return replace(document, scene=document.scene.lit_by(lighting))


def merge_level(document: Document) -> Document:
    """Have the meshes of a level merged by cells of space, where nothing was said of merging; others stay as they are.

    Apart, a thousand objects are a thousand draw calls whatever they share; as one mesh all of it is always in view.
    """
    delivery, scene = document.delivery, document.scene
    if delivery.combine != Combine.NONE or len(scene.objects) < LEVEL:
        return document
    places = np.array([scene.nodes[item.node].world[[0, 2], 3] for item in scene.objects])
    cell = max(round(float(np.ptp(places, axis=0).max()) / CELLS), LEAST_CELL)
    return replace(document, delivery=replace(delivery, combine=Combine.BUNDLE, region=float(cell)))


def set_terms(document: Document, **values: Any) -> Document:
    """Change what plans are to keep."""
    return replace(document, terms=replace(document.terms, **values))


def set_given(document: Document, names: Sequence[str], given: Given | None) -> Document:
    """Lay bundles onto a sheet that exists, or onto one that is made again; what was laid out otherwise goes."""
    for name in names:
        bundle = document.bundle(name)
        kept = bundle.given is not None and given is not None and bundle.given.is_palette == given.is_palette
        layout = bundle.layout if kept else None
        made = bundle.texturing if kept else None
        bundle = replace(bundle, given=given, layout=layout, texturing=made, check=None)
        document = _with(document, bundle)
    return document


def set_way(document: Document, name: str, materials: Sequence[str], way: Treatment) -> Document:
    """Say how materials of a bundle are treated; plans that are taken later keep to it."""
    told = dict(document.treatments) | dict.fromkeys(materials, way)
    document = replace(document, treatments=tuple(sorted(told.items())))
    return _with(document, document.bundle(name).treating(materials, way))


def set_share(document: Document, keys: Sequence[str], share: float) -> Document:
    """Give objects a share: the factor on their density."""
    for bundle in document.bundles:
        inside = [key for key in keys if key in bundle.objects]
        if inside:
            shares = dict(bundle.shares) | dict.fromkeys(inside, share)
            kept = tuple(sorted((key, value) for key, value in shares.items() if value != 1.0))
            document = _with(document, replace(bundle, shares=kept))
    return document


def set_delivery(document: Document, **values: Any) -> Document:
    """Change how results are written."""
    return replace(document, delivery=replace(document.delivery, **values))


def set_budget(document: Document, **values: Any) -> Document:
    """Change the limits that the result keeps."""
    return replace(document, budget=replace(document.budget, **values))


def choose_delivery(document: Document, settings: DeliverySettings) -> Document:
    """Make a delivery the one that is written next; the file name of the present one stays."""
    return replace(document, delivery=replace(settings, name=document.delivery.name))


def keep_delivery(document: Document, title: str) -> Document:
    """Keep the present delivery in the project under a title, in place of one that has it already.

    Raises
    ------
    UsageError
        When the title is empty.
    """
    title = title.strip()
    if not title:
        raise UsageError("a delivery needs a title.", hint="Type one.")
    kept = replace(document.delivery, title=title)
    others = tuple(settings for settings in document.deliveries if settings.title.lower() != title.lower())
    return replace(document, delivery=kept, deliveries=(*others, kept))


def accept_missing(document: Document, image: str) -> Document:
    """Accept that an image is missing: its material's factor stands for it."""
    return document if image in document.accepted else replace(document, accepted=(*document.accepted, image))


def put_layout(document: Document, name: str, layout: Layout) -> Document:
    """Give a bundle the layout that was made for it, with the sheet that a wanted density led to."""
    bundle = document.bundle(name)
    if bundle.sheet.wanted and layout.scale > 0:
        sheet = replace(bundle.sheet, width=layout.width, height=layout.height, tiles=layout.tiles)
        bundle = replace(bundle, sheet=sheet)
    return _with(document, replace(bundle, layout=layout))


def put_light_layout(document: Document, name: str, layout: Layout) -> Document:
    """Give a bundle's lightmap a layout that the hand has changed; its maps are stale then."""
    bundle = document.bundle(name)
    if bundle.texturing is None:
        return document
    return _with(document, replace(bundle, texturing=replace(bundle.texturing, light_layout=changed_by_hand(layout))))


def put_reshaped(document: Document, name: str, layout: Layout, *, fresh: bool) -> Document:
    """Give a bundle its layout with islands made over in it; where it was fresh it is made from what is said now."""
    bundle = document.bundle(name)
    if fresh:
        layout = replace(layout, made_from=layout_digest(document.scene, bundle))
    return _with(document, replace(bundle, layout=layout))


def set_twins(document: Document, keys: Sequence[str], rule: TwinRule) -> Document:
    """Say how objects' twins are treated: together, unmirrored or apart."""
    for bundle in document.bundles:
        inside = [key for key in keys if key in bundle.objects]
        if inside:
            rules = dict(bundle.twin_rules) | dict.fromkeys(inside, rule)
            kept = tuple(sorted((key, value) for key, value in rules.items() if value != TwinRule.TOGETHER))
            document = _with(document, replace(bundle, twin_rules=kept))
    return document


def keep_version(document: Document, name: str, title: str) -> Document:
    """Keep a bundle's layout under a title, in place of one that has it already.

    Raises
    ------
    UsageError
        When the title is empty or there is no layout.
    """
    bundle, title = document.bundle(name), title.strip()
    if bundle.layout is None:
        raise UsageError("there is no layout to keep yet.", item=name, hint="Pack the bundle first.")
    if not title:
        raise UsageError("a layout version needs a name.", item=name, hint="Type one.")
    others = tuple(version for version in bundle.versions if version.name.lower() != title.lower())
    return _with(document, replace(bundle, versions=(*others, Version(title, bundle.layout))))


def use_version(document: Document, name: str, title: str) -> Document:
    """Go back to a layout that was kept."""
    bundle = document.bundle(name)
    result = next(version for version in bundle.versions if version.name == title)
    return _with(document, replace(bundle, layout=result.layout))


def drop_version(document: Document, name: str, title: str) -> Document:
    """Take a kept layout away."""
    bundle = document.bundle(name)
    kept = tuple(version for version in bundle.versions if version.name != title)
    return _with(document, replace(bundle, versions=kept))


def set_shaping(document: Document, keys: Sequence[str], change: Callable[[str, Shaping], Shaping]) -> Document:
    """Change what is said about how objects are laid flat; ``change`` gets an object's key and what was said so far."""
    for bundle in document.bundles:
        inside = [key for key in keys if key in bundle.objects]
        if inside:
            told = dict(bundle.shapings) | {key: change(key, bundle.shaping(key)) for key in inside}
            kept = tuple((key, value) for key, value in sorted(told.items()) if replace(value, count=0) != PLAIN)
            if kept != bundle.shapings:
                document = _with(document, replace(bundle, shapings=kept))
    return document


def edit_uvs(document: Document, edit: UvEdit) -> Document:
    """Change the UV sets of objects."""
    scene = edited(document.scene, edit)
    # what was noticed about UV sets is looked at again
    codes = {code for check in checks_of(Scope.SCENE, ABOUT_UVS) for code in check.codes}
    told = scene_findings(scene, ABOUT_UVS)
    kept = tuple(finding for finding in document.gathered if finding.code not in codes)
    return replace(document, scene=scene, gathered=(*kept, *told), uv_edits=(*document.uv_edits, edit))


def set_unwrap(document: Document, names: Sequence[str], **values: Any) -> Document:
    """Change how bundles are unwrapped."""
    for name in names:
        bundle = document.bundle(name)
        sheet = replace(bundle.sheet, unwrap=replace(bundle.sheet.unwrap, **values))
        document = _with(document, replace(bundle, sheet=sheet))
    return document


def put_texturing(document: Document, name: str, texturing: Texturing) -> Document:
    """Give a bundle the maps that were baked for it."""
    return _with(document, replace(document.bundle(name), texturing=texturing))


def put_check(document: Document, name: str, check: CheckResult | None) -> Document:
    """Give a bundle what its check found."""
    return _with(document, replace(document.bundle(name), check=check))
