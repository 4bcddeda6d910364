"""Which maps hold one value all over, told from the materials before anything is baked."""

from __future__ import annotations

from dataclasses import dataclass

from fasciculum.model.choices import VertexColors
from fasciculum.model.scene import DEFAULT_MATERIAL, Scene
from fasciculum.ways.flats import FlatValues, flat_of, is_tinted, level_of, parts_of
from fasciculum.ways.laid import OnSheet

Level = tuple[float, ...] | None


@dataclass(frozen=True)
class Even:
    """What a material holds in each map: its one value, or None where it varies; and all of them as one."""

    levels: dict[str, Level]
    values: FlatValues | None


def even_of(scene: Scene, index: int) -> Even:
    """Return what a material holds in each map, vertex colours aside."""
    parts = parts_of(scene, DEFAULT_MATERIAL if index < 0 else scene.materials[index])
    return Even({name: level_of(name, part) for name, part in parts.items()}, flat_of(parts))


def even_maps(scene: Scene, on: OnSheet, tint: VertexColors) -> set[str]:
    """Return the maps of a bundle that hold one value all over its sheet.

    Parameters
    ----------
    scene : Scene
        As it was gathered.
    on : OnSheet
    """
    laid = [on.scene.object(key) for key in on.bundle.objects]
    used = {index for item in laid for index in on.scene.materials_of(item)}
    tinted = any(is_tinted(primitive, tint) for item in laid for primitive in on.scene.primitives_of(item))
    evens = [even_of(scene, index).levels for index in used]
    found = set()
    for name in evens[0] if evens else ():
        levels = {one[name] for one in evens}
        if len(levels) == 1 and None not in levels and not (name == "base_color" and tinted):
            found.add(name)
    return found
