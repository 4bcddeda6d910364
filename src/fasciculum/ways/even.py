"""Which maps hold one value all over, told from the materials before anything is baked."""

from __future__ import annotations

from dataclasses import dataclass

from fasciculum.model.choices import VertexColors
from fasciculum.model.scene import DEFAULT_MATERIAL, Scene
from fasciculum.ways.flats import FlatValues, flat_values, level_of
from fasciculum.ways.on_sheet import OnSheet

Level = tuple[float, ...] | None


@dataclass(frozen=True)
class Even:
    """What a material holds in each map: its one value, or None where it varies."""

    base_color: Level
    normal: Level
    orm: Level
    emissive: Level
    values: FlatValues | None

    def level(self, name: str) -> Level:
        """Return its one value in a map."""
        found: Level = getattr(self, name)
        return found


def even_of(scene: Scene, index: int) -> Even:
    """Return what a material holds in each map, vertex colours aside."""
    material = DEFAULT_MATERIAL if index < 0 else scene.materials[index]
    values = flat_values(scene, material)
    return Even(
        level_of(scene, material, "base_color"),
        level_of(scene, material, "normal"),
        level_of(scene, material, "orm"),
        level_of(scene, material, "emissive"),
        values,
    )


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
    tinted = tint is VertexColors.TINT and any(
        primitive.colors is not None and bool((primitive.colors != 1.0).any())
        for item in laid
        for primitive in on.scene.primitives_of(item)
    )
    found = set()
    for name in ("base_color", "normal", "orm", "emissive"):
        levels = {even_of(scene, index).level(name) for index in used}
        if len(levels) == 1 and None not in levels and not (name == "base_color" and tinted):
            found.add(name)
    return found
