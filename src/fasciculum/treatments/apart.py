"""Materials that are kept apart: those that differ in their base colour's factor alone become one."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from fasciculum.model.digests import digest_text
from fasciculum.model.scene import Material, Scene

Factor = tuple[float, float, float, float]


def _content(scene: Scene, material: Material) -> str:
    """Return all that is said of a material but its name and its base colour's factor."""
    plain = replace(material, name="", source=0, base_color_factor=(1.0, 1.0, 1.0, 1.0))
    bare = replace(plain, base_color=None, metallic_roughness=None, normal=None, occlusion=None, emissive=None)
    slots = [
        (
            role,
            scene.images[slot.image].pixels or f"missing {slot.image}",
            digest_text(replace(slot, image=0)),
            slot.further,
        )
        for role, slot in material.slots().items()
    ]
    return digest_text((bare, material.look, slots, material.extensions, material.further))


def apart_materials(scene: Scene, indices: Iterable[int]) -> dict[int, tuple[int, Factor | None]]:
    """Return for each material that is kept apart the one that stands for it, and its factor where vertex colours do.

    Materials that are the same but for their base colour's factor become the first of them, white, and the factors go
    into vertex colours: exactly, since these multiply the base colour likewise.
    """
    alike: dict[str, list[int]] = {}
    results: dict[int, tuple[int, Factor | None]] = {}
    for index in sorted(indices):
        if index < 0:
            results[index] = index, None
        else:
            alike.setdefault(_content(scene, scene.materials[index]), []).append(index)
    for group in alike.values():
        factors = {scene.materials[index].base_color_factor for index in group}
        for index in group:
            factor = scene.materials[index].base_color_factor if len(factors) > 1 else None
            results[index] = group[0], factor
    return results


def alike_materials(scene: Scene, indices: Iterable[int]) -> list[list[int]]:
    """Group materials that are the same in all but their names; that of primitives without any is left out."""
    alike: dict[object, list[int]] = {}
    for index in sorted(indices):
        if index >= 0:
            material = scene.materials[index]
            alike.setdefault((_content(scene, material), material.base_color_factor), []).append(index)
    return list(alike.values())
