"""Which maps hold one value all over, told from the materials before anything is baked."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from fasciculum.model.choices import VertexColors
from fasciculum.model.scene import DEFAULT_MATERIAL, Material, Scene
from fasciculum.treatments.flats import FlatValues, flat_of, is_tinted, level_of, parts_of
from fasciculum.treatments.resolved import ResolvedBundle

Level = tuple[float, ...] | None


@dataclass(frozen=True)
class Even:
    """What a material holds in each map: its one value, or None where it varies; and all of them as one."""

    levels: dict[str, Level]
    values: FlatValues | None


def even_of(scene: Scene, index: int, objects: Iterable[str] = ()) -> Even:
    """Return what a material holds in each map, vertex colours aside.

    On those of the objects that read high-poly ones, it holds what these have, and never an even normal.
    """
    own = DEFAULT_MATERIAL if index < 0 else scene.materials[index]
    shown, paired = materials_shown(scene, objects, index)
    if not paired:
        parts = parts_of(scene, own)
        return Even({name: level_of(name, part) for name, part in parts.items()}, flat_of(parts))
    every = [parts_of(where, material) for where, material in shown]
    levels: dict[str, Level] = {}
    for name in every[0]:
        results = {level_of(name, parts[name]) for parts in every}
        levels[name] = results.pop() if len(results) == 1 and name != "normal" else None
    return Even(levels, None)


def materials_shown(scene: Scene, objects: Iterable[str], index: int) -> tuple[list[tuple[Scene, Material]], bool]:
    """Return what surfaces of a material show on objects, with the scenes that hold it, and whether any is high-poly.

    Itself, and in its place on objects that read high-poly ones what these have.
    """
    detail = scene.detail
    results: dict[tuple[bool, int], tuple[Scene, Material]] = {}
    paired = False
    for key in objects if detail is not None else ():
        item = scene.object(key)
        if index not in scene.materials_of(item):
            continue
        pair = detail.pair(key) if detail is not None else None
        if pair is None or not pair.high or detail is None:
            results[False, index] = scene, DEFAULT_MATERIAL if index < 0 else scene.materials[index]
            continue
        paired = True
        for high in pair.high:
            for number in detail.scene.materials_of(detail.scene.object(high)):
                material = DEFAULT_MATERIAL if number < 0 else detail.scene.materials[number]
                results[True, number] = detail.scene, material
    return list(results.values()), paired


def even_maps(scene: Scene, on: ResolvedBundle, tint: VertexColors) -> set[str]:
    """Return the maps of a bundle that hold one value all over its sheet.

    Parameters
    ----------
    scene : Scene
        As it was gathered.
    on : ResolvedBundle
    """
    laid = [on.scene.object(key) for key in on.bundle.objects]
    used = {index for item in laid for index in on.scene.materials_of(item)}
    tinted = any(is_tinted(primitive, tint) for item in laid for primitive in on.scene.primitives_of(item))
    evens = [even_of(on.scene, index, on.bundle.objects).levels for index in used]
    results = set()
    for name in evens[0] if evens else ():
        levels = {one[name] for one in evens}
        if len(levels) == 1 and None not in levels and not (name == "base_color" and tinted):
            results.add(name)
    return results
