"""What each way would cost for a material of a bundle, side by side."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from fasciculum.model.choices import Treatment
from fasciculum.model.document import Document
from fasciculum.model.terms import Terms
from fasciculum.operations.ledger import ledger_of
from fasciculum.operations.plan.costs import GroupCosts
from fasciculum.operations.plan.figures import MaterialFigures, group_figures
from fasciculum.progress import SILENT, Progress
from fasciculum.treatments.resolving import resolve_bundle

#: ways in the order in which they are shown
ORDER = (
    Treatment.BAKE,
    Treatment.BLOCK,
    Treatment.LANE,
    Treatment.CUT,
    Treatment.SLICE,
    Treatment.APART,
    Treatment.SWATCH,
)


@dataclass(frozen=True)
class WayCost:
    """What one way of a material would lead to.

    Attributes
    ----------
    way : Way
    why_not : str
        Why it does not suit the material, empty when it does.
    texels : int
        What the material takes on the sheet, square texels.
    texture_bytes, draw_calls : int
        Of the whole document.
    sharpness : float
        The yield of the material, at most 1.
    added : int
        Vertices that it adds.
    """

    way: Treatment
    why_not: str = ""
    texels: int = 0
    texture_bytes: int = 0
    draw_calls: int = 0
    sharpness: float = 1.0
    added: int = 0


def _why_not(way: Treatment, one: MaterialFigures) -> str:
    """Return why a way does not suit a material."""
    if way is Treatment.SWATCH:
        return "" if one.flat else "its colour is not uniform"
    if way in (Treatment.LANE, Treatment.CUT, Treatment.SLICE, Treatment.BLOCK) and not one.detailed:
        return "it reads no texture"
    if way in (Treatment.LANE, Treatment.CUT) and not one.repeats:
        return "its textures do not repeat"
    if way is Treatment.BLOCK and one.block is None:
        return "its islands share too little of its textures"
    if way is Treatment.LANE and one.lane is None:
        return "it repeats along both axes"
    if way is Treatment.CUT and one.cut is None:
        return "its textures are not read alike"
    return ""


def way_costs(document: Document, name: str, material: str, *, progress: Progress = SILENT) -> list[WayCost]:
    """Return what each way of a material of a bundle would lead to, at the bundle's present size.

    Parameters
    ----------
    name : str
        Of the bundle.
    material : str
        By the name that the scene knows it by.
    """
    scene, bundle = document.scene, document.bundle(name)
    sheet = bundle.sheet
    terms = Terms(padding=sheet.padding, size=(sheet.width, sheet.height), largest=max(sheet.width, sheet.height))
    (figures,) = group_figures(scene, [(name, bundle.alpha_mode, bundle.objects)], document.delivery)
    costs = GroupCosts(scene, figures, terms)
    number = next(m for m, one in enumerate(figures.materials) if scene.material_name(one.index) == material)
    one = figures.materials[number]
    results = []
    for place, way in enumerate(ORDER):
        progress.update(place / len(ORDER), f"Comparing treatments of {material}")
        why_not = _why_not(way, one)
        if why_not:
            results.append(WayCost(way, why_not))
            continue
        changed = bundle.treating((material,), way)
        bundles = tuple(replace(changed, texturing=None) if other is bundle else other for other in document.bundles)
        after = ledger_of(replace(document, bundles=bundles)).after
        work = resolve_bundle(scene, changed)
        ways = [work.way_of(each.index) for each in figures.materials]
        if ways[number] is not way and way is not Treatment.SLICE:
            results.append(WayCost(way, "its surfaces do not allow it"))
            continue
        laid = np.array([[each is not Treatment.APART for each in ways]])
        sharpness = float(costs.sharpness(laid, ways)[0, 0]) if way not in (Treatment.APART, Treatment.SLICE) else 1.0
        texels = costs.measure(ways)[0, number] * sharpness**2
        if way is Treatment.LANE and one.lane is not None:
            texels = next(
                (p.box[3] - p.box[1]) * (p.box[2] - p.box[0]) for p in work.patches if p.box and p.material == one.index
            )
        added = one.added if way is Treatment.CUT else 0
        results.append(WayCost(way, "", round(texels), after.texture_bytes, after.draw_calls, sharpness, added))
    return results
