"""Group: objects into bundles, by a rule."""

from __future__ import annotations

import math

from fasciculum.io.objects import unique_name
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import AlphaMode, Rule
from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.scene import ALPHA_MODES, BLEND, DEFAULT_MATERIAL, MASK, OPAQUE, Object, Scene, look_names
from fasciculum.model.sheet import SheetSettings
from fasciculum.uv.density import ObjectFigures, figures_of

NAMES = {OPAQUE: "Opaque", MASK: "Cut-out", BLEND: "Blend"}
#: the look of a material without any extension
PLAIN = DEFAULT_MATERIAL.look
#: repeats from which a texture counts as strongly repeating, and the yield below which it would lose too much
MANY_REPEATS, LOST_YIELD = 3.0, 0.35
#: part of a sheet that islands usually fill
USUAL_FILL = 0.75


def bundle_objects(
    scene: Scene, rule: Rule, sheet: SheetSettings, bake: BakeSettings
) -> tuple[tuple[Bundle, ...], tuple[Finding, ...]]:
    """Make bundles of all objects of a scene.

    Parameters
    ----------
    rule : Rule
        ``one``: everything in one bundle with one alpha mode. ``object``: each by itself. ``alpha``: one for each
        alpha mode. ``auto``: the same, other looks (unlit, clear coat, ...) apart, and objects with strongly
        repeating textures apart where that saves sharpness.
    """
    findings: list[Finding] = []
    groups: list[tuple[str, AlphaMode, list[Object]]] = []
    if rule == Rule.ONE:
        modes = {item.alpha_mode for item in scene.objects}
        mode = BLEND if BLEND in modes else MASK if MASK in modes else OPAQUE
        groups.append(("All", mode, list(scene.objects)))
        if len(modes) > 1:
            findings.append(
                Finding(
                    "one_alpha_mode",
                    WARNING,
                    f"All objects share one bundle with alpha mode {mode}, though "
                    f"they came with {', '.join(sorted(modes))}.",
                    "Bundle them by alpha mode to keep opaque surfaces cheap.",
                    bundle="All",
                )
            )
    elif rule == Rule.OBJECT:
        groups += [(item.key, item.alpha_mode, [item]) for item in scene.objects]
    else:
        for mode in ALPHA_MODES:
            members = [item for item in scene.objects if item.alpha_mode == mode]
            groups += _by_cost(scene, mode, members, sheet) if rule == Rule.AUTO else [(NAMES[mode], mode, members)]
    taken: set[str] = set()
    bundles = []
    for name, mode, members in groups:
        if members:
            unique = unique_name(name, taken)
            taken.add(unique)
            bundles.append(Bundle(unique, tuple(item.key for item in members), mode, sheet, bake))
    return tuple(bundles), tuple(findings)


def _by_cost(
    scene: Scene, mode: AlphaMode, members: list[Object], sheet: SheetSettings
) -> list[tuple[str, AlphaMode, list[Object]]]:
    """Set objects of another look apart, and repeating ones that would lose most sharpness on a shared sheet."""
    looks: dict[str, list[Object]] = {}
    for item in members:
        looks.setdefault(look_of(scene, item), []).append(item)
    lit = looks.pop(PLAIN, [])
    figures = figures_of(scene, lit)
    total = sum(figure.area for figure in figures.values())
    density = math.sqrt(USUAL_FILL * sheet.width * sheet.height / total) if total > 0 else 0.0

    def loses(figure: ObjectFigures) -> bool:
        return max(figure.span) >= MANY_REPEATS and figure.source_density * LOST_YIELD > density

    repeating = [item for item in lit if loses(figures[item.key])]
    rest = [item for item in lit if item not in repeating]
    apart = sum(figures[item.key].area for item in repeating)
    # a sheet of its own is worth its memory when it gives the repeats at least twice the texels along an edge
    if not rest or apart * 4 > total:
        repeating, rest = [], lit
    name = NAMES[mode]
    apart_by_look = [(f"{name} {', '.join(look_names(look))}", mode, items) for look, items in looks.items()]
    return [(name, mode, rest), (f"{name} repeats", mode, repeating), *apart_by_look]


def groups_by_look(scene: Scene) -> list[tuple[str, AlphaMode, tuple[str, ...]]]:
    """Return the objects that one material can stand for, by alpha mode and look: name, mode and keys of each group."""
    results = []
    taken: set[str] = set()
    for mode in ALPHA_MODES:
        looks: dict[str, list[str]] = {}
        for item in scene.objects:
            if item.alpha_mode == mode:
                looks.setdefault(look_of(scene, item), []).append(item.key)
        for look in sorted(looks, key=lambda one: one != PLAIN):
            name = NAMES[mode] if look == PLAIN else f"{NAMES[mode]} {', '.join(look_names(look))}"
            # looks that differ in values alone go by the same words
            unique = unique_name(name, taken)
            taken.add(unique)
            results.append((unique, mode, tuple(looks[look])))
    return results


def look_of(scene: Scene, item: Object) -> str:
    """Return what, beside textures, sets an object's materials apart; objects of several looks were split."""
    index = next(iter(scene.materials_of(item)), -1)
    return DEFAULT_MATERIAL.look if index < 0 else scene.materials[index].look
